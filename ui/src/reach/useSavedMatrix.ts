import { fail, say } from "../kit/notices";
import { saveAs, savePng, saveSvg } from "../state/picture";
import { useHandler } from "../workbench/handlers";
import type { Folded, Line } from "./fold";
import { MOST_LINES, matrixPicture } from "./matrixPicture";
import { tableOf } from "./table";

/** The ways to save a matrix as it is folded, with their actions. */
export function useSavedMatrix(lines: Line[], cells: Folded) {
  const drawn = () => {
    if (lines.length <= MOST_LINES) return matrixPicture(lines, cells);
    say(`A picture holds ${MOST_LINES} lines, and there are ${lines.length}: fold groups, or take CSV.`);
    return null;
  };
  const svg = () => {
    const picture = drawn();
    if (picture) saveSvg(picture, "reach");
  };
  const png = () => {
    const picture = drawn();
    if (picture) savePng(picture, "reach").catch(fail);
  };
  const csv = () => saveAs(new Blob([tableOf(lines, cells)], { type: "text/csv" }), "reach.csv");
  const ready = lines.length > 0;
  useHandler("reach.svg", ready ? svg : null);
  useHandler("reach.png", ready ? png : null);
  useHandler("reach.csv", ready ? csv : null);
  return { svg, png, csv };
}
