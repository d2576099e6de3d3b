import type { Intent, Network } from "../api/client";
import { asPut, type Scene } from "./geometry";
import type { Point } from "./plane";

interface Laid {
  name: string;
  at: Point;
}

/** A plate goes where it is put; the others stay where they lie, also those that a layout has put there. */
export function arranged(network: Network, scene: Scene, moved: Laid): Intent {
  const kept = new Set(network.positions.map(({ device }) => device));
  const lying = scene.plates
    .filter(({ device }) => !kept.has(device.name) && device.name !== moved.name)
    .map(({ device, centre }) => ({ name: device.name, at: centre }));
  const positions = [...lying, moved].map(({ name, at }) => {
    const { x, y } = asPut(scene, at);
    return { device: name, x: Math.round(x), y: Math.round(y) };
  });
  return { do: "arrange", positions, moved: moved.name };
}
