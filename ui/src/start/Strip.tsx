import { useEffect, useState } from "react";
import { useFaults } from "../api/reading";
import { Failed } from "../kit/Failed";
import { keepExercise, keepWalk, readExercise, readWalk } from "../state/kept";
import { go, goToTest, useLocation } from "../state/location";
import { useOpened, useVerdicts } from "../workbench/opened";
import { useTrial } from "../workbench/trial";
import { STEPS } from "./steps";

/** A strip above the workbench while one walks through the demo, or looks for the storm's faults. */
export function Strip() {
  const { id } = useOpened();
  const [walk, setWalk] = useState(readWalk);
  const [exercise] = useState(readExercise);
  if (walk?.network === id) {
    return (
      <WalkStrip
        step={walk.step}
        onStep={(step) => {
          const next = step === null ? null : { network: id, step };
          keepWalk(next ?? walk);
          setWalk(next);
        }}
      />
    );
  }
  return exercise?.network === id ? <ExerciseStrip /> : null;
}

function WalkStrip({ step, onStep }: { step: number; onStep: (step: number | null) => void }) {
  const { network } = useOpened();
  const { book, trying } = useVerdicts();
  const { viewing } = useTrial();
  const location = useLocation();
  const current = STEPS[step];
  const done = current?.done({ book, trying, network, location, viewing }) ?? false;
  if (!current) {
    return (
      <Bar label="Walk">
        <p className="min-w-0 flex-1">
          <strong>That was the walk.</strong> You saw a block, its cause, its repair and its side effects, and
          you kept a way back. Start a network of your own on the start page.
        </p>
        <button type="button" className="button" onClick={() => onStep(null)}>
          Close
        </button>
      </Bar>
    );
  }
  return (
    <Bar label="Walk">
      <p className="min-w-0 flex-1" data-testid="walk">
        <strong>
          {step + 1} of {STEPS.length}: {current.title}.
        </strong>{" "}
        {current.words}
      </p>
      <button
        type="button"
        className={done ? "button button-strong" : "button"}
        onClick={() => onStep(step + 1)}
      >
        {done ? "Done: next step" : "Skip"}
      </button>
      <button
        type="button"
        className="button"
        title="The start page brings you back to this step"
        onClick={() => onStep(null)}
      >
        Leave
      </button>
    </Bar>
  );
}

function ExerciseStrip() {
  const { id } = useOpened();
  const { book, trying } = useVerdicts();
  const read = useFaults();
  const faults = read.data;
  const [hinted, setHinted] = useState(false);
  const holds = new Set(
    book?.tests.filter((test) => test.draft.judgement?.standing === "holds").map((test) => test.id),
  );
  const open = faults?.filter((fault) => !holds.has(fault.test)) ?? [];
  const known = book !== undefined && faults !== undefined && !trying.stale;
  const found = known ? faults.length - open.length : null;
  useEffect(() => {
    if (known && found !== null) keepExercise({ network: id, found, of: faults.length });
  }, [id, known, found, faults]);
  return (
    <Bar label="Exercise">
      <Failed of={read} className="" />
      <p className="min-w-0 flex-1" data-testid="exercise">
        <strong>After the storm:</strong>{" "}
        {found === null
          ? !read.error && "the book is being tried…"
          : open.length === 0
            ? `all ${faults?.length} faults found and fixed. Well done.`
            : `${found} of ${faults?.length} faults found and fixed. Each makes a test flow fail; some hide behind others.`}
        {hinted && open.length > 0 && (
          <>
            {" "}
            Still open:{" "}
            {open.map((fault, place) => (
              <span key={fault.test}>
                {place > 0 && "; "}
                <button type="button" className="underline" onClick={() => goToTest(fault.test)}>
                  {fault.about}
                </button>
              </span>
            ))}
            .
          </>
        )}
      </p>
      {open.length > 0 && (
        <button type="button" className="button" aria-pressed={hinted} onClick={() => setHinted(!hinted)}>
          {hinted ? "No hints" : "Hints"}
        </button>
      )}
      <button type="button" className="button" onClick={() => go({ network: null })}>
        Leave
      </button>
    </Bar>
  );
}

const Bar = ({ label, children }: { label: string; children: React.ReactNode }) => (
  <section
    aria-label={label}
    className="flex max-h-[7rem] items-center gap-2 overflow-y-auto border-b border-tide bg-tidewash px-4 py-1.5"
  >
    {children}
  </section>
);
