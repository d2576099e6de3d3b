import type { ReachChange, TestMarks } from "../api/client";
import { type Previewed, useWorkbench } from "../shell/context";
import { bareFlow } from "../state/words";

/** The foot of the map: what dropping the carried list would do, or the trial that is on, by its name. */
export function Foot() {
  const { carried, preview, book, trial, putDown } = useWorkbench();
  const changes = preview.book && book ? changed(book.tests, preview.book.tests) : null;
  if (carried) {
    return (
      <div
        role="status"
        className="h-[2.9rem] overflow-y-auto border-t border-ochre bg-ochrewash px-4 py-1 leading-[1.15rem]"
        data-testid="placing"
      >
        <span className="font-semibold">{carried.list.name}</span>{" "}
        {carried.over ? carried.over.words : "is picked up: choose a place, with the arrows or the pointer"}
        {carried.over && changes && (
          <span>
            . {changeWords(changes)}
            {preview.reach && ` ${reachWords(preview.reach)}`}
          </span>
        )}
        <button type="button" className="ml-3 underline" onClick={putDown}>
          Put down (Esc)
        </button>
      </div>
    );
  }
  if (trial?.kind === "tried") return <Offer trial={trial} changes={changes} />;
  if (trial) {
    return (
      <p
        role="status"
        data-testid="tried"
        className="border-t border-ochre bg-ochrewash px-4 py-1.5 leading-[1.15rem]"
      >
        <span className="font-semibold">Trial: {trial.list} as it is written, not saved.</span>{" "}
        {changes ? changeWords(changes) : "Looking at the book…"}
      </p>
    );
  }
  return null;
}

/** A choice or repair that is tried: what it would do to the book, to be made or left. */
function Offer({ trial, changes }: { trial: Previewed; changes: string[] | null }) {
  const { preview, make } = useWorkbench();
  const leave = () => preview.show(null);
  return (
    <div
      role="status"
      data-testid="tried"
      className="flex min-h-[2.9rem] items-center gap-3 border-t border-ochre bg-ochrewash px-4 py-1 leading-[1.15rem]"
    >
      <p className="line-clamp-2 min-w-0 flex-1">
        <span className="font-semibold">Trial, not made: {trial.edit.label}.</span>{" "}
        {changes ? changeWords(changes) : "Looking at the book…"}
      </p>
      <button
        type="button"
        className="button button-strong"
        title="a"
        onClick={async () => {
          leave();
          await make(trial.edit);
        }}
      >
        Make it
      </button>
      <button type="button" className="button" title="v, Esc" onClick={leave}>
        Leave it
      </button>
    </div>
  );
}

const changeWords = (changes: string[]) =>
  changes.length === 0 ? "No verdict of the book would change." : `Would change: ${changes.join("; ")}.`;

/** How many cells of the reach matrix would change, and which way. */
function reachWords(reach: ReachChange): string {
  if (reach.changed === 0) return `Reach for ${reach.services.join(", ")} stays as it is.`;
  const ways = [reach.lose && `${reach.lose} lose traffic`, reach.gain && `${reach.gain} gain some`].filter(
    Boolean,
  );
  return `Reach: ${reach.changed} ${reach.changed === 1 ? "cell" : "cells"} would change${ways.length ? `, ${ways.join(", ")}` : ""}.`;
}

function changed(before: TestMarks[], after: TestMarks[]): string[] {
  const old = new Map(before.map((test) => [test.id, test.draft.verdict]));
  const words = after
    .filter((test) => old.get(test.id) !== test.draft.verdict)
    .map((test) => `${bareFlow(test.flow)} ${old.get(test.id)} → ${test.draft.verdict}`);
  return words.length > 3 ? [...words.slice(0, 3), `${words.length - 3} more`] : words;
}
