import type { Box, Point } from "./plane";
import { boxOf, isBar, type Plate, TAG_HEIGHT, tagWidth, wordsWidth } from "./plates";

/** Interfaces at the edges of plates, and what lies at each: its words, and the lists across its two lanes. */

export type Side = "top" | "right" | "bottom" | "left";
export const SIDES: readonly Side[] = ["top", "right", "bottom", "left"];

/** A list to be drawn at an interface. */
export interface Hung {
  key: string;
  text: string;
  direction: string;
}

/** A list where it lies: its box across the lanes, and the lane that it filters. */
export interface Tag extends Hung {
  device: string;
  box: Box;
  /** The point of its lane behind the box, and the way packets take there. */
  lane: Point;
  way: Point;
}

/** An interface on the edge of a plate. */
export interface Tab {
  device: string;
  name: string;
  side: Side;
  words: string[];
  box: Box;
  /** Where it meets its plate, where its box ends, and where all that lies at it does. */
  edge: Point;
  root: Point;
  mouth: Point;
  /** A hidden tab draws no box. */
  hidden: boolean;
  enabled: boolean;
  tags: Tag[];
}

/** Half the distance between the two lanes of a link. */
export const LANE = 4;
/** What lies outwards of a tab, and to the right of that: the lane of what leaves, by the rule of the road. */
export const OUTWARDS: Record<Side, Point> = {
  top: { x: 0, y: -1 },
  right: { x: 1, y: 0 },
  bottom: { x: 0, y: 1 },
  left: { x: -1, y: 0 },
};
const LEAVING: Record<Side, 1 | -1> = { top: 1, right: 1, bottom: -1, left: -1 };

const LINE = 14;
const GAP = 3;
const STUB = 9;
const BETWEEN = 7;
/** Room at the side of a tag for the arrow that says which way it looks. */
export const ARROW = 13;

const isFlat = (side: Side) => side === "top" || side === "bottom";
const hungWidth = ({ text }: Hung) => tagWidth(text) + ARROW;

/** An interface that wants a place at a side: what is written there, what lies across its lanes, where it leads. */
export interface Wish {
  name: string;
  words: string[];
  hung: readonly Hung[];
  enabled: boolean;
  /** Where along the side it would best be, as a coordinate of the map. */
  best: number;
}

/** What an interface takes: along its side to either hand of its axis, and outwards. */
interface Column {
  half: number;
  /** The same for what may not stand out beyond its plate: the tab and the lanes. */
  inner: number;
  depth: number;
}

const tabSize = (words: string[]) =>
  words.length
    ? { width: Math.max(26, ...words.map((line) => wordsWidth(line) + 9)), height: 4 + LINE * words.length }
    : { width: 0, height: 0 };

function columnOf(side: Side, wish: Pick<Wish, "words" | "hung">): Column {
  const tab = tabSize(wish.words);
  const widest = Math.max(0, ...wish.hung.map(hungWidth));
  const rows = wish.hung.length * (TAG_HEIGHT + GAP);
  const flat = isFlat(side);
  const inner = Math.max((flat ? tab.width : tab.height) / 2, LANE + 3);
  const beside = widest ? widest + GAP : 0;
  return flat
    ? { inner, half: Math.max(inner, widest / 2), depth: tab.height + rows + STUB }
    : { inner, half: Math.max(inner, rows / 2), depth: tab.width + beside + STUB };
}

/** How long a side is that has room for all of these. */
export const sideLength = (side: Side, wishes: Wish[]) =>
  wishes.reduce((sum, wish) => sum + 2 * columnOf(side, wish).half + BETWEEN, BETWEEN);

/** Interfaces along one side of a plate, in the order of where they lead, each as near to that as there is room. */
export function tabsAlong(plate: Plate, side: Side, wishes: Wish[]): Tab[] {
  const { centre, width, height } = plate;
  const flat = isFlat(side);
  const [middle, half] = flat ? [centre.x, width / 2] : [centre.y, height / 2];
  const ordered = [...wishes].sort((a, b) => a.best - b.best || a.name.localeCompare(b.name));
  const columns = ordered.map((wish) => columnOf(side, wish));
  const room = (at: number, outermost: boolean) => (outermost ? columns[at]?.inner : columns[at]?.half) ?? 0;
  const between = isBar(plate.device) ? 0 : BETWEEN;
  const places: number[] = [];
  let free = middle - half;
  for (const [at, wish] of ordered.entries()) {
    const place = Math.max(wish.best, free + room(at, at === 0) + between);
    places.push(place);
    free = place + room(at, false);
  }
  // What has been pushed over the end is pushed back, as far as that reaches.
  let end = middle + half;
  for (let at = places.length - 1; at >= 0; at--) {
    places[at] = Math.min(places[at] ?? 0, end - room(at, at === places.length - 1) - between);
    end = (places[at] ?? 0) - room(at, false);
  }
  return ordered.map((wish, at) => tabAt(plate, side, wish, places[at] ?? middle));
}

