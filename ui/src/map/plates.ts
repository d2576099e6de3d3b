import type { Device, Placement } from "../api/client";
import { lineAt } from "../state/points";
import type { Box, Point } from "./plane";

/** Devices as they are drawn: how large a plate is, and the management lines upon it. */

export interface Plate {
  device: Device;
  centre: Point;
  width: number;
  height: number;
}

/** A plate on the map, and the point that it is kept by: a bar stretches from there to what hangs on it. */
export interface PutPlate extends Plate {
  put: Point;
}

/** A management line, on the lower edge of its plate, and the lists that lie beside it. */
export interface LineTab {
  device: string;
  name: string;
  centre: Point;
  width: number;
  lists: { name: string; x: number; width: number }[];
}

export const LINE_HEIGHT = 16;
export const TAG_HEIGHT = 18;
/** How high a switch is drawn: a bar with its words in it. */
export const BAR_HEIGHT = 18;

/** Widths of a character of the map’s mono at its sizes, and of its sans. */
const CHARACTER = 7.4;
const NAME_CHARACTER = 8.2;

export const wordsWidth = (words: string) => words.length * CHARACTER;
export const lineWidth = (name: string) => wordsWidth(name) + 8;
export const tagWidth = (name: string) => wordsWidth(name) + 10;

export const isBar = (device: Pick<Device, "kind">) => device.kind === "switch";

type Lines = { name: string; lists: string[] }[];

/** The rows of lines on a plate: each line with a list has its own, the others share the last. */
function lineRows(device: Device, placed: Placement[] = []): Lines[] {
  const lines = device.lines.map((line) => ({
    name: lineAt(line),
    lists: placed.filter(({ at }) => at === lineAt(line)).map(({ list }) => list),
  }));
  const rows = lines.filter((line) => line.lists.length).map((line) => [line]);
  const rest = lines.filter((line) => !line.lists.length);
  return rest.length ? [...rows, rest] : rows;
}

const rowWidth = (row: Lines) =>
  row.reduce(
    (sum, line) => sum + lineWidth(line.name) + line.lists.reduce((all, list) => all + tagWidth(list), 0) + 4,
    -4,
  );

/** What stands on a plate beside its name: the prefix of a switch, the address of a host. */
export type Label = string | undefined;

export function plateSize(
  device: Device,
  label: Label,
  placed?: Placement[],
): { width: number; height: number } {
  const name = device.name.length * NAME_CHARACTER + 24;
  const below = label ? wordsWidth(label) + 16 : 0;
  const rows = lineRows(device, placed);
  switch (device.kind) {
    case "router":
    case "firewall":
      return {
        width: Math.max(112, name, ...rows.map((row) => rowWidth(row) + 16)),
        height: 43 + rows.length * (LINE_HEIGHT + 3),
      };
    case "outside":
      return { width: Math.max(96, name), height: 40 };
    case "switch":
      return { width: device.name.length * 7.2 + below + 14, height: BAR_HEIGHT };
    default: {
      const lines = rows.length ? Math.max(...rows.map((row) => rowWidth(row) + 16)) : 0;
      return {
        width: Math.max(84, name, below, lines),
        height: 30 + (label ? 15 : 0) + rows.length * (LINE_HEIGHT + 3),
      };
    }
  }
}

export function lineTabs(plate: Plate, placed?: Placement[]): LineTab[] {
  const rows = lineRows(plate.device, placed);
  const bottom = plate.centre.y + plate.height / 2 - 4;
  return rows.flatMap((row, index) => {
    const y = bottom - (rows.length - index) * (LINE_HEIGHT + 3) + LINE_HEIGHT / 2 + 3;
    let left = plate.centre.x - rowWidth(row) / 2;
    return row.map((line) => {
      const width = lineWidth(line.name);
      const centre = { x: left + width / 2, y };
      left += width;
      const lists = line.lists.map((name) => {
        const tag = { name, x: left, width: tagWidth(name) };
        left += tag.width;
        return tag;
      });
      left += 4;
      return { device: plate.device.name, name: line.name, centre, width, lists };
    });
  });
}

/** The plate itself, with what its silhouette draws around it. */
export function boxOf({ device, centre, width, height }: Plate): Box {
  const edge = device.kind === "firewall" ? 3 : 0;
  return {
    x: centre.x - width / 2 - edge,
    y: centre.y - height / 2 - edge,
    width: width + 2 * edge,
    height: height + 2 * edge,
  };
}
