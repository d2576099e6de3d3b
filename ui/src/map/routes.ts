import {
  aroundPoints,
  type Box,
  contains,
  crosses,
  cuts,
  grown,
  lengthOf,
  overlap,
  type Point,
} from "./plane";
import { Squares } from "./squares";

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
const AROUND = 220;
const BY_END = 70;
/** What is left to go counts for more than it is: a way that is nearly the shortest is found much sooner (Pohl, 1970). */
const EAGER = 1.5;
/**
 * So many turning points are gone on from, for one link and for all of a map; a link for which that is not enough
 * goes straight. A map is drawn while it is being dragged.
 */
const MOST_TURNS = 600;
const MOST_OF_ALL = 3000;

type Line = readonly [Point, Point];

/**
 * For each wanted link its points, from mouth to mouth.
 *
 * `blocks` are what obstacles make up together: ways turn at their corners, and at those of what lies near an end.
 */
export function routed(wanted: Wanted[], obstacles: Box[], blocks: Box[] = obstacles): Point[][] {
  const walls = new Walls(obstacles);
  const led = new Led();
  const found: Point[][] = wanted.map(() => []);
  const order = wanted
    .map((link, at) => ({ at, length: lengthOf(link.from, link.to) }))
    .sort((a, b) => a.length - b.length);
  const blocked: number[] = [];
  const lead = (at: number, path: Point[]) => {
    found[at] = path;
    led.add(path);
  };
  for (const { at } of order) {
    const { from, to } = wanted[at] ?? ({ from: { x: 0, y: 0 }, to: { x: 0, y: 0 } } as Wanted);
    if (walls.free(from, to) && !led.beside([from, to])) lead(at, [from, to]);
    else blocked.push(at);
  }
  let left = MOST_OF_ALL;
  for (const at of blocked) {
    const link = wanted[at];
    if (!link) continue;
    const way = left > 0 ? around(link, turningPoints(link, obstacles, blocks), walls, led) : null;
    left -= way?.turns ?? MOST_TURNS;
    lead(at, way?.points ?? [link.from, link.to]);
  }
  return found;
}

/** Whether two lines lie beside each other for so long that one could be taken for the other. */
function runAlong([a, b]: Line, [c, d]: Line): boolean {
  if (Math.max(a.x, b.x) + NEAR < Math.min(c.x, d.x) || Math.max(c.x, d.x) + NEAR < Math.min(a.x, b.x))
    return false;
  if (Math.max(a.y, b.y) + NEAR < Math.min(c.y, d.y) || Math.max(c.y, d.y) + NEAR < Math.min(a.y, b.y))
    return false;
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

/** A way, and how many turning points were gone on from to find it. */
interface Found {
  points: Point[];
  turns: number;
}

interface Step {
  at: number;
  before: Step | null;
  cost: number;
  guess: number;
  known: boolean;
}

/** Where a way may turn: about the corners of what lies around it. */
function turningPoints({ from, to }: Wanted, obstacles: Box[], blocks: Box[]): Box[] {
  const region = grown(aroundPoints([from, to]), AROUND);
  const ends = [from, to].map((end) => ({
    x: end.x - BY_END,
    y: end.y - BY_END,
    width: 2 * BY_END,
    height: 2 * BY_END,
  }));
  return [
    ...blocks.filter((box) => overlap(box, region)),
    ...obstacles.filter((box) => ends.some((end) => overlap(box, end))),
  ];
}

/** The cheapest way around what lies between: by the corners of that, each tried only once it is the next. */
function around({ from, to }: Wanted, between: Box[], walls: Walls, led: Led): Found | null {
  const points = [from, to];
  for (const box of between) {
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
      const more = led.cost([origin, here]);
      open.add({ ...step, cost: step.cost + more, guess: step.guess + more, known: true });
      continue;
    }
    done.add(step.at);
    if (step.at === 1) return { points: wayOf(step, points), turns: done.size };
    if (done.size > MOST_TURNS) return null;
    for (const [next, point] of points.entries()) {
      if (done.has(next)) continue;
      const cost = step.cost + lengthOf(here, point) + (next === 1 ? 0 : CORNER);
      open.add({ at: next, before: step, cost, guess: cost + EAGER * lengthOf(point, to), known: false });
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

/** What stands in the way: no link may lead through it, and none may turn in it. */
class Walls {
  private readonly boxes = new Squares<Box>();

  constructor(obstacles: Box[]) {
    for (const obstacle of obstacles) {
      const wall = grown(obstacle, CLEAR);
      this.boxes.add(wall, wall);
    }
  }

  free(from: Point, to: Point): boolean {
    const box = aroundPoints([from, to]);
    return !this.boxes.some(box, (wall) => overlap(wall, box) && cuts(from, to, wall));
  }

  holds(at: Point): boolean {
    return this.boxes.some({ ...at, width: 0, height: 0 }, (wall) => contains(wall, at));
  }
}

/** The links that are led already, line by line. */
class Led {
  private readonly lines = new Squares<Line>();

  add(path: Point[]): void {
    path.forEach((point, place) => {
      const next = path[place + 1];
      if (next) this.lines.add(grown(aroundPoints([point, next]), NEAR), [point, next]);
    });
  }

  /** Whether one of them runs beside a line. */
  beside(line: Line): boolean {
    return this.lines.some(aroundPoints([...line]), (other) => runAlong(other, line));
  }

  /** What a line costs for those that it crosses, and those that it runs beside. */
  cost(line: Line): number {
    let crossed = 0;
    let beside = 0;
    this.lines.some(aroundPoints([...line]), (other) => {
      if (crosses(other[0], other[1], line[0], line[1])) crossed += CROSSING;
      else if (beside === 0 && runAlong(other, line)) beside = 4 * CROSSING;
      return false;
    });
    return crossed + beside;
  }
}
