import type { Box } from "./plane";

/** The side of a square, in map units. */
const SIDE = 240;

interface Held<T> {
  item: T;
  seen: number;
}

/** Things by the squares of the map that their boxes lie in: those near a place are found without all others. */
export class Squares<T> {
  private readonly held = new Map<number, Held<T>[]>();
  private search = 0;

  add(box: Box, item: T): void {
    const held = { item, seen: 0 };
    for (const square of squaresOf(box)) {
      const same = this.held.get(square);
      if (same) same.push(held);
      else this.held.set(square, [held]);
    }
  }

  /** Whether `is` says so of something in the squares of a box; each is asked about once. */
  some(box: Box, is: (item: T) => boolean): boolean {
    this.search += 1;
    for (const square of squaresOf(box)) {
      for (const held of this.held.get(square) ?? []) {
        if (held.seen === this.search) continue;
        held.seen = this.search;
        if (is(held.item)) return true;
      }
    }
    return false;
  }
}

function* squaresOf({ x, y, width, height }: Box): Generator<number> {
  for (let column = Math.floor(x / SIDE); column <= Math.floor((x + width) / SIDE); column++) {
    for (let row = Math.floor(y / SIDE); row <= Math.floor((y + height) / SIDE); row++) {
      yield column * 65536 + row;
    }
  }
}
