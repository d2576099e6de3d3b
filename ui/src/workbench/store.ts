import { create } from "zustand";
import type { AccessList, Choice, Intent, Placement, PointReport } from "../api/client";

/** An intent that is looked at before it is carried out. Every part of the screen shows it, and names it. */
export interface Trial {
  list: string;
  /** What it would be called. */
  label: string;
  intent: Intent;
  /** A repair or choice that was taken up to be tried, or what is being typed in a list. */
  kind: "tried" | "typed";
}

/** A hop that is looked at: which way, and its number on it. */
export interface LookedAt {
  way: "out" | "home";
  index: number;
}

interface Shared {
  trial: Trial | null;
  /** Whether a state of the lists is looked at while there is a trial. */
  aside: boolean;
  /** Ways to make something hold, laid over the map, and the one that is looked at. */
  choices: Choice[];
  choice: Choice | null;
  /** The list that has been picked up, and where it stood. */
  picked: { list: AccessList; from: Placement | null } | null;
  /** The place that it hovers over. */
  over: PointReport | null;
  /** The place it was dropped on, where another list stands. */
  occupied: PointReport | null;
  /** The conversation looked at, of those over several equal paths. */
  exchange: number;
  hop: LookedAt | null;
}

const NOTHING: Shared = {
  trial: null,
  aside: false,
  choices: [],
  choice: null,
  picked: null,
  over: null,
  occupied: null,
  exchange: 0,
  hop: null,
};

/** What somebody is at in the open network: what reads one thing here is drawn again only when that changes. */
export const useShared = create<Shared>()(() => NOTHING);

export const share = (change: Partial<Shared>) => useShared.setState(change);

/** Another network is opened: nothing of this one is picked up, tried or looked at. */
export const shareNothing = () => useShared.setState(NOTHING, true);
