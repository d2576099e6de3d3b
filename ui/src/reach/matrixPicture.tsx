import { flushSync } from "react-dom";
import { createRoot } from "react-dom/client";
import { type Picture, pictureOf } from "../state/picture";
import { CellShape } from "./CellShape";
import type { Folded, Line } from "./fold";

/** A picture has so many lines at most: fold groups for more. */
export const MOST_LINES = 200;
const SIZE = 20;
const MARK = 13;
const LABEL = 170;

/** The whole matrix as a drawing, whatever part of it is in the window. */
export function matrixPicture(lines: Line[], folded: Folded): Picture {
  const host = document.createElement("div");
  host.className = "fixed top-0 left-0 -z-10";
  document.body.append(host);
  const root = createRoot(host);
  try {
    flushSync(() => root.render(<Drawn lines={lines} folded={folded} />));
    const svg = host.querySelector("svg");
    if (!svg) throw new Error("The matrix was not drawn.");
    return pictureOf(svg);
  } finally {
    root.unmount();
    host.remove();
  }
}

function Drawn({ lines, folded }: { lines: Line[]; folded: Folded }) {
  const side = LABEL + lines.length * SIZE + SIZE;
  const at = (place: number) => LABEL + place * SIZE;
  return (
    <svg width={side} height={side} className="fill-ink text-fine" aria-hidden="true">
      <text x={8} y={LABEL - 8} className="fill-slate">
        from ↓ to →
      </text>
      {lines.map((line, place) => {
        const weight = line.kind === "device" ? "" : "font-semibold";
        return (
          <g key={line.key}>
            <text x={8} y={at(place) + 14} className={weight}>
              {line.label}
            </text>
            <text transform={`translate(${at(place) + 14} ${LABEL - 8}) rotate(-90)`} className={weight}>
              {line.label}
            </text>
          </g>
        );
      })}
      {lines.map((from, row) =>
        lines.map((to, column) => {
          const bits = folded.bits[row]?.[column] ?? 0;
          const changed = folded.changed[row]?.[column] === 1;
          return (
            <g key={`${from.key} ${to.key}`} transform={`translate(${at(column)} ${at(row)})`}>
              <rect
                width={SIZE}
                height={SIZE}
                className={changed ? "fill-ochrewash stroke-ochre" : "fill-none stroke-rule"}
              />
              <g transform={`translate(${(SIZE - MARK) / 2} ${(SIZE - MARK) / 2})`}>
                <CellShape bits={bits} />
              </g>
            </g>
          );
        }),
      )}
    </svg>
  );
}
