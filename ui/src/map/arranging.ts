import type { Intent, Network } from "../api/client";
import { bridgesOf, deviceOf, type Scene } from "./geometry";
import type { Point } from "./plane";

interface Laid {
  name: string;
  at: Point;
}

const kept = (name: string, { x, y }: Point) => ({ device: name, x: Math.round(x), y: Math.round(y) });

/**
 * A plate goes where it is put; the others stay where they lie, also those that a layout has put there or that
 * have made room.
 */
export function arranged(network: Network, scene: Scene, moved: Laid): Intent {
  const before = new Map(network.positions.map((each) => [each.device, each]));
  const others = scene.plates
    .filter(({ device }) => device.name !== moved.name)
    .map(({ device, put }) => kept(device.name, put))
    .filter(({ device, x, y }) => before.get(device)?.x !== x || before.get(device)?.y !== y);
  return {
    do: "arrange",
    positions: [...others, kept(moved.name, moved.at)],
    moved: moved.name,
  };
}

/** Everything goes where a layout puts it. */
export const tidied = (found: Map<string, Point>): Intent => ({
  do: "arrange",
  positions: [...found].map(([name, at]) => kept(name, at)),
  moved: null,
});

/** A device and its neighbours go where a layout puts them, seen from where that device stands. */
export function tidiedAbout(
  network: Network,
  scene: Scene,
  device: string,
  found: Map<string, Point>,
): Intent {
  const plate = scene.plates.find((each) => each.device.name === device);
  const own = found.get(device);
  if (!plate || !own) return tidied(found);
  const stands = plate.put;
  const lying = new Map(scene.plates.map((each) => [each.device.name, each.put]));
  for (const name of neighbourhood(network, device)) {
    const at = found.get(name);
    if (at) lying.set(name, { x: at.x - own.x + stands.x, y: at.y - own.y + stands.y });
  }
  return tidied(lying);
}

/** A device, its neighbours, and what stands behind its switches. */
export function neighbourhood(network: Network, device: string): Set<string> {
  const switches = bridgesOf(network);
  const found = new Set([device]);
  let edge = [device];
  while (edge.length) {
    const next: string[] = [];
    for (const { ends } of network.links) {
      const [one, other] = ends.map(deviceOf) as [string, string];
      for (const [here, there] of [
        [one, other],
        [other, one],
      ] as const) {
        if (!edge.includes(here) || found.has(there)) continue;
        found.add(there);
        if (switches.has(there)) next.push(there);
      }
    }
    edge = next;
  }
  return found;
}
