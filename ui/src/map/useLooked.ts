import { useMemo } from "react";
import type { Placement } from "../api/client";
import { chosenOf, useLocation } from "../state/location";
import { pointKey } from "../state/points";
import { useForeseen } from "../workbench/foreseen";
import { useOpened } from "../workbench/opened";
import { useShared } from "../workbench/store";
import { useTracing } from "../workbench/tracing";
import { useTrial } from "../workbench/trial";
import { devicesOf, joinedBy } from "./wayScene";

/** The devices that are to be seen, way by way, as one text: of the traced flow, else of what is chosen. */
export function useLooked(): string {
  const { network } = useOpened();
  const { trace } = useTracing();
  const { trial } = useTrial();
  const { placements } = useForeseen();
  const { chosen } = useLocation();
  const choice = useShared((shared) => shared.choice);
  return useMemo(() => {
    if (trace) return asText(devicesOf(trace));
    const spoken = new Set(chosenOf({ chosen }, "devices")?.split(","));
    const required = chosenOf({ chosen }, "requirement");
    if (required !== null) {
      const found = network.draft.requirements.find(({ id }) => id === required);
      const words = new Set(found?.statement.split(/[\s,:→]+/));
      for (const { name } of network.draft.devices) if (words.has(name)) spoken.add(name);
      for (const point of choice?.points ?? []) spoken.add(point.device);
    }
    if (trial && placements) {
      for (const { device } of differing(network.draft.placements, placements)) spoken.add(device);
    }
    return spoken.size > 1 ? asText(joinedBy(network.draft, [...spoken])) : "";
  }, [network.draft, trace, chosen, trial, placements, choice]);
}

const asText = (ways: string[][]) => ways.map((way) => way.join(" ")).join("|");
/** The ways that such a text says. */
export const waysIn = (text: string) => (text ? text.split("|").map((way) => way.split(" ")) : []);

/** Placements that are in one of two only. */
function differing(before: Placement[], after: Placement[]): Placement[] {
  const key = (placed: Placement) => `${pointKey(placed)}:${placed.list}`;
  const [had, has] = [new Set(before.map(key)), new Set(after.map(key))];
  return [...before.filter((each) => !has.has(key(each))), ...after.filter((each) => !had.has(key(each)))];
}
