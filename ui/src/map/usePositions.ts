import { useMemo, useState } from "react";
import type { Network } from "../api/client";
import type { Point } from "./plane";
import { useLayout } from "./useLayout";

/** Where each plate lies: where it was put, where it is being dragged to, or where the layout puts it. */
export function usePositions(network: Network) {
  const [dragged, setDragged] = useState<{ device: string; at: Point } | null>(null);
  const placed = useMemo(
    () => new Map(network.positions.map(({ device, x, y }) => [device, { x, y }])),
    [network.positions],
  );
  const missing = network.devices.some((device) => !placed.has(device.name));

  const laidOut = useLayout(network, missing);

  const positions = useMemo(() => {
    const all = new Map<string, Point>();
    const below = Math.max(0, ...[...placed.values()].map((point) => point.y + 140));
    for (const { name } of network.devices) {
      const free = laidOut.data?.get(name);
      const at = placed.get(name) ?? (free && { x: free.x, y: free.y + (placed.size ? below : 0) });
      if (at) all.set(name, at);
    }
    if (dragged) all.set(dragged.device, dragged.at);
    return all;
  }, [placed, laidOut.data, dragged, network.devices]);

  return {
    positions,
    ready: network.devices.every((device) => positions.has(device.name)),
    laidOut,
    setDragged,
  };
}
