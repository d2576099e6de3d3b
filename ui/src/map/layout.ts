import type { ELK as Elk } from "elkjs/lib/elk-api";
import type { Device } from "../api/client";
import { deviceOf } from "./geometry";
import { crosses, type Point } from "./plane";
import { BAR_HEIGHT } from "./plates";

const MANY = 60;
const LEAF = { width: 110, height: 36 };
const HUB = { width: 150, height: 78 };
/**
 * A core is pulled into shape by its links, then its blocks are moved apart where they overlap. The forces it
 * begins with took nine tenths of the time, and 300 rounds of them leave about as many crossings as 10.
 */
const STRESS = (blocks: { width: number; height: number }[]) => ({
  "elk.algorithm": "stress",
  "elk.force.iterations": "10",
  "elk.stress.desiredEdgeLength": `${Math.max(...blocks.map((each) => Math.hypot(each.width, each.height)))}`,
});
const APART = { "elk.algorithm": "sporeOverlap", "elk.spacing.nodeNode": "120" };
const SPREADABLE = 130;
const GAP = 34;
const BELOW = 64;
const ROUNDS = 3;

const LAYERED = {
  "elk.algorithm": "layered",
  "elk.direction": "DOWN",
  "elk.aspectRatio": "1.3",
  "elk.spacing.nodeNode": "34",
  "elk.spacing.componentComponent": "60",
  "elk.layered.spacing.nodeNodeBetweenLayers": "76",
  "elk.layered.nodePlacement.strategy": "NETWORK_SIMPLEX",
  "elk.layered.nodePlacement.favorStraightEdges": "true",
  "elk.layered.thoroughness": "30",
};

/** As much of a network as it takes to lay it out. */
export interface Drawn {
  devices: readonly Pick<Device, "name" | "kind">[];
  links: readonly { ends: readonly string[] }[];
}

/** Positions for the devices of a network, by a layout that runs beside the page. Loaded only when needed. */
export async function layOut(network: Drawn, onStage: (done: number) => void): Promise<Map<string, Point>> {
  const { default: ELK } = await import("elkjs/lib/elk-api.js");
  const worker = new Worker(new URL("elkjs/lib/elk-worker.min.js", import.meta.url));
  const failing = new Promise<never>((_, reject) => {
    worker.addEventListener("error", ({ message }) =>
      reject(new Error(message || "the server does not give what lays it out")),
    );
  });
  try {
    const elk = new ELK({ workerFactory: () => worker });
    return await Promise.race([laidOut(elk, network, onStage), failing]);
  } finally {
    worker.terminate();
  }
}

/** The same with an engine that is given. */
export async function laidOut(
  elk: Pick<Elk, "layout">,
  network: Drawn,
  onStage: (done: number) => void,
): Promise<Map<string, Point>> {
  const edges = network.links.map((link) => link.ends.map(deviceOf) as [string, string]);
  const many = network.devices.length > MANY;
  const ranks = ranksOf(network, edges);
  const rankOf = (name = "") => ranks.get(name);
  const hanging = many ? hangingOf(network, edges) : hostsOnBars(network, edges, ranks);
  const folded = new Set([...hanging.values()].flat());
  const kinds = new Map(network.devices.map((device) => [device.name, device.kind]));
  const blocks = new Map(
    network.devices
      .filter((device) => !folded.has(device.name))
      .map((device) => [
        device.name,
        many
          ? blockOf(device.name, hanging, kinds)
          : barOf(device.name, hanging.get(device.name) ?? [], kinds),
      ]),
  );
  const children = [...blocks].map(([id, { width, height }]) => ({ id, width, height }));
  const links = edges.flatMap(([source, target], index) =>
    blocks.has(source) && blocks.has(target) && source !== target
      ? [downwards(`link${index}`, source, target, ranks)]
      : [],
  );
  onStage(0.1);
  const spread = many && folded.size > 0 && children.length <= SPREADABLE;
  const pulled = spread
    ? await elk.layout({ id: "network", layoutOptions: STRESS(children), children, edges: links })
    : { children };
  onStage(spread ? 0.5 : 0.2);
  const laid = async (among: typeof links) => {
    const graph = await elk.layout({
      id: "network",
      layoutOptions: spread ? APART : LAYERED,
      children: pulled.children,
      edges: among,
    });
    const positions = new Map<string, Point>();
    for (const { id, x = 0, y = 0 } of graph.children ?? []) blocks.get(id)?.put({ x, y }, positions);
    return positions;
  };
  // Devices equally far from the outside stand beside each other, unless more links cross then.
  const down = many
    ? links
    : links.filter(({ sources: [one], targets: [other] }) => rankOf(one) !== rankOf(other));
  const beside = await laid(down);
  onStage(0.7);
  if (down.length === links.length || crossings(beside, edges) === 0) return beside;
  const above = await laid(links);
  onStage(0.9);
  return crossings(above, edges) < crossings(beside, edges) ? above : beside;
}

