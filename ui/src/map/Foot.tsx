import { ActionButton } from "../actions/ActionButton";
import type { ReachChange, TestMarks } from "../api/client";
import { useReachForeseen } from "../api/queries";
import { useSettled } from "../state/useSettled";
import { bareFlow, FAMILY_WORDS } from "../state/words";
import { type Carried, useCarrying, useOver } from "../workbench/carrying";
import { useForeseen, useHovered } from "../workbench/foreseen";
import { useOpened, useVerdicts } from "../workbench/opened";
import { putDown } from "../workbench/picking";
import type { Trial } from "../workbench/store";
import { showTrial, useTrial } from "../workbench/trial";

/** Milliseconds over one place before reach is asked for: places that are only passed are not worth it. */
const RESTED = 80;

/** The foot of the map: what dropping the carried list would do, or the trial that is on, by its name. */
export function Foot() {
  const { book } = useVerdicts();
  const { trial } = useTrial();
  const { carried } = useCarrying();
  const { tests, error } = useForeseen();
  const changes = tests && book ? changed(book.tests, tests) : null;
  if (carried) return <Placing carried={carried} changes={changes} error={error} />;
  if (trial?.kind === "tried") return <Offer trial={trial} changes={changes} error={error} />;
  if (trial) {
    return (
      <p
        role="status"
        data-testid="tried"
        className="border-t border-ochre bg-ochrewash px-4 py-1.5 leading-[1.15rem]"
      >
        <span className="font-semibold">Trial: {trial.list} as typed, not saved.</span>{" "}
        {outcome(changes, error)}
      </p>
    );
  }
  return null;
}

interface ChangesProps {
  changes: string[] | null;
  error: Error | null;
}

/** What putting the carried list down here would do. */
function Placing({ carried, changes, error }: ChangesProps & { carried: Carried }) {
  const { id, network, at } = useOpened();
  const { usual } = useCarrying();
  const over = useOver();
  const hovered = useHovered();
  // A list that is picked up will be hovered somewhere: what reach is like now is asked for at once.
  const rested = useSettled(hovered, RESTED);
  const { data, error: unknown } = useReachForeseen(id, network.version, at, true, rested);
  const there = over && usual(over);
  const reach = hovered !== null && hovered === rested ? data?.change : null;
  return (
    <div
      role="status"
      className="h-[4rem] overflow-y-auto border-t border-ochre bg-ochrewash px-4 py-1 leading-[1.15rem]"
      data-testid="placing"
    >
      <span className="font-semibold">{carried.list.name}</span>{" "}
      {over ? over.words : "is picked up: choose a place, with the arrows or the pointer"}
      {there?.words && (
        <span className={there.here ? "font-semibold" : ""}>. {there.words.replace(/\.$/, "")}</span>
      )}
      {over && (changes || error) && (
        <span>
          . {outcome(changes, error)}
          {reach && ` ${reachWords(reach)}`}
          {unknown && ` The effect on reach is not known: ${unknown.message}`}
        </span>
      )}
      <button type="button" className="ml-3 underline" onClick={putDown}>
        Put down (Esc)
      </button>
    </div>
  );
}

/** A choice or repair that is tried: what it would do to the book, to be made or left. */
function Offer({ trial, changes, error }: ChangesProps & { trial: Trial }) {
  return (
    <div
      role="status"
      data-testid="tried"
      className="flex min-h-[2.9rem] items-center gap-3 border-t border-ochre bg-ochrewash px-4 py-1 leading-[1.15rem]"
    >
      <p className="line-clamp-2 min-w-0 flex-1">
        <span className="font-semibold">Trial, not made: {trial.label}.</span> {outcome(changes, error)}
      </p>
      <ActionButton action="choice.take" className="button button-strong">
        Make it
      </ActionButton>
      <button type="button" className="button" title="v, Esc" onClick={() => showTrial(null)}>
        Leave it
      </button>
    </div>
  );
}

/** What would come of it, as far as it is known. */
const outcome = (changes: string[] | null, error: Error | null) => {
  if (error) return `It cannot be tried: ${error.message}`;
  return changes ? changeWords(changes) : "Checking the test flows…";
};

const changeWords = (changes: string[]) =>
  changes.length === 0 ? "No test flow would change." : `Would change: ${changes.join("; ")}.`;

/** How many cells of the reach matrix would change, and which way. */
function reachWords(reach: ReachChange): string {
  const families = reach.families.map((family) => FAMILY_WORDS[family]).join(" and ");
  if (reach.changed === 0) return `Reach for ${reach.services.join(", ")} in ${families} stays as it is.`;
  const ways = [reach.lose && `${reach.lose} lose traffic`, reach.gain && `${reach.gain} gain some`].filter(
    Boolean,
  );
  return `Reach in ${families}: ${reach.changed} ${reach.changed === 1 ? "cell" : "cells"} would change${ways.length ? `, ${ways.join(", ")}` : ""}.`;
}

function changed(before: TestMarks[], after: TestMarks[]): string[] {
  const old = new Map(before.map((test) => [test.id, test.draft.verdict]));
  const words = after
    .filter((test) => old.get(test.id) !== test.draft.verdict)
    .map((test) => `${bareFlow(test.flow)} ${old.get(test.id)} → ${test.draft.verdict}`);
  return words.length > 3 ? [...words.slice(0, 3), `${words.length - 3} more`] : words;
}
