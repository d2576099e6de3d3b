import type { ExchangeReport, HopReport, LegReport } from "../api/client";
import { LANE, linkAt, type Scene } from "./geometry";
import { along, lengthOf, type Point } from "./plane";

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

const TAG = 15;
/** A list stopped the packet, its frame, or what would have found its neighbour. */
const DENIED = new Set(["denied", "frame denied", "neighbour discovery stopped"]);

function ribbonOf(
  scene: Scene,
  exchange: ExchangeReport,
  leg: LegReport,
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
    decided && place?.direction === "out" && place.at ? linkAt(scene, `${place.device}:${place.at}`) : null;
  if (ending === "bar" && onward) {
    const { from, to } = onward;
    points.push(along(from, to, 0, LANE), along(from, to, Math.min(TAG, lengthOf(from, to) * 0.3), LANE));
  } else if (ending === "bar" && decided && place?.direction === "in" && enteredLast(leg, place)) {
    shorten(points, TAG);
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
function enteredLast(leg: LegReport, place: { device: string; at?: string | null }): boolean {
  const last = leg.hops.at(-1);
  const crossed = last?.links.at(-1)?.[1];
  return crossed === `${place.device}:${place.at}` || last?.ingress === place.at;
}

/** The lanes from where `hop` was left to where the next device was entered, through any switches. */
function lanesOf(scene: Scene, hop: HopReport): Point[] {
  return hop.links.flatMap(([near, far]) => {
    const from = scene.tabs.get(near ?? "")?.mouth;
    const to = scene.tabs.get(far ?? "")?.mouth;
    return from && to ? [along(from, to, 0, LANE), along(from, to, lengthOf(from, to), LANE)] : [];
  });
}

/** Take `distance` off the end of a line. */
function shorten(points: Point[], distance: number): void {
  const end = points[points.length - 1];
  const before = points[points.length - 2];
  if (!end || !before) return;
  const length = lengthOf(before, end);
  points[points.length - 1] = along(before, end, Math.max(length - distance, length * 0.5), 0);
}
