import type { Network } from "../api/client";
import type { Point } from "./geometry";

const MANY = 60;

const LAYERED = {
  "elk.algorithm": "layered",
  "elk.direction": "DOWN",
  "elk.spacing.nodeNode": "44",
  "elk.layered.spacing.nodeNodeBetweenLayers": "70",
  "elk.layered.nodePlacement.strategy": "BRANDES_KOEPF",
};

/** Layers of a large network would be far wider than high: let its links pull it into shape instead. */
const SPREAD = {
  "elk.algorithm": "stress",
  "elk.stress.desiredEdgeLength": "300",
  "elk.stress.iterationLimit": "100",
};

/** Positions for devices that have none, by a layout. Loaded only when it is needed. */
export async function layOut(network: Network): Promise<Map<string, Point>> {
  const { default: ELK } = await import("elkjs/lib/elk.bundled.js");
  const names = new Set(network.devices.map((device) => device.name));
  const graph = await new ELK().layout({
    id: "network",
    layoutOptions: network.devices.length > MANY ? SPREAD : LAYERED,
    children: network.devices.map((device) => ({
      id: device.name,
      width: device.kind === "router" ? 140 : 110,
      height: device.kind === "router" ? 66 : 36,
    })),
    edges: network.links.flatMap((link, index) => {
      const [source, target] = link.ends.map((end) => end.slice(0, end.indexOf(":"))) as [string, string];
      return names.has(source) && names.has(target)
        ? [{ id: `link${index}`, sources: [source], targets: [target] }]
        : [];
    }),
  });
  return new Map(
    (graph.children ?? []).map((node) => [
      node.id,
      { x: (node.x ?? 0) + (node.width ?? 0) / 2, y: (node.y ?? 0) + (node.height ?? 0) / 2 },
    ]),
  );
}
