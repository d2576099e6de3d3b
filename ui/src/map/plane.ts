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

export const grown = (box: Box, by: number): Box => ({
  x: box.x - by,
  y: box.y - by,
  width: box.width + 2 * by,
  height: box.height + 2 * by,
});

export const overlap = (one: Box, other: Box): boolean =>
  one.x < other.x + other.width &&
  other.x < one.x + one.width &&
  one.y < other.y + other.height &&
  other.y < one.y + one.height;

/** The box around several; there is at least one. */
export function around(boxes: Box[]): Box {
  const x = Math.min(...boxes.map((box) => box.x));
  const y = Math.min(...boxes.map((box) => box.y));
  const width = Math.max(...boxes.map((box) => box.x + box.width)) - x;
  const height = Math.max(...boxes.map((box) => box.y + box.height)) - y;
  return { x, y, width, height };
}

export const contains = (box: Box, at: Point) =>
  at.x > box.x && at.x < box.x + box.width && at.y > box.y && at.y < box.y + box.height;

/** Whether the line between two points comes through a box (Liang and Barsky, 1984). */
export function cuts(from: Point, to: Point, box: Box): boolean {
  const [dx, dy] = [to.x - from.x, to.y - from.y];
  let first = 0;
  let last = 1;
  const clipped = (step: number, room: number): boolean => {
    if (step === 0) return room <= 0;
    if (step < 0) first = Math.max(first, room / step);
    else last = Math.min(last, room / step);
    return first >= last;
  };
  return !(
    clipped(-dx, from.x - box.x) ||
    clipped(dx, box.x + box.width - from.x) ||
    clipped(-dy, from.y - box.y) ||
    clipped(dy, box.y + box.height - from.y)
  );
}

const turn = (a: Point, b: Point, c: Point) => (b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x);

/** Whether two lines cross between their ends. */
export const crosses = (a: Point, b: Point, c: Point, d: Point): boolean =>
  turn(a, b, c) * turn(a, b, d) < 0 && turn(c, d, a) * turn(c, d, b) < 0;

/** A line moved `aside` to the right of its way, its corners kept as sharp as they are. */
export function beside(path: Point[], aside: number): Point[] {
  const points = path.filter((point, at) => at === 0 || lengthOf(point, path[at - 1] ?? point) > 0.01);
  return points.map((point, at) => {
    const ways = [
      [points[at - 1], point],
      [point, points[at + 1]],
    ].flatMap(([from, to]) => {
      if (!from || !to) return [];
      const length = lengthOf(from, to);
      return [{ x: -(to.y - from.y) / length, y: (to.x - from.x) / length }];
    });
    const [one = { x: 0, y: 0 }, other = one] = ways;
    // Half way between both sides, as far out as keeps the distance; at most twice that where it turns back.
    const share = aside / Math.max(0.5, (1 + one.x * other.x + one.y * other.y) / 2) / 2;
    return { x: point.x + (one.x + other.x) * share, y: point.y + (one.y + other.y) * share };
  });
}

/** The point of a line that is `distance` from its beginning, and the way the line goes there. */
export function onPath(path: Point[], distance: number): { at: Point; way: Point } {
  let left = distance;
  for (const [place, from] of path.entries()) {
    const to = path[place + 1];
    if (!to) break;
    const length = lengthOf(from, to);
    if (left <= length || place === path.length - 2) {
      const way = { x: (to.x - from.x) / (length || 1), y: (to.y - from.y) / (length || 1) };
      return { at: { x: from.x + way.x * left, y: from.y + way.y * left }, way };
    }
    left -= length;
  }
  return { at: path[0] ?? { x: 0, y: 0 }, way: { x: 0, y: 1 } };
}

export const pathLength = (path: Point[]): number =>
  path.reduce((sum, point, at) => sum + (at ? lengthOf(path[at - 1] ?? point, point) : 0), 0);

/** The box around points; there is at least one. */
export function aroundPoints(points: Point[]): Box {
  const xs = points.map((point) => point.x);
  const ys = points.map((point) => point.y);
  const [x, y] = [Math.min(...xs), Math.min(...ys)];
  return { x, y, width: Math.max(...xs) - x, height: Math.max(...ys) - y };
}