function tabAt(plate: Plate, side: Side, wish: Wish, place: number): Tab {
  const out = OUTWARDS[side];
  const { depth } = columnOf(side, wish);
  const size = tabSize(wish.words);
  const flat = isFlat(side);
  const edge = flat
    ? { x: place, y: plate.centre.y + (out.y * plate.height) / 2 }
    : { x: plate.centre.x + (out.x * plate.width) / 2, y: place };
  const deep = flat ? size.height : size.width;
  const outwards = (distance: number) => ({ x: edge.x + out.x * distance, y: edge.y + out.y * distance });
  const middle = outwards(deep / 2);
  return {
    device: plate.device.name,
    name: wish.name,
    side,
    words: wish.words,
    hidden: wish.words.length === 0,
    enabled: wish.enabled,
    box: { x: middle.x - size.width / 2, y: middle.y - size.height / 2, ...size },
    edge,
    root: outwards(deep),
    mouth: outwards(depth),
    tags: tagsAt(plate.device.name, side, wish.hung, outwards, deep),
  };
}

/** Lists across the lanes of an interface, row behind row: what filters packets that enter before what leaves. */
function tagsAt(
  device: string,
  side: Side,
  hung: readonly Hung[],
  outwards: (distance: number) => Point,
  deep: number,
): Tag[] {
  const out = OUTWARDS[side];
  const ordered = [...hung].sort((a, b) => a.direction.localeCompare(b.direction));
  return ordered.map((each, row) => {
    const width = hungWidth(each);
    const leaves = each.direction === "out";
    const way = { x: leaves ? out.x : -out.x, y: leaves ? out.y : -out.y };
    const aside = LANE * LEAVING[side] * (leaves ? 1 : -1);
    const flat = isFlat(side);
    const distance = flat ? TAG_HEIGHT / 2 + row * (TAG_HEIGHT + GAP) : width / 2;
    const { x, y } = outwards(deep + GAP + distance);
    const middle = flat ? { x, y } : { x, y: y + (row - (ordered.length - 1) / 2) * (TAG_HEIGHT + GAP) };
    return {
      ...each,
      device,
      box: { x: middle.x - width / 2, y: middle.y - TAG_HEIGHT / 2, width, height: TAG_HEIGHT },
      lane: flat ? { x: x + aside, y } : { x, y: y + aside },
      way,
    };
  });
}

interface Span {
  from: number;
  to: number;
}

/** The stretch of a plate along which links may meet it, seen from above and from the side. */
function spans(plate: Plate): { x: Span; y: Span } {
  const { x, y, width, height } = boxOf(plate);
  const inset = Math.min(14, width / 3);
  return {
    x: { from: x + inset, to: x + width - inset },
    y: { from: y + 6, to: y + height - 6 },
  };
}

const clamped = (value: number, { from, to }: Span) => Math.min(Math.max(value, from), to);
const common = (one: Span, other: Span): Span => ({
  from: Math.max(one.from, other.from),
  to: Math.min(one.to, other.to),
});

/** Whether of two that lie over each other one lies rather beside the other than above it. */
const aside = (one: Plate, other: Plate) =>
  Math.abs(one.centre.x - other.centre.x) / (one.width + other.width) >
  Math.abs(one.centre.y - other.centre.y) / (one.height + other.height);

/** The side of `plate` by which a link to `other` leaves it, and where along that side it would be straight. */
export function facing(plate: Plate, other: Plate): { side: Side; best: number } {
  const [own, theirs] = [spans(plate), spans(other)];
  const [x, y] = [common(own.x, theirs.x), common(own.y, theirs.y)];
  const beneath = other.centre.y > plate.centre.y;
  const vertical = beneath ? ("bottom" as const) : ("top" as const);
  const sideways = other.centre.x > plate.centre.x ? ("right" as const) : ("left" as const);
  const [above, level] = [x.to >= x.from, y.to >= y.from];
  if (above && !(level && aside(plate, other))) return { side: vertical, best: (x.from + x.to) / 2 };
  if (level) return { side: sideways, best: (y.from + y.to) / 2 };
  // A bar is met from above or below by all that does not lie beside it.
  const across = x.from - x.to;
  const down = y.from - y.to;
  const flat = isBar(plate.device) || isBar(other.device) ? across > 4 * down : across > 1.6 * down;
  if (flat) return { side: sideways, best: clamped(other.centre.y, own.y) };
  return { side: vertical, best: clamped(other.centre.x, own.x) };
}

/** All that a tab takes beside its plate. */
export const taken = (tab: Tab): Box[] => [
  tab.box,
  ...tab.tags.map(({ box }) => box),
  ...[tab.edge, tab.mouth].map((point) => ({ ...point, width: 0.1, height: 0.1 })),
];
