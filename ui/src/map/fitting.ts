import type { Box, Point } from "./plane";

/** How the map is fitted into the window so that its words can be read. */

/** The size of the map's words, and the least that they may have on the screen, in pixels. */
const WORDS = 12;
const LEAST = 11;
/** What plates need around their centres, in map units. */
const AROUND = { width: 150, height: 96 };
/** What lies beside plates: tabs and lists on a map, clouds too in the drawing of a way. */
export const BESIDE = { map: { width: 92, height: 68 }, way: { width: 28, height: 104 } };
const CLOSER = [1, 1.1, 1.2, 1.3, 1.4, 1.5];

/**
 * By how much plates must lie closer together for words to be readable where all of `points` are in the
 * window; 1 where nothing helps.
 */
export function closeness(
  points: Point[],
  window: { width: number; height: number },
  text: number,
  beside = { width: 0, height: 0 },
): number {
  if (!points.length || !window.width) return 1;
  const box = around(points);
  const fits = (closer: number) =>
    Math.min(
      window.width / (box.width / closer + AROUND.width + beside.width),
      window.height / (box.height / closer + AROUND.height + beside.height),
    ) *
      WORDS >=
    LEAST * text;
  return CLOSER.find(fits) ?? (points.length > 60 ? 1 : (CLOSER.at(-1) ?? 1));
}

export interface Sized {
  centre: Point;
  width: number;
  height: number;
}

const ROUNDS = 40;

/** Plates that lie over each other are moved apart, as little as can be, the way that is shortest. */
export function spreadOut(plates: Sized[], margin: (plate: Sized) => { x: number; y: number }): void {
  for (let round = 0; round < ROUNDS; round++) {
    let moved = false;
    for (const [place, one] of plates.entries()) {
      for (const other of plates.slice(place + 1)) {
        const [own, theirs] = [margin(one), margin(other)];
        const x = overlap(
          one.centre.x,
          other.centre.x,
          (one.width + other.width) / 2 + Math.max(own.x, theirs.x),
        );
        const y = overlap(
          one.centre.y,
          other.centre.y,
          (one.height + other.height) / 2 + Math.max(own.y, theirs.y),
        );
        if (x === 0 || y === 0) continue;
        moved = true;
        const by = Math.abs(x) < Math.abs(y) ? { x: x / 2, y: 0 } : { x: 0, y: y / 2 };
        one.centre = { x: one.centre.x - by.x, y: one.centre.y - by.y };
        other.centre = { x: other.centre.x + by.x, y: other.centre.y + by.y };
      }
    }
    if (!moved) return;
  }
}

/** How far `other` must go, and which way, to be `apart` from `one`; 0 when it is. */
function overlap(one: number, other: number, apart: number): number {
  const between = other - one;
  const lacking = apart - Math.abs(between);
  return lacking <= 0.5 ? 0 : between < 0 ? -lacking : lacking;
}

export function around(points: Point[]): Box {
  const xs = points.map((point) => point.x);
  const ys = points.map((point) => point.y);
  const [x, y] = [Math.min(...xs), Math.min(...ys)];
  return { x, y, width: Math.max(...xs) - x, height: Math.max(...ys) - y };
}
