import type { ExchangeReport, HopReport, PacketReport } from "../api/client";
import { laneAt, type Scene } from "./geometry";
import { lengthOf, onPath, type Point, pathLength } from "./plane";
import { LANE } from "./ports";

/** The ways of a traced conversation as lines through the lanes they use. */

export type Ending = "arrives" | "bar" | "ring" | "square";

export interface Ribbon {
  way: "out" | "home";
  points: Point[];
  ending: Ending;
  /** Where the ending is drawn, and the direction of travel there. */
  end: Point;
  heading: Point;
}

export function ribbonsOf(scene: Scene, exchange: ExchangeReport): Ribbon[] {
  const ribbons = [ribbonOf(scene, exchange, exchange.out, "out")];
  if (exchange.home) ribbons.push(ribbonOf(scene, exchange, exchange.home, "home"));
  return ribbons.flatMap((ribbon) => ribbon ?? []);
}

/** How far from its interface a list lies that the map does not show. */
const NEAR = 26;
/** Half the breadth of the bar at which a way ends. */
const BAR = 3;
/** A list stopped the packet, its frame, or what would have found its neighbour. */
const DENIED = new Set(["denied", "frame denied", "neighbour discovery stopped"]);

function ribbonOf(
  scene: Scene,
  exchange: ExchangeReport,
  leg: PacketReport,
  way: "out" | "home",
): Ribbon | null {
  const decided = exchange.decided_on === way && exchange.verdict !== "passes";
  const points: Point[] = [];
  for (const hop of leg.hops) points.push(...lanesOf(scene, hop));
  const last = leg.hops[leg.hops.length - 1];
  if (!last) return null;
  const centre = scene.plates.find((plate) => plate.device.name === last.device)?.centre;
  if (!centre) return null;
  if (!points.length) points.push(centre);
  let ending: Ending = leg.outcome === "arrived" ? "arrives" : "ring";
  const place = exchange.deciding;
  if (leg.outcome === "refused") ending = "square";
  if (DENIED.has(leg.outcome)) ending = "bar";
  const onward =
    decided && place?.direction === "out" && place.at
      ? laneAt(scene, `${place.device}:${place.at}`, "out")
      : null;
  if (ending === "bar" && onward) {
    points.push(...first(onward, barred(scene, place)));
  } else if (ending === "bar" && decided && place?.direction === "in" && enteredLast(leg, place)) {
    const lane = points.splice(0).reverse();
    points.push(...rest(lane, barred(scene, place)).reverse());
  } else if (ending === "bar" && decided && place?.at) {
    const line = scene.lines.find((tab) => tab.device === place.device && tab.name === place.at);
    if (line) points.push({ x: line.centre.x, y: line.centre.y });
  }
  const end = points[points.length - 1] ?? centre;
  const before = points[points.length - 2] ?? centre;
  const length = lengthOf(before, end) || 1;
  return {
    way,
    points,
    ending,
    end,
    heading: { x: (end.x - before.x) / length, y: (end.y - before.y) / length },
  };
}

/** Whether a place is the interface or switch port by which a packet came in last. */
function enteredLast(leg: PacketReport, place: { device: string; at?: string | null }): boolean {
  const last = leg.hops.at(-1);
  const crossed = last?.links.at(-1)?.[1];
  return crossed === `${place.device}:${place.at}` || last?.ingress === place.at;
}

/** The lanes from where `hop` was left to where the next device was entered, through any switches. */
const lanesOf = (scene: Scene, hop: HopReport): Point[] =>
  hop.links.flatMap(([near]) => (near && laneAt(scene, near, "out")) || []);

/** How far from its interface a packet gets that a list stops: to the edge of the list's box that it comes to. */
function barred(
  scene: Scene,
  place: { device: string; at?: string | null; direction?: string | null } | null | undefined,
): number {
  const end = `${place?.device}:${place?.at}`;
  const tab = scene.tabs.get(scene.parents.get(end) ?? end);
  const tag = tab?.tags.find(({ direction }) => direction === place?.direction);
  if (!tab || !tag) return NEAR;
  const middle = Math.abs(tag.lane.x - tab.edge.x) + Math.abs(tag.lane.y - tab.edge.y) - LANE;
  const half = (tag.way.x ? tag.box.width : tag.box.height) / 2 + BAR;
  return place?.direction === "out" ? middle - half : middle + half;
}

/** The beginning of a line, so long. */
function first(path: Point[], distance: number): Point[] {
  const length = Math.min(distance, pathLength(path) / 2);
  const kept: Point[] = [];
  let gone = 0;
  for (const [at, point] of path.entries()) {
    gone += at ? lengthOf(path[at - 1] ?? point, point) : 0;
    if (gone >= length) break;
    kept.push(point);
  }
  return [...kept, onPath(path, length).at];
}

/** What is left of a line without its beginning. */
function rest(path: Point[], distance: number): Point[] {
  const taken = first(path, distance);
  return [...taken.slice(-1), ...path.slice(taken.length - 1)];
}
