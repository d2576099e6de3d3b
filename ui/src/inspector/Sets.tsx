import { useState } from "react";
import type { SetCollection } from "../api/reading";
import { ExistingItemEditor } from "../editor/ItemEditor";
import { LineField } from "../editor/LineField";
import { Menu } from "../kit/Menu";
import { useOpened } from "../workbench/opened";

/** What one of a collection is called, what its line looks like, and what stands between its members. */
const KINDS: Record<SetCollection, [label: string, hint: string, between: string]> = {
  address_sets: ["Address set", "visitors 172.20.16.0/24 172.20.17.8", " "],
  port_sets: ["Port set", "web 80 443 8000-8080", " "],
  periods: ["Period", "by-day mon-fri 08:00-18:00, sat 10:00-16:00", ", "],
};
const COLLECTIONS = Object.keys(KINDS) as SetCollection[];

/** Address sets, port sets and periods: each a line, which is changed where it stands. */
export function Sets() {
  const { network } = useOpened();
  const [open, setOpen] = useState<{ collection: SetCollection; key: string; asText: boolean } | null>(null);
  const { address_sets, port_sets, periods } = network.draft;
  const sets = [
    ...address_sets.map((each) => ({ collection: "address_sets" as const, ...each })),
    ...port_sets.map((each) => ({ collection: "port_sets" as const, ...each })),
    ...periods.map(({ windows, ...each }) => ({ collection: "periods" as const, members: windows, ...each })),
  ];
  if (!sets.length) return <p className="quiet">No sets yet.</p>;
  if (open?.asText) {
    return (
      <div className="-mx-4">
        <ExistingItemEditor collection={open.collection} itemKey={open.key} onDone={() => setOpen(null)} />
      </div>
    );
  }
  return (
    <ul className="border-t border-rule">
      {sets.map(({ collection, name, members, note }) => (
        <li key={`${collection}${name}`} className="border-b border-rule py-1">
          {open?.collection === collection && open.key === name ? (
            <>
              <SetLine
                collection={collection}
                name={name}
                start={`${name} ${members.join(KINDS[collection][2])}`.trim()}
                onDone={() => setOpen(null)}
              />
              <button
                type="button"
                className="quiet text-fine underline"
                onClick={() => setOpen({ ...open, asText: true })}
              >
                With its note, as text…
              </button>
            </>
          ) : (
            <div className="flex items-baseline gap-2" title={note || undefined}>
              <button
                type="button"
                className="text-left font-mono text-code underline decoration-rule underline-offset-2"
                onClick={() => setOpen({ collection, key: name, asText: false })}
              >
                {collection === "periods" ? "" : "@"}
                {name}
              </button>
              <span className="quiet min-w-0 truncate font-mono text-fine">{members.join(", ")}</span>
            </div>
          )}
        </li>
      ))}
    </ul>
  );
}

/** Adding a set: a line, as they are changed. */
export function NewSet() {
  const [collection, setCollection] = useState<SetCollection | null>(null);
  if (collection) {
    return (
      <div className="mt-2">
        <SetLine collection={collection} name={null} start="" onDone={() => setCollection(null)} />
      </div>
    );
  }
  return (
    <Menu
      className="button mt-2"
      items={COLLECTIONS.map((each): [string, () => void] => [KINDS[each][0], () => setCollection(each)])}
    >
      Add a set ▾
    </Menu>
  );
}

interface LineProps {
  collection: SetCollection;
  /** Null for a new one. */
  name: string | null;
  start: string;
  onDone: () => void;
}

function SetLine({ collection, name, start, onDone }: LineProps) {
  const [label, hint] = KINDS[collection];
  return (
    <LineField
      label={name ?? `New ${label.toLowerCase()}`}
      hint={hint}
      line={{ of: "set", collection, key: name }}
      start={start}
      edit={name ? `edit ${name}` : `new ${label.toLowerCase()}`}
      removes={name !== null}
      onDone={onDone}
    />
  );
}
