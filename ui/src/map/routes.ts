import { type Box, contains, crosses, cuts, grown, lengthOf, type Point } from "./plane";

/** The ways of links between the edges of plates: straight where that is free, else around what lies between. */

/** A link to be led from one mouth to another. */
export interface Wanted {
  from: Point;
  to: Point;
}

/** How near a link may come to what it goes around, and how far from it its corners lie, one link outside another. */
const CLEAR = 8;
const RINGS = [13, 27, 41];
/** How near two links may run beside each other, and how long they may do so. */
const NEAR = 14;
const BESIDE = 16;
/** A corner costs as much as this much of way, a crossing as this. */
const CORNER = 24;
const CROSSING = 90;
const AROUND = 260;

type Line = readonly [Point, Point];

/** For each wanted link its points, from mouth to mouth. */
export function routed(wanted: Wanted[], obstacles: Box[]): Point[][] {
  const walls = indexed(obstacles.map((box) => grown(box, CLEAR)));
  const lines: Line[] = [];
  const found: Point[][] = wanted.map(() => []);
  const order = wanted
    .map((link, at) => ({ at, length: lengthOf(link.from, link.to) }))
    .sort((a, b) => a.length - b.length);
  const blocked: number[] = [];
  const lead = (at: number, path: Point[]) => {
    found[at] = path;
    path.forEach((point, place) => {
      const next = path[place + 1];
      if (next) lines.push([point, next]);
    });
  };
  for (const { at } of order) {
    const { from, to } = wanted[at] ?? ({ from: { x: 0, y: 0 }, to: { x: 0, y: 0 } } as Wanted);
    if (walls.free(from, to) && !lines.some((line) => runAlong(line, [from, to]))) lead(at, [from, to]);
    else blocked.push(at);
  }
  for (const at of blocked) {
    const link = wanted[at];
    if (link) lead(at, around(link, obstacles, walls, lines) ?? [link.from, link.to]);
  }
  return found;
}

/** Whether two lines lie beside each other for so long that one could be taken for the other. */
function runAlong([a, b]: Line, [c, d]: Line): boolean {
  const length = lengthOf(c, d);
  if (length < BESIDE) return false;
  const way = { x: (d.x - c.x) / length, y: (d.y - c.y) / length };
  const seen = ({ x, y }: Point) => ({
    on: (x - c.x) * way.x + (y - c.y) * way.y,
    off: (y - c.y) * way.x - (x - c.x) * way.y,
  });
  const [one, other] = [seen(a), seen(b)];
  const span = other.on - one.on;
  // The part of the first line that is near the second.
  let [first, last] = [0, 1];
  for (const [start, step, least, most] of [
    [one.off, other.off - one.off, -NEAR, NEAR],
    [one.on, span, 0, length],
  ] as const) {
    if (step === 0) {
      if (start < least || start > most) return false;
      continue;
    }
    const [low, high] = [(least - start) / step, (most - start) / step];
    first = Math.max(first, Math.min(low, high));
    last = Math.min(last, Math.max(low, high));
  }
  return (last - first) * lengthOf(a, b) > BESIDE && Math.abs(span) > BESIDE;
}

interface Step {
  at: number;
  before: Step | null;
  cost: number;
  guess: number;
  known: boolean;
}

