import { createContext, useContext } from "react";
import type {
  AccessList,
  Book,
  Choice,
  OpenNetwork,
  Placement,
  Places,
  PointReport,
  ReachChange,
  TestFlow,
  TraceReport,
} from "../api/client";
import type { Draft, EditRequest } from "../api/queries";
import type { Place } from "../state/location";
import type { useNotices } from "./notices";

/** An edit that is looked at before it is made. */
export interface Previewed {
  list: string;
  edit: EditRequest;
  /** Whether the foot of the map offers to make it: what else offers it is not on screen. */
  offered?: true;
}

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
