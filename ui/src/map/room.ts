import type { Box, Point } from "./plane";

/** Room on the map: what lies over something else is moved away from it, as little as can be. */

/** Something that takes room; `weight` 0 gives way to everything, and what has more never moves for it. */
export interface Block {
  box: Box;
  weight: number;
}

const ROUNDS = 60;
/** What was moved for one is moved a little further, so that the next round need not begin again. */
const MORE = 0.5;

/**
 * By how much each block must move so that none is nearer than `apart` to another. Blocks of equal weight share
 * the way, in the direction that is shortest.
 */
export function makeRoom(blocks: Block[], apart: number): Point[] {
  const moved = blocks.map(() => ({ x: 0, y: 0 }));
  const widest = Math.max(0, ...blocks.map((block) => block.box.width));
  for (let round = 0; round < ROUNDS; round++) {
    let still = true;
    const order = blocks
      .map((block, at) => ({ at, left: block.box.x + (moved[at]?.x ?? 0) }))
      .sort((a, b) => a.left - b.left);
    for (const [place, { at: one }] of order.entries()) {
      for (let next = place + 1; next < order.length; next++) {
        const { at: other, left } = order[next] ?? { at: one, left: 0 };
        if (left - (order[place]?.left ?? 0) > widest + 2 * apart) break;
        const by = shortest(at(blocks, moved, one), at(blocks, moved, other), apart);
        if (!by) continue;
        still = false;
        const [own, theirs] = [blocks[one]?.weight ?? 0, blocks[other]?.weight ?? 0];
        const share = own === theirs ? 0.5 : own > theirs ? 0 : 1;
        push(moved[one], by, -share);
        push(moved[other], by, 1 - share);
      }
    }
    if (still) break;
  }
  return moved;
}

function at(blocks: Block[], moved: Point[], place: number): Box {
  const { box } = blocks[place] ?? { box: { x: 0, y: 0, width: 0, height: 0 } };
  const by = moved[place] ?? { x: 0, y: 0 };
  return { ...box, x: box.x + by.x, y: box.y + by.y };
}

function push(point: Point | undefined, by: Point, share: number): void {
  if (!point) return;
  point.x += by.x * share;
  point.y += by.y * share;
}

/** The shortest way for `other` to be apart from `one`; null when it is. */
function shortest(one: Box, other: Box, apart: number): Point | null {
  const x = lacking(one.x, one.width, other.x, other.width, apart);
  const y = lacking(one.y, one.height, other.y, other.height, apart);
  if (x === 0 || y === 0) return null;
  return Math.abs(x) < Math.abs(y)
    ? { x: x + Math.sign(x) * MORE, y: 0 }
    : { x: 0, y: y + Math.sign(y) * MORE };
}

function lacking(one: number, size: number, other: number, otherSize: number, apart: number): number {
  const between = other + otherSize / 2 - (one + size / 2);
  const lack = (size + otherSize) / 2 + apart - Math.abs(between);
  return lack <= 0.01 ? 0 : between < 0 ? -lack : lack;
}

/** A place for a box of this size about `near`, as near as the others leave room. */
export function freeSpot(taken: Box[], size: { width: number; height: number }, near: Point): Point {
  const [w, h] = [size.width, size.height];
  const free = (at: Point) =>
    taken.every(
      (box) =>
        at.x + w / 2 <= box.x ||
        at.x - w / 2 >= box.x + box.width ||
        at.y + h / 2 <= box.y ||
        at.y - h / 2 >= box.y + box.height,
    );
  const step = { x: w / 4, y: h / 4 };
  for (let ring = 0; ; ring++) {
    const around: Point[] = [];
    for (let column = -ring; column <= ring; column++) {
      for (let row = -ring; row <= ring; row++) {
        if (Math.max(Math.abs(column), Math.abs(row)) < ring) continue;
        around.push({ x: near.x + column * step.x, y: near.y + row * step.y });
      }
    }
    const far = ({ x, y }: Point) => Math.hypot(x - near.x, y - near.y);
    const found = around.filter(free).sort((a, b) => far(a) - far(b))[0];
    if (found) return found;
  }
}
