import type { Network, TraceReport } from "../api/client";
import { lineAt } from "../state/points";
import { deviceOf } from "./geometry";
import type { Point } from "./plane";

/**
 * A drawing of its own for what is looked at in a large network: the devices of its way in order, every
 * equal one too, and all else folded into clouds that say how much they hold.
 */
export interface Way {
  network: Network;
  positions: Map<string, Point>;
  clouds: Cloud[];
}

/** What is not on the way, at the device of it that is nearest; each device counts once. */
export interface Cloud {
  device: string;
  at: Point;
  count: number;
}

const STEP = { x: 250, y: 160 };
const AROUND = { width: 190, height: 200 };

/** The devices that a traced flow and the queries for its name come by, in the order of its ways: out first, what
 * only the way home meets behind. */
export function devicesOf(trace: TraceReport): string[][] {
  const queries = trace.queries.map((query) => query.exchange);
  return [...queries, ...trace.exchanges].flatMap((exchange) =>
    [exchange.out, exchange.home].flatMap((leg, home) => {
      if (!leg) return [];
      const found: string[] = [];
      for (const hop of leg.hops) {
        found.push(hop.device);
        for (const [, far] of hop.links) if (far) found.push(deviceOf(far));
      }
      const once = found.filter((name, place) => found.indexOf(name) === place);
      return [home ? once.reverse() : once];
    }),
  );
}

/** Devices joined by the shortest ways between them, one after another. */
export function joinedBy(network: Network, wanted: string[]): string[][] {
  const neighbours = neighboursIn(network);
  const [first, ...others] = wanted.filter((name) => neighbours.has(name));
  if (!first) return [];
  const way = [first];
  for (const goal of others) {
    const path = shortest(neighbours, way, goal);
    way.push(...path.filter((name) => !way.includes(name)));
  }
  return [way];
}

function shortest(neighbours: Map<string, Set<string>>, from: string[], goal: string): string[] {
  const before = new Map<string, string | null>(from.map((name) => [name, null]));
  const queue = [...from];
  for (let here = queue.shift(); here !== undefined && !before.has(goal); here = queue.shift()) {
    for (const next of neighbours.get(here) ?? []) {
      if (before.has(next)) continue;
      before.set(next, here);
      queue.push(next);
    }
  }
  const path: string[] = [];
  for (let at: string | null | undefined = goal; at; at = before.get(at)) path.unshift(at);
  return before.has(goal) ? path : [goal];
}

/** Lay out the devices of `ways` in a window of some shape. */
export function wayOf(
  network: Network,
  ways: string[][],
  window: { width: number; height: number },
): Way | null {
  const known = new Set(network.devices.map((device) => device.name));
  const column = columnsOf(ways.map((way) => way.filter((name) => known.has(name))));
  if (!column.size) return null;
  const last = Math.max(...column.values());
  const rows = Array.from({ length: last + 1 }, (_, at) =>
    [...column].filter(([, place]) => place === at).map(([name]) => name),
  );
  const across = bestAcross(rows, window);
  const positions = new Map<string, Point>();
  let top = 0;
  for (let first = 0; first < rows.length; first += across) {
    const line = rows.slice(first, first + across);
    const tallest = Math.max(...line.map((row) => row.length));
    const back = (first / across) % 2 === 1;
    line.forEach((row, place) => {
      const x = (back ? across - 1 - place : place) * STEP.x;
      row.forEach((name, number) => {
        positions.set(name, { x, y: top + (number + (tallest - row.length) / 2) * STEP.y });
      });
    });
    top += tallest * STEP.y;
  }
  const folded = nearestDrawn(neighboursIn(network), positions);
  const clouds = [...positions].flatMap(([device, at]) => {
    const count = folded.get(device);
    return count ? [{ device, at, count }] : [];
  });
  // Management lines that no list stands at take room, and decide nothing.
  const filtered = (device: string, line: string) =>
    network.placements.some((placed) => placed.device === device && placed.at === line);
  return {
    network: {
      ...network,
      devices: network.devices
        .filter((device) => positions.has(device.name))
        .map((device) => ({
          ...device,
          lines: device.lines.filter((line) => filtered(device.name, lineAt(line))),
        })),
      links: network.links.filter((link) => link.ends.every((end) => positions.has(deviceOf(end)))),
      placements: network.placements.filter((placed) => positions.has(placed.device)),
      positions: [],
    },
    positions,
    clouds,
  };
}

/** How many devices beside each other make the words largest: a long way goes to and fro. */
function bestAcross(rows: string[][], window: { width: number; height: number }): number {
  const scale = (across: number) => {
    let high = 0;
    for (let first = 0; first < rows.length; first += across) {
      high += Math.max(...rows.slice(first, first + across).map((row) => row.length));
    }
    return Math.min(
      window.width / ((across - 1) * STEP.x + AROUND.width),
      window.height / ((high - 1) * STEP.y + AROUND.height),
    );
  };
  const counts = rows.map((_, place) => place + 1);
  return counts.reduce((best, count) => (scale(count) > scale(best) * 1.02 ? count : best), rows.length);
}

/** How far along each device is, the longest way to it counted. */
function columnsOf(ways: string[][]): Map<string, number> {
  const column = new Map<string, number>();
  for (const way of ways) {
    let before = -1;
    for (const name of way) {
      const at = column.get(name);
      if (at !== undefined && at > before) before = at;
      else if (at === undefined) {
        before += 1;
        column.set(name, before);
      }
    }
  }
  return column;
}

/** The devices that each is linked with. */
export function neighboursIn(network: Network): Map<string, Set<string>> {
  const found = new Map<string, Set<string>>(network.devices.map((device) => [device.name, new Set()]));
  for (const link of network.links) {
    const [one, other] = link.ends.map(deviceOf) as [string, string];
    found.get(one)?.add(other);
    found.get(other)?.add(one);
  }
  return found;
}

/** What is not drawn, each device at the drawn one that is nearest to it. */
function nearestDrawn(neighbours: Map<string, Set<string>>, drawn: Map<string, Point>): Map<string, number> {
  const home = new Map([...drawn.keys()].map((name) => [name, name]));
  const queue = [...drawn.keys()];
  for (let at = 0; at < queue.length; at++) {
    const here = queue[at] ?? "";
    for (const next of neighbours.get(here) ?? []) {
      if (home.has(next)) continue;
      home.set(next, home.get(here) ?? here);
      queue.push(next);
    }
  }
  const counts = new Map<string, number>();
  for (const [name, at] of home) if (!drawn.has(name)) counts.set(at, (counts.get(at) ?? 0) + 1);
  return counts;
}
