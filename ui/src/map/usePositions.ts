import { useMemo, useState } from "react";
import type { Network } from "../api/client";
import { aroundPoints, type Box, type Point } from "./plane";
import { isBar } from "./plates";
import { freeSpot } from "./room";
import { useLayout } from "./useLayout";
import { neighboursIn } from "./wayScene";

/** So many new devices are laid out among themselves. */
const MANY = 24;

/** Where each plate lies: where it was put, where it is being dragged to, or where the layout puts it. */
export function usePositions(network: Network) {
  const [dragged, setDragged] = useState<{ device: string; at: Point } | null>(null);
  const placed = useMemo(
    () => new Map(network.positions.map(({ device, x, y }) => [device, { x, y }])),
    [network.positions],
  );
  const missing = network.devices.filter((device) => !placed.has(device.name));
  // A few that are new find room beside what they are linked with; where most are, all is laid out.
  const few = placed.size > 0 && missing.length < Math.min(network.devices.length / 2, MANY);
  const laidOut = useLayout(network, missing.length > 0 && !few);

  const positions = useMemo(() => {
    const all = new Map<string, Point>();
    const below = Math.max(0, ...[...placed.values()].map((point) => point.y + 140));
    for (const { name } of network.devices) {
      const free = few ? undefined : laidOut.data?.get(name);
      const at = placed.get(name) ?? (free && { x: free.x, y: free.y + (placed.size ? below : 0) });
      if (at) all.set(name, at);
    }
    if (all.size && network.devices.length - all.size < MANY) settle(network, all);
    if (dragged) all.set(dragged.device, dragged.at);
    return all;
  }, [placed, few, laidOut.data, dragged, network]);

  return {
    positions,
    put: useMemo(() => new Set(placed.keys()), [placed]),
    held: useMemo(() => new Set(dragged ? [dragged.device] : []), [dragged]),
    ready: network.devices.every((device) => positions.has(device.name)),
    laidOut,
    setDragged,
  };
}

const ROOM = { width: 190, height: 120 };
/** Where something new lies best, seen from what it is linked with. */
const BELOW = { host: { x: 0, y: 110 }, switch: { x: 0, y: 120 }, outside: { x: 0, y: -130 } };
const ASIDE = { x: 250, y: 60 };

/** Devices that lie nowhere yet find room beside what they are linked with, else where there is some. */
function settle(network: Network, all: Map<string, Point>): void {
  const neighbours = neighboursIn(network);
  const boxes = (): Box[] =>
    [...all.values()].map(({ x, y }) => ({ x: x - 85, y: y - 50, width: 170, height: 100 }));
  let waiting = network.devices.filter(({ name }) => !all.has(name));
  while (waiting.length) {
    const linked = waiting.find(({ name }) =>
      [...(neighbours.get(name) ?? [])].some((each) => all.has(each)),
    );
    const device = linked ?? waiting[0];
    if (!device) break;
    const beside = [...(neighbours.get(device.name) ?? [])].flatMap((each) => all.get(each) ?? []);
    const by = BELOW[device.kind as keyof typeof BELOW] ?? ASIDE;
    const points = beside.length ? beside : [middleOf(all)];
    const near = {
      x: points.reduce((sum, { x }) => sum + x, 0) / points.length + (beside.length === 1 ? by.x : 0),
      y: points.reduce((sum, { y }) => sum + y, 0) / points.length + (beside.length ? by.y : 0),
    };
    const size = device.kind === "host" || isBar(device) ? { ...ROOM, height: 60, width: 130 } : ROOM;
    all.set(device.name, freeSpot(boxes(), size, near));
    waiting = waiting.filter(({ name }) => name !== device.name);
  }
}

function middleOf(all: Map<string, Point>): Point {
  const { x, y, width, height } = aroundPoints([...all.values()]);
  return { x: x + width / 2, y: y + height / 2 };
}
