/** Points, boxes and lines of the map, in map units. */

export interface Point {
  x: number;
  y: number;
}

export interface Box extends Point {
  width: number;
  height: number;
}

/** A point `distance` along the line from `from` to `to`, moved `aside` to the right of that way. */
export function along(from: Point, to: Point, distance: number, aside: number): Point {
  const length = Math.hypot(to.x - from.x, to.y - from.y) || 1;
  const u = { x: (to.x - from.x) / length, y: (to.y - from.y) / length };
  return { x: from.x + u.x * distance - u.y * aside, y: from.y + u.y * distance + u.x * aside };
}

export const lengthOf = (from: Point, to: Point) => Math.hypot(to.x - from.x, to.y - from.y);

/** The path of a diamond about a point. */
export const diamond = (x: number, y: number, radius: number) =>
  `M${x} ${y - radius} ${x + radius} ${y} ${x} ${y + radius} ${x - radius} ${y}Z`;
