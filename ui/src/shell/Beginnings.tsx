import type { NetworkSummary } from "../api/client";
import { answer, api } from "../api/client";
import { STEPS } from "../start/steps";
import { keepExercise, keepWalk, readExercise, readWalk } from "../state/kept";

/** A demo network, made anew. */
export const makeDemo = (which: "saltmarsh" | "storm") =>
  answer(api.POST("/api/networks/demo", { params: { query: { which } } }));

interface Props {
  networks: NetworkSummary[] | undefined;
  attempt: (work: () => Promise<unknown>) => Promise<void>;
  onOpen: (id: string) => void;
}

/** The walk and the exercise: begun, or gone on with where their network is still kept. */
export function Beginnings({ networks, attempt, onOpen }: Props) {
  const kept = (id: string) => networks?.some((each) => each.id === id) ?? false;
  const walk = readWalk();
  const walking = walk && kept(walk.network) && walk.step < STEPS.length ? walk : null;
  const exercise = readExercise();
  const searched = exercise && kept(exercise.network) ? exercise : null;
  const searching = searched && searched.found < searched.of ? searched : null;
  const begin = () =>
    attempt(async () => {
      if (walking) return onOpen(walking.network);
      const { id } = await makeDemo("saltmarsh");
      keepWalk({ network: id, step: 0 });
      onOpen(id);
    });
  const practise = () =>
    attempt(async () => {
      if (searching) return onOpen(searching.network);
      const [{ id }, faults] = await Promise.all([makeDemo("storm"), answer(api.GET("/api/exercise"))]);
      keepExercise({ network: id, found: 0, of: faults.length });
      onOpen(id);
    });
  return (
    <div className="mb-8 grid gap-x-8 gap-y-3 border-y border-rule py-4 sm:grid-cols-2">
      <Beginning
        title="A walk of six steps"
        words="The demo, in the real workbench: a blocked flow, its cause, its repair. Leave at any time."
        label={walking && walking.step > 0 ? `Continue at step ${walking.step + 1}` : "Begin the walk"}
        onBegin={begin}
      />
      <Beginning
        title="After the storm"
        words={
          searched
            ? `An exercise: ${searched.found} of ${searched.of} faults found and fixed.`
            : "An exercise: the same network with faults planted in it. How many do you find?"
        }
        label={searching ? "Go on searching" : "After the storm: find the faults"}
        onBegin={practise}
      />
    </div>
  );
}

interface BeginningProps {
  title: string;
  words: string;
  label: string;
  onBegin: () => void;
}

const Beginning = ({ title, words, label, onBegin }: BeginningProps) => (
  <section aria-label={title} className="flex flex-col items-start gap-1">
    <h2 className="font-semibold">{title}</h2>
    <p className="quiet flex-1">{words}</p>
    <button type="button" className="button mt-1" onClick={onBegin}>
      {label}
    </button>
  </section>
);
