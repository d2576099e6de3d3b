import { useEffect, useMemo, useState } from "react";
import type { Network } from "../api/client";
import { layOut } from "./layout";
import type { Point } from "./plane";

/** Where each plate lies: where it was put, where it is being dragged to, or where the layout puts it. */
export function usePositions(network: Network) {
  const [laidOut, setLaidOut] = useState<Map<string, Point> | null>(null);
  const [laid, setLaid] = useState(0);
  const [dragged, setDragged] = useState<{ device: string; at: Point } | null>(null);
  const placed = useMemo(
    () => new Map(network.positions.map(({ device, x, y }) => [device, { x, y }])),
    [network.positions],
  );
  const missing = network.devices.filter((device) => !placed.has(device.name));

  // biome-ignore lint/correctness/useExhaustiveDependencies: only what is connected changes where plates are laid
  useEffect(() => {
    if (!missing.length) return;
    let live = true;
    layOut(network, (done) => live && setLaid(done)).then((found) => live && setLaidOut(found));
    return () => {
      live = false;
    };
  }, [missing.length, network.links]);

  const positions = useMemo(() => {
    const all = new Map<string, Point>();
    const below = Math.max(0, ...[...placed.values()].map((point) => point.y + 140));
    for (const { name } of network.devices) {
      const free = laidOut?.get(name);
      const at = placed.get(name) ?? (free && { x: free.x, y: free.y + (placed.size ? below : 0) });
      if (at) all.set(name, at);
    }
    if (dragged) all.set(dragged.device, dragged.at);
    return all;
  }, [placed, laidOut, dragged, network.devices]);

  return {
    positions,
    ready: network.devices.every((device) => positions.has(device.name)),
    laid,
    setDragged,
  };
}
