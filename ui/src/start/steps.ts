import type { Location } from "../state/location";
import { configuration } from "../state/points";
import type { Opened, Verdicts } from "../workbench/opened";
import type { Viewing } from "../workbench/trial";

/** What a step looks at to see whether it was done. */
export interface Seen extends Pick<Opened, "network">, Pick<Verdicts, "book" | "trying"> {
  location: Location;
  viewing: Viewing;
}

/** The walk through the demo: six steps in the real workbench, each done when it was really done. */
export interface Step {
  title: string;
  /** What to do, with its key. */
  words: string;
  done: (seen: Seen) => boolean;
}

const FLOW = "t13";
const verdictOf = ({ book, trying }: Seen, state: "running" | "draft") =>
  trying.stale ? undefined : book?.tests.find((test) => test.id === FLOW)?.[state].verdict;

export const STEPS: Step[] = [
  {
    title: "A flow that should pass",
    words:
      "In the book on the left, choose “ringing-desk → camhub web”. It should pass, but its marks show that it is blocked, in the running configuration and in the draft.",
    done: ({ location }) => location.test === FLOW,
  },
  {
    title: "Is a list to blame?",
    words:
      "Press b to see the same flow with no lists at all (d brings the draft back). It passes: routes and services are fine, so a list stops it.",
    done: ({ location, viewing }) => location.test === FLOW && viewing === "baseline",
  },
  {
    title: "Which one, and where?",
    words:
      "Press d and look at the trace: hide-gw drops the reply as it enters eth1. Choose the list hides-in, on the map or in the evidence beside the trace.",
    done: ({ location }) => /^(list:hides-in|point:hide-gw:eth1)/.test(location.chosen ?? ""),
  },
  {
    title: "Fix it in the draft",
    words:
      "In the editor on the right, above the deny entry, type: 25 permit tcp from @camhub to any established. While you type, the map, the trace and the book show it as a trial. Ctrl+S saves it to the draft.",
    done: (seen) => verdictOf(seen, "draft") === "passes",
  },
  {
    title: "The right place for a new list",
    words:
      "Press Esc. Above the book, choose the requirement “block visitors → ledger telnet”, which is violated. Press w to ask where a list should go. The first suggestion is where the visitors enter: centre-gw, eth1. Press a to take it.",
    done: ({ network }) =>
      network.draft.placements.some(
        ({ device, at, direction }) => device === "centre-gw" && at === "eth1" && direction === "in",
      ),
  },
  {
    title: "Apply it, with a way back",
    words:
      "Press Esc, then 5 for Changes. It lists every line and every flow that will change. Write why, and apply. The previous state stays under History.",
    done: (seen) =>
      verdictOf(seen, "running") === "passes" && configuration(seen.network.changes).length === 0,
  },
];
