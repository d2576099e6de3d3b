import { createContext, type ReactNode, useCallback, useMemo } from "react";
import type { AccessList, Customary, Network, Placement, Places, PointReport } from "../api/client";
import { useCustomary } from "../api/queries";
import { say } from "../kit/notices";
import { giveFocus } from "../state/focus";
import { go } from "../state/location";
import { pointKey, pointOf } from "../state/points";
import { OccupiedDialog } from "./OccupiedDialog";
import { useOpened, usePoints } from "./opened";
import { putDown } from "./picking";
import { useProvided } from "./provided";
import { share, useShared } from "./store";

/** A list that has been picked up, and the places that could take it. */
export interface Carried {
  list: AccessList;
  from: Placement | null;
  targets: PointReport[];
}

interface Carrying {
  carried: Carried | null;
  /** What the trade would say of putting the carried list there; null while it is not known, or says nothing. */
  usual: (point: PointReport) => Usual | null;
  drop: (point: PointReport) => void;
}

export interface Usual {
  /** Whether the trade would choose this place for such a list. */
  here: boolean;
  /** The trade's rule, or what is different here. */
  words: string;
}

const CarryingContext = createContext<Carrying | null>(null);

export const useCarrying = () => useProvided(CarryingContext);

/** The place that the carried list hovers over; apart from the list, for it changes as the pointer moves. */
export const useOver = () => useShared((shared) => shared.over);
export function CarryingProvider({ children }: { children: ReactNode }) {
  const { id, network, make } = useOpened();
  const { places } = usePoints();
  const picked = useShared((shared) => shared.picked);
  const occupied = useShared((shared) => shared.occupied);
  const carried = useMemo(
    () => picked && { ...picked, targets: targetsOf(network.draft, places, picked.list) },
    [picked, places, network.draft],
  );
  const { data: customary } = useCustomary(id, network.version, picked?.list.name ?? null);
  const usual = useMemo(() => usualIn(picked ? customary : undefined), [picked, customary]);
  const place = useCallback(
    async (point: PointReport, instead: boolean) => {
      if (!picked) return;
      putDown();
      const { list, from } = picked;
      const moved_from = from && pointOf(from);
      const there = usual(point);
      if (await make({ do: "place", list: list.name, to: pointOf(point), moved_from, instead })) {
        if (there && !there.here && there.words) say(`${list.name} stands ${point.words}. ${there.words}`);
        go({ chosen: `point:${pointKey(point)}` });
      }
      giveFocus("map");
    },
    [picked, make, usual],
  );
  const drop = useCallback(
    (point: PointReport) => {
      if (picked && occupant(network.draft, picked.list, point)) share({ occupied: point });
      else place(point, false);
    },
    [picked, network.draft, place],
  );
  const carrying = useMemo(() => ({ carried, usual, drop }), [carried, usual, drop]);
  const other = picked && occupied ? occupant(network.draft, picked.list, occupied) : null;
  return (
    <CarryingContext value={carrying}>
      {children}
      {picked && occupied && other && (
        <OccupiedDialog
          point={occupied}
          other={other}
          list={picked.list.name}
          onCancel={() => share({ occupied: null })}
          onReplace={() => place(occupied, true)}
        />
      )}
    </CarryingContext>
  );
}

/** What the trade says of each place. */
function usualIn(customary: Customary | undefined): Carrying["usual"] {
  const here = new Set(customary?.points.map(pointKey));
  const words = new Map(customary?.elsewhere.map((each) => [pointKey(each.point), each.words]));
  return (point) => {
    if (!customary?.rule) return null;
    const there = here.has(pointKey(point));
    return { here: there, words: there ? customary.rule : (words.get(pointKey(point)) ?? "") };
  };
}

/** The places that could take a list: lines, and what is linked, where it does not stand already. */
function targetsOf(network: Network, places: Places | undefined, list: AccessList): PointReport[] {
  const linked = new Set(network.links.flatMap((link) => link.ends));
  for (const device of network.devices) {
    for (const { name, parent } of device.interfaces) {
      if (parent && linked.has(`${device.name}:${parent}`)) linked.add(`${device.name}:${name}`);
    }
  }
  const fits = fitting(network, list);
  return (places?.points ?? []).filter(
    (point) =>
      fits(point) &&
      !point.placed.includes(list.name) &&
      (linked.has(`${point.device}:${point.at}`) || point.line),
  );
}

/** What a place takes a list as. */
export const takenAs = (list: AccessList) => list.family ?? "frame";

/** Whether a place takes such lists, be it that one stands there already. */
function fitting(network: Network, list: AccessList) {
  const as = new Map(network.lists.map((each) => [each.name, takenAs(each)]));
  return (point: PointReport) =>
    point.takes.includes(takenAs(list)) || point.placed.some((name) => as.get(name) === takenAs(list));
}

/** The list of the same family that stands at a place already. */
function occupant(network: Network, list: AccessList, point: PointReport): string | null {
  if (point.takes.includes(takenAs(list))) return null;
  const families = new Map(network.lists.map((each) => [each.name, takenAs(each)]));
  return point.placed.find((name) => name !== list.name && families.get(name) === takenAs(list)) ?? null;
}
