import type { ELK as Elk } from "elkjs/lib/elk-api";
import type { Network } from "../api/client";
import type { Point } from "./geometry";

const MANY = 60;
const LEAF = { width: 110, height: 36, gap: 14 };
const HUB = { width: 150, height: 78 };

const LAYERED = {
  "elk.algorithm": "layered",
  "elk.direction": "DOWN",
  "elk.spacing.nodeNode": "44",
  "elk.layered.spacing.nodeNodeBetweenLayers": "70",
  "elk.layered.nodePlacement.strategy": "BRANDES_KOEPF",
};

/** Positions for the devices of a network, by a layout that runs beside the page. Loaded only when needed. */
export async function layOut(network: Network): Promise<Map<string, Point>> {
  const { default: ELK } = await import("elkjs/lib/elk-api.js");
  const worker = new Worker(new URL("elkjs/lib/elk-worker.min.js", import.meta.url));
  try {
    return await laidOut(new ELK({ workerFactory: () => worker }), network);
  } finally {
    worker.terminate();
  }
}

async function laidOut(elk: Elk, network: Network): Promise<Map<string, Point>> {
  const edges = network.links.map(
    (link) => link.ends.map((end) => end.slice(0, end.indexOf(":"))) as [string, string],
  );
  const leaves = network.devices.length > MANY ? leavesOf(network, edges) : new Map<string, string[]>();
  const hanging = new Set([...leaves.values()].flat());
  const kept = network.devices.filter((device) => !hanging.has(device.name));
  const names = new Set(kept.map((device) => device.name));
  const graph = await elk.layout({
    id: "network",
    layoutOptions: LAYERED,
    children: kept.map((device) => {
      const below = leaves.get(device.name)?.length ?? 0;
      const own = device.kind === "host" ? LEAF : HUB;
      return {
        id: device.name,
        width: Math.max(own.width, below * (LEAF.width + LEAF.gap) - LEAF.gap),
        height: own.height + (below ? LEAF.height + 64 : 0),
      };
    }),
    edges: edges.flatMap(([source, target], index) =>
      names.has(source) && names.has(target)
        ? [{ id: `link${index}`, sources: [source], targets: [target] }]
        : [],
    ),
  });
  const positions = new Map<string, Point>();
  for (const { id, x = 0, y = 0, width = 0, height = 0 } of graph.children ?? []) {
    const below = leaves.get(id) ?? [];
    const centre = x + width / 2;
    positions.set(id, { x: centre, y: below.length ? y + HUB.height / 2 : y + height / 2 });
    below.forEach((leaf, index) => {
      const aside = (index - (below.length - 1) / 2) * (LEAF.width + LEAF.gap);
      positions.set(leaf, { x: centre + aside, y: y + height - LEAF.height / 2 });
    });
  }
  return positions;
}

/** Hosts with a single link, by the device they hang on: in a large network they lie beneath it. */
function leavesOf(network: Network, edges: [string, string][]): Map<string, string[]> {
  const linked = new Map<string, string[]>();
  for (const [one, other] of edges) {
    linked.set(one, [...(linked.get(one) ?? []), other]);
    linked.set(other, [...(linked.get(other) ?? []), one]);
  }
  const kinds = new Map(network.devices.map((device) => [device.name, device.kind]));
  const found = new Map<string, string[]>();
  for (const { name, kind } of network.devices) {
    const [hub, ...more] = linked.get(name) ?? [];
    if (kind !== "host" || !hub || more.length || kinds.get(hub) === "host") continue;
    found.set(hub, [...(found.get(hub) ?? []), name]);
  }
  return found;
}
