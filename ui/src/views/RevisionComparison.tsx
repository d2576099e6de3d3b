import { useComparedRevisions } from "../api/computed";
import { Failed } from "../kit/Failed";
import { Stage } from "../kit/Stage";
import { useOpened } from "../workbench/opened";

/** Two revisions, or a revision and the draft (null). */
export interface Pair {
  before: number;
  after: number | null;
}

const named = (number: number | null) => (number === null ? "the draft" : `revision ${number}`);
const INDENTS = ["", "pl-4", "pl-8"];

/** What the later of two revisions has otherwise, and what that comes to. */
export function RevisionComparison({ pair, onClose }: { pair: Pair; onClose: () => void }) {
  const { id, network } = useOpened();
  const { before, after } = pair;
  const found = useComparedRevisions(id, network.version, before, after);
  return (
    <section aria-label="Comparison" className="mb-5 border-y border-rule bg-plate px-4 py-3">
      <div className="flex items-start justify-between gap-3">
        <h2 className="text-head font-semibold">
          From revision {before} to {named(after)}
        </h2>
        <button type="button" className="button" onClick={onClose}>
          Close
        </button>
      </div>
      <Failed of={found} className="" />
      {!found.data && !found.error && <Stage words="Comparing both revisions" done={found.done} />}
      {found.data && <p>{found.data.sentence}.</p>}
      {found.data?.sections.map(({ title, lines }) => (
        <section key={title} aria-label={title} className="mt-3">
          <h3 className="font-semibold">{title}</h3>
          <ul>
            {lines.map(({ text, depth, written }, number) => (
              <li
                key={number}
                className={`${INDENTS[depth] ?? "pl-8"} ${written ? "font-mono text-fine" : ""} break-words`}
              >
                {text}
              </li>
            ))}
          </ul>
        </section>
      ))}
    </section>
  );
}

interface ChooserProps {
  /** The newest first. */
  numbers: number[];
  onChoose: (pair: Pair) => void;
}

/** Which two are compared. */
export function RevisionChooser({ numbers, onChoose }: ChooserProps) {
  const choose = (form: HTMLFormElement) => {
    const chosen = new FormData(form);
    const after = Number(chosen.get("after"));
    onChoose({ before: Number(chosen.get("before")), after: after || null });
  };
  return (
    <form
      className="mb-2 flex flex-wrap items-center gap-2"
      aria-label="Compare revisions"
      onSubmit={(event) => {
        event.preventDefault();
        choose(event.currentTarget);
      }}
    >
      <label className="flex items-center gap-1">
        <span className="quiet">From</span>
        <select
          name="before"
          aria-label="From revision"
          className="field"
          defaultValue={numbers[1] ?? numbers[0]}
        >
          {numbers.map((number) => (
            <option key={number} value={number}>
              {number}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-1">
        <span className="quiet">to</span>
        <select name="after" aria-label="To revision" className="field" defaultValue="">
          <option value="">the draft</option>
          {numbers.map((number) => (
            <option key={number} value={number}>
              {number}
            </option>
          ))}
        </select>
      </label>
      <button type="submit" className="button">
        Compare
      </button>
    </form>
  );
}