/** The cheapest way around what lies between: by the corners of that, each tried only once it is the next. */
function around({ from, to }: Wanted, obstacles: Box[], walls: Walls, lines: Line[]): Point[] | null {
  const region = {
    x: Math.min(from.x, to.x) - AROUND,
    y: Math.min(from.y, to.y) - AROUND,
    width: Math.abs(from.x - to.x) + 2 * AROUND,
    height: Math.abs(from.y - to.y) + 2 * AROUND,
  };
  const points = [from, to];
  for (const box of obstacles) {
    if (box.x > region.x + region.width || box.x + box.width < region.x) continue;
    if (box.y > region.y + region.height || box.y + box.height < region.y) continue;
    for (const ring of RINGS) {
      const { x, y, width, height } = grown(box, ring);
      for (const corner of [
        { x, y },
        { x: x + width, y },
        { x, y: y + height },
        { x: x + width, y: y + height },
      ]) {
        if (!walls.holds(corner)) points.push(corner);
      }
    }
  }
  const done = new Set<number>();
  const open = new Queue();
  open.add({ at: 0, before: null, cost: 0, guess: lengthOf(from, to), known: true });
  for (let step = open.take(); step; step = open.take()) {
    const here = points[step.at];
    if (done.has(step.at) || !here) continue;
    if (!step.known && step.before) {
      const origin = points[step.before.at] ?? from;
      if (!walls.free(origin, here)) continue;
      let more = 0;
      let beside = false;
      for (const line of lines) {
        if (crosses(line[0], line[1], origin, here)) more += CROSSING;
        else if (runAlong(line, [origin, here])) beside = true;
      }
      if (beside) more += 4 * CROSSING;
      open.add({ ...step, cost: step.cost + more, guess: step.guess + more, known: true });
      continue;
    }
    done.add(step.at);
    if (step.at === 1) return wayOf(step, points);
    for (const [next, point] of points.entries()) {
      if (done.has(next)) continue;
      const cost = step.cost + lengthOf(here, point) + (next === 1 ? 0 : CORNER);
      open.add({ at: next, before: step, cost, guess: cost + lengthOf(point, to), known: false });
    }
  }
  return null;
}

function wayOf(last: Step, points: Point[]): Point[] {
  const way: Point[] = [];
  for (let step: Step | null = last; step; step = step.before) way.unshift(points[step.at] ?? { x: 0, y: 0 });
  return way;
}

/** Steps, the one that promises most first: a heap. */
class Queue {
  private readonly steps: Step[] = [];

  add(step: Step): void {
    const { steps } = this;
    let place = steps.push(step) - 1;
    while (place > 0) {
      const above = (place - 1) >> 1;
      if ((steps[above]?.guess ?? 0) <= step.guess) break;
      steps[place] = steps[above] as Step;
      place = above;
    }
    steps[place] = step;
  }

  take(): Step | undefined {
    const { steps } = this;
    const [first] = steps;
    const last = steps.pop();
    if (!first || !last || !steps.length) return first;
    let place = 0;
    for (;;) {
      let below = 2 * place + 1;
      if (below >= steps.length) break;
      if ((steps[below + 1]?.guess ?? Number.POSITIVE_INFINITY) < (steps[below]?.guess ?? 0)) below += 1;
      if ((steps[below]?.guess ?? 0) >= last.guess) break;
      steps[place] = steps[below] as Step;
      place = below;
    }
    steps[place] = last;
    return first;
  }
}

interface Walls {
  free: (from: Point, to: Point) => boolean;
  holds: (at: Point) => boolean;
}

const CELL = 240;

/** Boxes by the squares of the map that they lie in. */
function indexed(boxes: Box[]): Walls {
  const cells = new Map<string, Box[]>();
  const of = (value: number) => Math.floor(value / CELL);
  for (const box of boxes) {
    for (let x = of(box.x); x <= of(box.x + box.width); x++) {
      for (let y = of(box.y); y <= of(box.y + box.height); y++) {
        const key = `${x} ${y}`;
        const same = cells.get(key);
        if (same) same.push(box);
        else cells.set(key, [box]);
      }
    }
  }
  return {
    free: (from, to) => {
      const [left, right] = [of(Math.min(from.x, to.x)), of(Math.max(from.x, to.x))];
      const [top, bottom] = [of(Math.min(from.y, to.y)), of(Math.max(from.y, to.y))];
      if ((right - left + 1) * (bottom - top + 1) > boxes.length) {
        return boxes.every((box) => !cuts(from, to, box));
      }
      for (let x = left; x <= right; x++) {
        for (let y = top; y <= bottom; y++) {
          if (cells.get(`${x} ${y}`)?.some((box) => cuts(from, to, box))) return false;
        }
      }
      return true;
    },
    holds: (at) => cells.get(`${of(at.x)} ${of(at.y)}`)?.some((box) => contains(box, at)) ?? false,
  };
}
