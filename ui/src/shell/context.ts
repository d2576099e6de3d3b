import { createContext, useContext } from "react";
import type {
  AccessList,
  Book,
  Choice,
  Network,
  OpenNetwork,
  Placement,
  Places,
  PointReport,
  ReachChange,
  State,
  TestFlow,
  TraceReport,
} from "../api/client";
import type { Draft, EditRequest } from "../api/queries";
import type { Place } from "../state/location";
import type { useNotices } from "./notices";

/** An edit that is looked at before it is made: a trial. Every part of the screen shows it, and names it. */
export interface Previewed {
  list: string;
  edit: EditRequest;
  /** A repair or choice that was taken up to be tried, or what is being typed in a list. */
  kind: "tried" | "typed";
}

/** What the screen shows: a state of the lists, or a trial. */
export type Viewing = State | "trial";

/** A list that has been picked up, the places that could take it, and the one it hovers over. */
export interface Carried {
  list: AccessList;
  from: Placement | null;
  targets: PointReport[];
  over: PointReport | null;
}

export interface Workbench {
  id: string;
  network: OpenNetwork;
  book: Book | undefined;
  /** Whether the verdicts in `book` are of the version on screen, and how far those are that are awaited. */
  trying: { working: boolean; done: number; stale: boolean };
  /** The trial that is on, and the draft as it would be, as far as the map shows it. */
  trial: Previewed | null;
  shown: Network;
  viewing: Viewing;
  view: (state: Viewing) => void;
  places: Places | undefined;
  trace: TraceReport | undefined;
  exchange: number;
  setExchange: (index: number) => void;
  /** The hop looked at: which way, and its number on it. */
  hop: { way: "out" | "home"; index: number } | null;
  setHop: (hop: { way: "out" | "home"; index: number } | null) => void;
  draft: Draft;
  place: Place;
  go: (change: Partial<Place>) => void;
  notices: ReturnType<typeof useNotices>;
  preview: {
    shown: Previewed | null;
    book: Book | undefined;
    /** What dropping the carried list would do to reach. */
    reach: ReachChange | null | undefined;
    show: (previewed: Previewed | null) => void;
  };
  carried: Carried | null;
  pickUp: (list: AccessList, from: Placement | null) => void;
  hover: (point: PointReport | null) => void;
  drop: (point: PointReport) => void;
  putDown: () => void;
  make: (edit: EditRequest) => Promise<boolean>;
  /** Ways to make something hold, laid over the map, and the one that is looked at. */
  lens: {
    choices: Choice[];
    shown: Choice | null;
    open: (choices: Choice[]) => void;
    show: (choice: Choice | null) => void;
  };
  /** Send test flows once each, or the whole book, and say what came of it. */
  run: (tests: TestFlow[] | null) => void;
}

export const WorkbenchContext = createContext<Workbench | null>(null);

export function useWorkbench(): Workbench {
  const workbench = useContext(WorkbenchContext);
  if (!workbench) throw new Error("useWorkbench needs an open network");
  return workbench;
}