/** How often links cross where each goes straight from device to device. */
function crossings(positions: Map<string, Point>, edges: [string, string][]): number {
  const lines = edges.flatMap(([one, other]) => {
    const [from, to] = [positions.get(one), positions.get(other)];
    return from && to ? [[from, to] as const] : [];
  });
  return lines.reduce(
    (sum, [a, b], at) => sum + lines.slice(at + 1).filter(([c, d]) => crosses(a, b, c, d)).length,
    0,
  );
}

const ORDER: Record<string, number> = { outside: 0, firewall: 1, router: 2, switch: 3, host: 4 };

/** How far each device is from the outside, or, where there is none, from what most hangs on. */
function ranksOf(network: Drawn, edges: [string, string][]): Map<string, number> {
  const neighbours = new Map<string, string[]>(network.devices.map(({ name }) => [name, []]));
  for (const [one, other] of edges) {
    neighbours.get(one)?.push(other);
    neighbours.get(other)?.push(one);
  }
  const degree = (name: string) => neighbours.get(name)?.length ?? 0;
  const order = (kind: string) => ORDER[kind] ?? 2;
  const roots = [...network.devices]
    .filter(({ kind }) => kind !== "outside")
    .sort(
      (a, b) =>
        Number(a.kind === "host") - Number(b.kind === "host") ||
        Number(a.kind === "switch") - Number(b.kind === "switch") ||
        degree(b.name) - degree(a.name) ||
        order(a.kind) - order(b.kind),
    );
  const found = new Map<string, number>();
  const queue = network.devices.filter(({ kind }) => kind === "outside").map(({ name }) => name);
  for (const name of queue) found.set(name, 0);
  for (let at = 0, root = 0; at < queue.length || root < roots.length; ) {
    const here = queue[at];
    if (here === undefined) {
      const next = roots[root++]?.name;
      if (next === undefined || found.has(next)) continue;
      found.set(next, 0);
      queue.push(next);
      continue;
    }
    at += 1;
    for (const next of neighbours.get(here) ?? []) {
      if (found.has(next)) continue;
      found.set(next, (found.get(here) ?? 0) + 1);
      queue.push(next);
    }
  }
  // Whatever a host is linked with stands above it.
  for (const { name, kind } of network.devices) if (kind === "host") found.set(name, network.devices.length);
  return found;
}

/** A link as the layout engine has it: from what is nearer to the outside. */
function downwards(id: string, one: string, other: string, ranks: Map<string, number>) {
  const [upper, lower] = (ranks.get(one) ?? 0) <= (ranks.get(other) ?? 0) ? [one, other] : [other, one];
  return { id, sources: [upper], targets: [lower] };
}

/** The devices that each is linked with. */
function linkedWith(network: Drawn, edges: [string, string][]): Map<string, Set<string>> {
  const linked = new Map<string, Set<string>>(network.devices.map(({ name }) => [name, new Set()]));
  for (const [one, other] of edges) {
    linked.get(one)?.add(other);
    linked.get(other)?.add(one);
  }
  return linked;
}

/** Hosts that hang on one switch alone, by that switch, where nothing else hangs beneath it. */
function hostsOnBars(
  network: Drawn,
  edges: [string, string][],
  ranks: Map<string, number>,
): Map<string, string[]> {
  const kinds = new Map(network.devices.map((device) => [device.name, device.kind]));
  const linked = linkedWith(network, edges);
  const found = new Map<string, string[]>();
  for (const [name, others] of linked) {
    if (kinds.get(name) !== "switch") continue;
    const hosts = [...others].filter((each) => kinds.get(each) === "host" && linked.get(each)?.size === 1);
    const lower = [...others].some(
      (each) => kinds.get(each) !== "host" && (ranks.get(each) ?? 0) > (ranks.get(name) ?? 0),
    );
    if (hosts.length && !lower) found.set(name, hosts);
  }
  return found;
}

const ROW = { first: 56, next: 74, gap: 34 };
/** So many hosts hang on a switch side by side; more hang in two rows, those of the second between the others. */
const ABREAST = 3;

