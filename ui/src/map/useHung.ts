import { useMemo } from "react";
import type { Network, Placement } from "../api/client";
import { pointKey } from "../state/points";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";
import { bridgesOf, parentsOf } from "./geometry";
import type { Hung } from "./ports";

/** What is known of a list that stands somewhere in the draft, in what is running, or in what is tried. */
export type Standing = "running" | "new" | "gone" | "trial";

export interface ShownTag {
  placed: Placement;
  standing: Standing;
}

/** What stands behind the name of a list that is not the usual one. */
const MARKS: Record<string, string> = { ipv6: " v6", frame: " frames" };

const keyOf = (placed: Placement) => `${pointKey(placed)}:${placed.list}`;

/** The lists of `shown`, by the interface whose lanes they lie across, with those that an edit has taken off. */
export function useHung(shown: Network): {
  hung: Map<string, Hung[]>;
  tags: Map<string, ShownTag>;
} {
  const { network } = useOpened();
  const { viewing } = useTrial();
  return useMemo(() => {
    const { draft, running } = network;
    const now = new Set(shown.placements.map(keyOf));
    const occupied = new Set(shown.placements.map(pointKey));
    const [ran, drafted] = [new Set(running.placements.map(keyOf)), new Set(draft.placements.map(keyOf))];
    const before = new Map([...running.placements, ...draft.placements].map((each) => [keyOf(each), each]));
    const gone = [...before.values()].filter(
      (each) => !now.has(keyOf(each)) && !occupied.has(pointKey(each)),
    );
    const standingOf = (placed: Placement): Standing => {
      if (viewing === "trial" && !drafted.has(keyOf(placed))) return "trial";
      return ran.has(keyOf(placed)) ? "running" : "new";
    };
    const lists = new Map(draft.lists.map((list) => [list.name, list]));
    const bridges = bridgesOf(draft);
    const parents = parentsOf(draft);
    const interfaces = new Set(
      shown.devices.flatMap((device) => device.interfaces.map(({ name }) => `${device.name}:${name}`)),
    );
    const hung = new Map<string, Hung[]>();
    const tags = new Map<string, ShownTag>();
    const add = (placed: Placement, standing: Standing) => {
      const own = `${placed.device}:${placed.at}`;
      if (!interfaces.has(own)) return;
      const end = parents.get(own) ?? own;
      const list = lists.get(placed.list);
      // On a bridge lists of frames are the usual ones.
      const mark = bridges.has(placed.device) ? "" : (MARKS[list?.family ?? list?.kind ?? ""] ?? "");
      const sub = parents.has(own) ? ` ${placed.at.split(".").pop()}` : "";
      const text = `${standing === "trial" ? "trial: " : ""}${placed.list}${mark}${sub}`;
      const key = `${standing === "gone" ? "gone " : ""}${keyOf(placed)}`;
      hung.set(end, [...(hung.get(end) ?? []), { key, text, direction: placed.direction }]);
      tags.set(key, { placed, standing });
    };
    for (const placed of shown.placements) add(placed, standingOf(placed));
    for (const placed of gone) add(placed, "gone");
    return { hung, tags };
  }, [network, shown, viewing]);
}
