import { createContext, type ReactNode, useCallback, useContext, useMemo, useRef } from "react";
import type { Book, Change, Intent, OpenNetwork, Places, TestFlow } from "../api/client";
import { useBook } from "../api/computed";
import { type Draft, useDraft, usePlaces, useTraffic } from "../api/queries";
import type { Failing } from "../kit/Failed";
import { useNotices } from "../kit/notices";
import { useLocation } from "../state/location";
import { runWords } from "../state/words";

/** The network that is open, and what is known of its draft. */
export interface Opened {
  id: string;
  network: OpenNetwork;
  /** The moment that is looked at; null for all times. */
  at: string | null;
  book: Book | undefined;
  /** Whether the verdicts in `book` are of the version on screen, and how far those are that are awaited. */
  trying: { working: boolean; done: number; stale: boolean };
  places: Places | undefined;
  /** What was asked for, to be told where it could not be read. */
  reads: { book: Failing; places: Failing };
  draft: Draft;
  /** Carry an intent out in the draft; what it took, or null where it could not be done, which is said. */
  make: (intent: Intent) => Promise<Change[] | null>;
  /** Send test flows once each, or the whole book, and say what came of it. */
  run: (tests: TestFlow[] | null) => void;
}

const OpenedContext = createContext<Opened | null>(null);

export function useOpened(): Opened {
  const opened = useContext(OpenedContext);
  if (!opened) throw new Error("useOpened needs an open network");
  return opened;
}

interface Props {
  id: string;
  network: OpenNetwork;
  children: ReactNode;
}

/** The first version since which an edit changed nothing that places are told by: entries come and go. */
function usePlacesVersion({ version, draft }: OpenNetwork): number {
  const { devices, links, placements } = draft;
  const families = draft.lists.map((list) => `${list.name} ${list.family}`).join("\n");
  const known = useRef({ version, devices, links, placements, families });
  const { current } = known;
  const same =
    current.devices === devices &&
    current.links === links &&
    current.placements === placements &&
    current.families === families;
  if (!same || current.version > version) known.current = { version, devices, links, placements, families };
  return known.current.version;
}

export function OpenedProvider({ id, network, children }: Props) {
  const { say, fail, clear } = useNotices();
  const { state, at } = useLocation();
  const draft = useDraft(id);
  const found = useBook(id, network.version, at);
  const places = usePlaces(id, usePlacesVersion(network));
  const { carryOut } = draft;
  const make = useCallback(
    async (intent: Intent) => {
      clear();
      try {
        return (await carryOut(intent)).made;
      } catch (error) {
        fail(error);
        return null;
      }
    },
    [carryOut, clear, fail],
  );
  const { mutate: send } = useTraffic(id, at).run;
  const run = useCallback(
    (tests: TestFlow[] | null) =>
      send(
        { tests: tests?.map((test) => test.id) ?? null, state },
        { onSuccess: (report) => say(runWords(report, state)), onError: fail },
      ),
    [send, state, say, fail],
  );
  const { data: book, working, done, isPlaceholderData: stale } = found;
  const trying = useMemo(() => ({ working, done, stale }), [working, done, stale]);
  const { error: bookError, refetch: tryAgain } = found;
  const { data: placesRead, error: placesError, refetch: readPlaces } = places;
  const reads = useMemo(
    () => ({
      book: { error: bookError, refetch: tryAgain },
      places: { error: placesError, refetch: readPlaces },
    }),
    [bookError, tryAgain, placesError, readPlaces],
  );
  const opened = useMemo(
    () => ({ id, network, at, book, trying, places: placesRead, reads, draft, make, run }),
    [id, network, at, book, trying, placesRead, reads, draft, make, run],
  );
  return <OpenedContext value={opened}>{children}</OpenedContext>;
}