/** A switch with the hosts that hang on it, or a device alone. */
function barOf(name: string, hosts: string[], kinds: Map<string, string>): Block {
  const kind = kinds.get(name);
  const own =
    kind === "switch"
      ? { width: Math.max(150, name.length * 7.2 + 130), height: BAR_HEIGHT }
      : kind === "host"
        ? { width: Math.max(84, name.length * 8.2 + 24), height: LEAF.height }
        : { width: Math.max(HUB.width, name.length * 8.2 + 24), height: HUB.height };
  if (!hosts.length) {
    return {
      ...own,
      put: ({ x, y }, positions) => positions.set(name, { x: x + own.width / 2, y: y + own.height / 2 }),
    };
  }
  const pitch = Math.max(...hosts.map((host) => Math.max(84, host.length * 8.2 + 24))) + ROW.gap;
  const rows = hosts.length > ABREAST ? 2 : 1;
  const spread = rows === 1 ? pitch * (hosts.length - 1) : (pitch / 2) * (hosts.length - 1);
  const width = Math.max(own.width, spread + pitch - ROW.gap);
  return {
    width,
    height: BAR_HEIGHT + ROW.first + ROW.next * (rows - 1) + 30,
    put: ({ x, y }, positions) => {
      const middle = x + width / 2;
      positions.set(name, { x: middle, y: y + BAR_HEIGHT / 2 });
      hosts.forEach((host, at) => {
        const row = at % rows;
        positions.set(host, {
          x: middle - spread / 2 + (pitch / rows) * at,
          y: y + BAR_HEIGHT + ROW.first + 15 + row * ROW.next,
        });
      });
    },
  };
}

/** A device with all that hangs on it in rows beneath: its size, and how to put it at a corner. */
interface Block {
  width: number;
  height: number;
  put: (corner: Point, positions: Map<string, Point>) => void;
}

function blockOf(name: string, hanging: Map<string, string[]>, kinds: Map<string, string>): Block {
  const own = kinds.get(name) === "host" ? LEAF : HUB;
  const children = (hanging.get(name) ?? []).map((child) => blockOf(child, hanging, kinds));
  if (!children.length) {
    const put = ({ x, y }: Point, positions: Map<string, Point>) =>
      positions.set(name, { x: x + own.width / 2, y: y + own.height / 2 });
    return { width: own.width, height: own.height, put };
  }
  const columns = Math.ceil(Math.sqrt(children.length * 1.6));
  const rows = Array.from({ length: Math.ceil(children.length / columns) }, (_, row) =>
    children.slice(row * columns, (row + 1) * columns),
  );
  const widths = rows.map((row) => row.reduce((sum, each) => sum + each.width + GAP, -GAP));
  const heights = rows.map((row) => Math.max(...row.map((each) => each.height)));
  const width = Math.max(own.width, ...widths);
  return {
    width,
    height: own.height + heights.reduce((sum, each) => sum + each + BELOW, 0),
    put: ({ x, y }, positions) => {
      positions.set(name, { x: x + width / 2, y: y + own.height / 2 });
      let top = y + own.height + BELOW;
      rows.forEach((row, number) => {
        let left = x + (width - (widths[number] ?? 0)) / 2;
        for (const child of row) {
          child.put({ x: left, y: top }, positions);
          left += child.width + GAP;
        }
        top += (heights[number] ?? 0) + BELOW;
      });
    },
  };
}

/** Devices that hang on a single other one, by that one: hosts, then what only they and one more hang on. */
function hangingOf(network: Drawn, edges: [string, string][]): Map<string, string[]> {
  const linked = linkedWith(network, edges);
  const found = new Map<string, string[]>();
  for (let round = 0; round < ROUNDS; round++) {
    const single = [...linked].filter(([, others]) => others.size === 1);
    for (const [name, others] of single) {
      const [hub] = others;
      if (!hub || linked.get(hub)?.size === 1) continue;
      found.set(hub, [...(found.get(hub) ?? []), name]);
      linked.get(hub)?.delete(name);
      linked.delete(name);
    }
  }
  // Of what is still many, devices between two others lie beneath the one that more hangs on.
  const degree = new Map([...linked].map(([name, others]) => [name, others.size]));
  for (const [name, others] of [...linked]) {
    if (linked.size <= SPREADABLE || others.size !== 2) continue;
    const [hub] = [...others].sort((a, b) => (degree.get(b) ?? 0) - (degree.get(a) ?? 0));
    if (!hub || !linked.has(hub) || (degree.get(hub) ?? 0) <= 2) continue;
    found.set(hub, [...(found.get(hub) ?? []), name]);
    linked.delete(name);
  }
  return found;
}
