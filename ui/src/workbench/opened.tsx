import { createContext, type ReactNode, useCallback, useMemo, useRef } from "react";
import type { Book, Change, Intent, OpenNetwork, Places, TestFlow } from "../api/client";
import { useBook } from "../api/computed";
import { type Draft, useDraft, usePlaces, useTraffic } from "../api/queries";
import type { Failing } from "../kit/Failed";
import { clear, fail, say } from "../kit/notices";
import { useLocation } from "../state/location";
import { runWords } from "../state/words";
import { useProvided } from "./provided";

/** The network that is open, and what is known of its draft. */
export interface Opened {
  id: string;
  network: OpenNetwork;
  /** The moment that is looked at; null for all times. */
  at: string | null;
  draft: Draft;
  /** Carry an intent out in the draft; what it took, or null where it could not be done, which is said. */
  make: (intent: Intent) => Promise<Change[] | null>;
  /** Send test flows once each, or the whole book, and say what came of it. */
  run: (tests: TestFlow[] | null) => void;
}

/** What the test flows come to. It is told step by step as it is worked out: who needs none of it is not drawn again. */
export interface Verdicts {
  book: Book | undefined;
  /** Whether the verdicts in `book` are of the version on screen, and how far those are that are awaited. */
  trying: { working: boolean; done: number; stale: boolean };
  /** That it could not be read, and asking again. */
  read: Failing;
}

/** The places of the draft, and that they could not be read. */
interface Points {
  places: Places | undefined;
  read: Failing;
}

const OpenedContext = createContext<Opened | null>(null);
const VerdictsContext = createContext<Verdicts | null>(null);
const PointsContext = createContext<Points | null>(null);

export const useOpened = () => useProvided(OpenedContext);
export const useVerdicts = () => useProvided(VerdictsContext);
export const usePoints = () => useProvided(PointsContext);

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
    [carryOut],
  );
  const { mutate: send } = useTraffic(id, at).run;
  const run = useCallback(
    (tests: TestFlow[] | null) =>
      send(
        { tests: tests?.map((test) => test.id) ?? null, state },
        { onSuccess: (report) => say(runWords(report, state)), onError: fail },
      ),
    [send, state],
  );
  const { data: book, working, done, isPlaceholderData: stale } = found;
  const { error: bookError, refetch: tryAgain } = found;
  const verdicts = useMemo(
    () => ({
      book,
      trying: { working, done, stale },
      read: { error: bookError, refetch: tryAgain },
    }),
    [book, working, done, stale, bookError, tryAgain],
  );
  const { data: placesRead, error: placesError, refetch: readPlaces } = places;
  const points = useMemo(
    () => ({ places: placesRead, read: { error: placesError, refetch: readPlaces } }),
    [placesRead, placesError, readPlaces],
  );
  const opened = useMemo(() => ({ id, network, at, draft, make, run }), [id, network, at, draft, make, run]);
  return (
    <OpenedContext value={opened}>
      <PointsContext value={points}>
        <VerdictsContext value={verdicts}>{children}</VerdictsContext>
      </PointsContext>
    </OpenedContext>
  );
}
