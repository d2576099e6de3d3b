import type { ExchangeReport, HopReport, LegReport, Network } from "../api/client";
import { along, LANE, lengthOf, linkAt, type Point, type Scene } from "./geometry";

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

export function ribbonsOf(scene: Scene, network: Network, exchange: ExchangeReport): Ribbon[] {
  const ribbons = [ribbonOf(scene, network, exchange, exchange.out, "out")];
  if (exchange.home) ribbons.push(ribbonOf(scene, network, exchange, exchange.home, "home"));
  return ribbons.flatMap((ribbon) => ribbon ?? []);
}

const TAG = 15;

function ribbonOf(
  scene: Scene,
  network: Network,
  exchange: ExchangeReport,
  leg: LegReport,
  way: "out" | "home",
): Ribbon | null {
  const decided = exchange.decided_on === way && exchange.verdict !== "passes";
  const points: Point[] = [];
  leg.hops.forEach((hop, index) => {
    const next = leg.hops[index + 1];
    if (next) points.push(...between(scene, network, hop, next));
  });
  const last = leg.hops[leg.hops.length - 1];
  if (!last) return null;
  const centre = scene.plates.find((plate) => plate.device.name === last.device)?.centre;
  if (!centre) return null;
  if (!points.length) points.push(centre);
  let ending: Ending = leg.outcome === "arrived" ? "arrives" : "ring";
  const place = exchange.deciding;
  if (leg.outcome === "refused") ending = "square";
  if (leg.outcome === "denied") ending = "bar";
  const onward =
    decided && place?.direction === "out" && place.at ? linkAt(scene, `${place.device}:${place.at}`) : null;
  if (ending === "bar" && onward) {
    const { from, to } = onward;
    points.push(along(from, to, 0, LANE), along(from, to, Math.min(TAG, lengthOf(from, to) * 0.3), LANE));
  } else if (ending === "bar" && decided && place?.direction === "in" && last.ingress === place.at) {
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

/** The lanes from where `hop` was left to where `next` was entered, through any switches. */
function between(scene: Scene, network: Network, hop: HopReport, next: HopReport): Point[] {
  if (!hop.egress || !next.ingress) return [];
  const physical = (end: string) => scene.parents.get(end) ?? end;
  const links = switched(
    network,
    physical(`${hop.device}:${hop.egress}`),
    physical(`${next.device}:${next.ingress}`),
  );
  return links.flatMap(([a, b]) => {
    const from = scene.tabs.get(a)?.mouth;
    const to = scene.tabs.get(b)?.mouth;
    return from && to ? [along(from, to, 0, LANE), along(from, to, lengthOf(from, to), LANE)] : [];
  });
}

/** The links from one interface to another with only switches between, each from near to far end. */
function switched(network: Network, start: string, goal: string): [string, string][] {
  const switches = new Set(
    network.devices.filter((device) => device.kind === "switch").map((device) => device.name),
  );
  const deviceOf = (end: string) => end.slice(0, end.indexOf(":"));
  const queue: { at: string; way: [string, string][] }[] = [{ at: start, way: [] }];
  const seen = new Set([start]);
  for (let step = queue.shift(); step; step = queue.shift()) {
    const leave = switches.has(deviceOf(step.at))
      ? network.links.flatMap((link) => link.ends).filter((end) => deviceOf(end) === deviceOf(step.at))
      : [step.at];
    for (const near of leave) {
      for (const link of network.links) {
        if (!link.ends.includes(near)) continue;
        const far = link.ends[0] === near ? link.ends[1] : link.ends[0];
        if (seen.has(far)) continue;
        seen.add(far);
        const way: [string, string][] = [...step.way, [near, far]];
        if (far === goal) return way;
        if (switches.has(deviceOf(far))) queue.push({ at: far, way });
      }
    }
  }
  return [];
}

/** Take `distance` off the end of a line. */
function shorten(points: Point[], distance: number): void {
  const end = points[points.length - 1];
  const before = points[points.length - 2];
  if (!end || !before) return;
  const length = lengthOf(before, end);
  points[points.length - 1] = along(before, end, Math.max(length - distance, length * 0.5), 0);
}
