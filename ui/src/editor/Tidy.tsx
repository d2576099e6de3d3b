import type { AccessList, Change, TidiedList } from "../api/client";
import { useAllTidied, useTidied } from "../api/computed";
import { Failed } from "../kit/Failed";
import { Stage } from "../kit/Stage";
import { go } from "../state/location";
import { counted } from "../state/words";
import { useOpened } from "../workbench/opened";

interface ListProps {
  list: AccessList;
  /** Its entries as they are typed. */
  text: string;
  onTake: (entries: string) => void;
  onClose: () => void;
}

/** How a list could be shorter and decide alike: what becomes of which entries, to be taken or left. */
export function TidyList({ list, text, onTake, onClose }: ListProps) {
  const { id, network } = useOpened();
  const found = useTidied(id, network.version, list, text);
  const { data, done } = found;
  return (
    <section aria-label="Tidy" className="border-t border-rule bg-plate px-3 py-2">
      <Failed of={found} />
      {!data && !found.error && <Stage words="Every packet will be decided as before" done={done} />}
      {data && (
        <>
          <h3 className="font-semibold">{shortened(data)}</h3>
          <Steps of={data} />
          <div className="mt-2 flex gap-2">
            {data.steps.length > 0 && (
              <button type="button" className="button button-strong" onClick={() => onTake(data.entries)}>
                Use these entries
              </button>
            )}
            <button type="button" className="button" onClick={onClose}>
              Close
            </button>
          </div>
        </>
      )}
    </section>
  );
}

/** All lists that could be shorter, taken in one edit. */
export function TidyAll({ onClose }: { onClose: () => void }) {
  const { id, network, make } = useOpened();
  const found = useAllTidied(id, network.version);
  const { data, done } = found;
  const shorter = data?.lists ?? [];
  const take = async () => {
    const changes = shorter.flatMap(({ name, entries }): Change[] => {
      const list = network.draft.lists.find((each) => each.name === name);
      return list ? [{ collection: "lists", key: name, item: { ...list, entries } }] : [];
    });
    const label = `tidy ${counted(changes.length, "list")}`;
    if (await make({ do: "changes", label, made: changes })) onClose();
  };
  return (
    <section aria-label="Tidy all lists" className="border-y border-rule bg-plate px-4 py-2">
      <Failed of={found} />
      {!data && !found.error && <Stage words="Checking all lists" done={done} />}
      {data && shorter.length === 0 && <p>No list can be shorter.</p>}
      <ul>
        {shorter.map((each) => (
          <li key={each.name} className="mb-1">
            <details>
              <summary className="cursor-pointer">
                <span className="font-mono text-code">{each.name}</span> {each.before} → {each.after}
              </summary>
              <Steps of={each} />
              <button type="button" className="quiet underline" onClick={() => go({ list: each.name })}>
                Open the list
              </button>
            </details>
          </li>
        ))}
      </ul>
      <div className="mt-2 flex gap-2">
        {shorter.length > 0 && (
          <button type="button" className="button button-strong" onClick={take}>
            Tidy {counted(shorter.length, "list")}
          </button>
        )}
        <button type="button" className="button" onClick={onClose}>
          Close
        </button>
      </div>
    </section>
  );
}

function shortened({ before, after, steps }: TidiedList): string {
  if (!steps.length) return `No shorter list was found: ${counted(before, "entry", "entries")}.`;
  return `${counted(before, "entry", "entries")} can be ${after}, with every packet decided as before`;
}

const MOST_STEPS = 60;

/** What becomes of entries, by their numbers. */
function Steps({ of: { steps } }: { of: TidiedList }) {
  return (
    <ol className="mt-1 grid grid-cols-[auto_1fr] gap-x-3">
      {steps.slice(0, MOST_STEPS).map((step) => (
        <li key={`${step.of.join()} ${step.why}`} className="contents">
          <span className="font-mono text-code">
            {step.of.join(", ")} {step.into === null ? "✗" : `→ ${step.into}`}
          </span>
          <span className={step.doubtful ? "text-ochre" : undefined}>{step.why}</span>
        </li>
      ))}
      {steps.length > MOST_STEPS && <li className="quiet">and {steps.length - MOST_STEPS} more steps</li>}
    </ol>
  );
}
