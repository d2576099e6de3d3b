import type { AccessList, Placement, PointReport } from "../api/client";
import { go } from "../state/location";
import { share } from "./store";

/** Picking a list up, moving it over the map, and putting it down where it was. */

export function pickUp(list: AccessList, from: Placement | null): void {
  go({ view: "map" });
  share({ picked: { list, from }, over: null });
}

export const hover = (over: PointReport | null) => share({ over });

export const putDown = () => share({ picked: null, over: null, occupied: null });
