import type { Places } from "../api/client";
import { type Box, cuts, grown, onPath, overlap, type Point, pathLength } from "./plane";
import { boxOf, type Plate, wordsWidth } from "./plates";
import { LANE, type Tab, taken } from "./ports";
import { shortest } from "./wording";

/** Words that lie beside a link. */
export interface Prefix {
  link: string;
  text: string;
  box: Box;
}

const HIGH = 15;
const FROM_LINK = LANE + 5;

/** The prefix of each link that no switch names, where beside it there is room for the words. */
export function prefixesOf(
  links: { a: string; b: string; path: Point[] }[],
  places: Places | undefined,
  plates: Plate[],
  tabs: Map<string, Tab>,
): Prefix[] {
  const named = new Map(
    places?.segments.flatMap((segment) => segment.members.map((member) => [member, segment] as const)),
  );
  const obstacles = [...plates.map(boxOf), ...[...tabs.values()].flatMap(taken)].map((box) => grown(box, 2));
  const lines = links.flatMap(({ path }) => path.slice(1).map((to, at) => [path[at] ?? to, to] as const));
  const found: Prefix[] = [];
  for (const { a, b, path } of links) {
    const segment = named.get(a) ?? named.get(b);
    const text = segment && !segment.switches.length ? shortest(segment.prefixes) : undefined;
    if (!text) continue;
    for (const box of placesBeside(path, { width: wordsWidth(text), height: HIGH })) {
      // Where a link bends sharply its lanes stand out by twice their distance.
      const lanes = grown(box, 2 * LANE + 1);
      if (obstacles.some((other) => overlap(box, other))) continue;
      if (found.some((other) => overlap(box, other.box))) continue;
      if (lines.some(([from, to]) => cuts(from, to, lanes))) continue;
      found.push({ link: `${a} ${b}`, text, box });
      break;
    }
  }
  return found;
}

/** Places for words beside a line: from its middle outwards, on either side. */
function* placesBeside(path: Point[], size: { width: number; height: number }): Generator<Box> {
  const length = pathLength(path);
  for (const share of [0.5, 0.4, 0.6, 0.3, 0.7, 0.2, 0.8]) {
    for (const sign of [1, -1]) {
      const { at, way } = onPath(path, length * share);
      const aside = { x: -way.y * sign, y: way.x * sign };
      const far = FROM_LINK + (Math.abs(aside.x) * size.width + Math.abs(aside.y) * size.height) / 2 + 1;
      yield { x: at.x + aside.x * far - size.width / 2, y: at.y + aside.y * far - size.height / 2, ...size };
    }
  }
}
