import { useMemo } from "react";
import type { State } from "../api/client";
import { go, useLocation } from "../state/location";
import { share, type Trial, useShared } from "./store";

/** What the screen shows: a state of the lists, or a trial. */
export type Viewing = State | "trial";

const about = (trial: Trial | null) => trial && `${trial.kind} ${trial.list}`;

/** Another trial is shown, whatever was looked at before; the same one, changed, is not. */
export function showTrial(trial: Trial | null): void {
  const before = useShared.getState();
  share({ trial, aside: about(trial) === about(before.trial) && before.aside });
}

/** A trial is a state like the others: it is shown until another one is asked for. */
export function view(next: Viewing): void {
  share({ aside: next !== "trial" });
  if (next !== "trial") go({ state: next });
}

export function useTrial(): { trial: Trial | null; viewing: Viewing } {
  const { state } = useLocation();
  const trial = useShared((shared) => shared.trial);
  const aside = useShared((shared) => shared.aside);
  const viewing: Viewing = trial && !aside ? "trial" : state;
  return useMemo(() => ({ trial, viewing }), [trial, viewing]);
}
