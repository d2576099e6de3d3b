import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from "react";
import type { Intent, State } from "../api/client";
import { go, useLocation } from "../state/location";

/** An intent that is looked at before it is carried out. Every part of the screen shows it, and names it. */
export interface Trial {
  list: string;
  /** What it would be called. */
  label: string;
  intent: Intent;
  /** A repair or choice that was taken up to be tried, or what is being typed in a list. */
  kind: "tried" | "typed";
}

/** What the screen shows: a state of the lists, or a trial. */
export type Viewing = State | "trial";

interface OnTrial {
  trial: Trial | null;
  show: (trial: Trial | null) => void;
  viewing: Viewing;
  view: (state: Viewing) => void;
}

const TrialContext = createContext<OnTrial | null>(null);

export function useTrial(): OnTrial {
  const trial = useContext(TrialContext);
  if (!trial) throw new Error("useTrial needs a TrialProvider above it");
  return trial;
}

/** A trial is a state like the others: it is shown until another one is asked for. */
export function TrialProvider({ children }: { children: ReactNode }) {
  const { state } = useLocation();
  const [trial, show] = useState<Trial | null>(null);
  const [aside, setAside] = useState(false);
  const about = trial && `${trial.kind} ${trial.list}`;
  // biome-ignore lint/correctness/useExhaustiveDependencies: another trial is shown, whatever was looked at before
  useEffect(() => setAside(false), [about]);
  const viewing: Viewing = trial && !aside ? "trial" : state;
  const view = useCallback((next: Viewing) => {
    setAside(next !== "trial");
    if (next !== "trial") go({ state: next });
  }, []);
  const value = useMemo(() => ({ trial, show, viewing, view }), [trial, viewing, view]);
  return <TrialContext value={value}>{children}</TrialContext>;
}
