import { useEffect, useState } from "react";
import type { MergeItem } from "../api/bringing";

interface MergeProps {
  items: readonly MergeItem[];
  same: number;
  chosen: ReadonlySet<string>;
  onChoose: (chosen: ReadonlySet<string>) => void;
}

export const keyOf = (item: MergeItem) => `${item.collection} ${item.key}`;

const WORDS: Record<MergeItem["collection"], string> = {
  devices: "device",
  links: "link",
  address_sets: "address set",
  port_sets: "port set",
  periods: "period",
  lists: "list",
  placements: "placement",
  requirements: "requirement",
  tests: "test flow",
  accepted: "accepted finding",
  positions: "position",
};

/** What was brought in beside the draft, item by item: what is ticked is put into it. */
export function Merge({ items, same, chosen, onChoose }: MergeProps) {
  const [shown, setShown] = useState<string | null>(null);
  useEffect(() => {
    onChoose(new Set(items.filter((item) => item.state === "new").map(keyOf)));
  }, [items, onChoose]);
  const toggle = (key: string) => {
    const next = new Set(chosen);
    if (!next.delete(key)) next.add(key);
    onChoose(next);
  };
  const all = (state: MergeItem["state"], on: boolean) => {
    const next = new Set(chosen);
    for (const item of items) {
      if (item.state !== state) continue;
      if (on) next.add(keyOf(item));
      else next.delete(keyOf(item));
    }
    onChoose(next);
  };
  return (
    <section aria-label="What to merge" className="flex min-h-0 flex-col">
      <p className="quiet mb-1">
        {same > 0 && `${same.toLocaleString()} are in the draft already. `}
        {(["new", "differs"] as const).map((state) => (
          <span key={state} className="mr-3 whitespace-nowrap">
            {items.filter((item) => item.state === state).length} {state === "new" ? "new" : "differ"}:{" "}
            <button type="button" className="underline" onClick={() => all(state, true)}>
              take all
            </button>{" "}
            <button type="button" className="underline" onClick={() => all(state, false)}>
              none
            </button>
          </span>
        ))}
      </p>
      <ul className="min-h-0 flex-1 overflow-y-auto border-y border-rule">
        {items.map((item) => {
          const key = keyOf(item);
          return (
            <li key={key} className="border-b border-rule py-0.5">
              <div className="flex items-center gap-2">
                <label className="flex min-w-0 flex-1 items-center gap-2">
                  <input type="checkbox" checked={chosen.has(key)} onChange={() => toggle(key)} />
                  <span className="truncate">
                    <span className="quiet">{WORDS[item.collection]}</span> {item.key}
                  </span>
                </label>
                <span className={item.state === "new" ? "text-tide" : "text-ochre"}>{item.state}</span>
                <button
                  type="button"
                  className="quiet pr-2 underline"
                  aria-expanded={shown === key}
                  aria-label={`Show ${WORDS[item.collection]} ${item.key}`}
                  onClick={() => setShown(shown === key ? null : key)}
                >
                  {shown === key ? "hide" : "show"}
                </button>
              </div>
              {shown === key && (
                <div className={`my-1 grid gap-3 text-fine ${item.before ? "grid-cols-2" : ""}`}>
                  {item.before && <Side title="in the draft" text={item.before} />}
                  <Side title="brought in" text={item.after} />
                </div>
              )}
            </li>
          );
        })}
      </ul>
    </section>
  );
}

const Side = ({ title, text }: { title: string; text: string }) => (
  <div className="min-w-0">
    <p className="quiet">{title}</p>
    <pre className="max-h-60 overflow-auto bg-fog p-2 font-mono">{text}</pre>
  </div>
);
