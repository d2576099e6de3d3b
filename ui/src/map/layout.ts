import type { ELK as Elk } from "elkjs/lib/elk-api";
import type { Device } from "../api/client";
import { deviceOf } from "./geometry";
import type { Point } from "./plane";

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
  "elk.spacing.nodeNode": "44",
  "elk.layered.spacing.nodeNodeBetweenLayers": "70",
  "elk.layered.nodePlacement.strategy": "BRANDES_KOEPF",
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
  const hanging = network.devices.length > MANY ? hangingOf(network, edges) : new Map<string, string[]>();
  const folded = new Set([...hanging.values()].flat());
  const kinds = new Map(network.devices.map((device) => [device.name, device.kind]));
  const blocks = new Map(
    network.devices
      .filter((device) => !folded.has(device.name))
      .map((device) => [device.name, blockOf(device.name, hanging, kinds)]),
  );
  const children = [...blocks].map(([id, { width, height }]) => ({ id, width, height }));
  const links = edges.flatMap(([source, target], index) =>
    blocks.has(source) && blocks.has(target) && source !== target
      ? [{ id: `link${index}`, sources: [source], targets: [target] }]
      : [],
  );
  onStage(0.1);
  const spread = folded.size > 0 && children.length <= SPREADABLE;
  const pulled = spread
    ? await elk.layout({ id: "network", layoutOptions: STRESS(children), children, edges: links })
    : { children };
  onStage(spread ? 0.5 : 0.2);
  const graph = await elk.layout({
    id: "network",
    layoutOptions: spread ? APART : LAYERED,
    children: pulled.children,
    edges: links,
  });
  onStage(0.9);
  const positions = new Map<string, Point>();
  for (const { id, x = 0, y = 0 } of graph.children ?? []) blocks.get(id)?.put({ x, y }, positions);
  return positions;
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
  const linked = new Map<string, Set<string>>(network.devices.map((device) => [device.name, new Set()]));
  for (const [one, other] of edges) {
    linked.get(one)?.add(other);
    linked.get(other)?.add(one);
  }
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
