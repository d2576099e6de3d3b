import { type ReactNode, useState } from "react";
import type { AccessList } from "../api/client";
import { ListEditor } from "../editor/ListEditor";
import { TidyAll } from "../editor/Tidy";
import { ListHeading, ListNote, PlacedAt } from "../inspector/ListPanel";
import { NewList } from "../inspector/NewList";
import { Rows } from "../kit/Rows";
import { Split, suited } from "../kit/Split";
import { wantFocus } from "../state/focus";
import { go, useLocation } from "../state/location";
import { timesPlaced } from "../state/points";
import { useOpened } from "../workbench/opened";

/** Every list, with room to write. */
export function ListsView() {
  const { network, make } = useOpened();
  const location = useLocation();
  const { lists, placements } = network.draft;
  const times = timesPlaced(placements);
  const [tidying, setTidying] = useState(false);
  const list = lists.find((each) => each.name === location.list) ?? lists[0];
  const beside = lists.find((each) => each.name === location.beside && each !== list);
  const names = (
    <aside aria-label="Lists" className="min-h-0 overflow-y-auto">
      <h2 className="px-4 pt-3 pb-1 font-semibold">Access lists</h2>
      <Rows
        items={lists}
        keyOf={(each) => each.name}
        current={list ? lists.indexOf(list) : -1}
        row={(each) => {
          const count = times.get(each.name) ?? 0;
          return (
            <button
              type="button"
              aria-current={each.name === list?.name ? "true" : undefined}
              onClick={() => {
                wantFocus(`list:${each.name}`);
                go({ list: each.name });
              }}
              className={`flex w-full items-baseline gap-2 border-l-[3px] px-4 py-1 text-left ${
                each.name === list?.name ? "border-ink bg-plate" : "border-transparent hover:bg-plate/70"
              }`}
            >
              <span className="font-mono text-code">{each.name}</span>
              <span className={`ml-auto text-fine ${count ? "quiet" : "text-ochre"}`}>
                {count ? `${count} ${count === 1 ? "place" : "places"}` : "placed nowhere"}
              </span>
            </button>
          );
        }}
      />
      <div className="px-4 py-3">
        <NewList onMade={(name) => go({ list: name })} />
        {lists.length > 0 && !tidying && (
          <button type="button" className="button mt-2" onClick={() => setTidying(true)}>
            Tidy all…
          </button>
        )}
      </div>
      {tidying && <TidyAll onClose={() => setTidying(false)} />}
    </aside>
  );
  const written = list ? (
    <div className={`grid min-h-0 ${beside ? "grid-cols-2" : "grid-cols-1"}`}>
      <Written list={list}>
        <div className="flex items-center gap-3 px-4 pb-6">
          <label className="quiet flex items-center gap-2">
            Beside it
            <select
              className="field"
              value={beside?.name ?? ""}
              onChange={(event) => go({ beside: event.target.value || null })}
            >
              <option value="">nothing</option>
              {lists
                .filter((each) => each.name !== list.name)
                .map((each) => (
                  <option key={each.name}>{each.name}</option>
                ))}
            </select>
          </label>
          <button
            type="button"
            className="quiet underline"
            onClick={async () => {
              if (await make({ do: "remove", collection: "lists", key: list.name })) go({ list: null });
            }}
          >
            Remove this list
          </button>
        </div>
        {beside && <Differences one={list} other={beside} />}
      </Written>
      {beside && (
        <Written list={beside}>
          <div className="px-4 pb-6">
            <button type="button" className="quiet underline" onClick={() => go({ beside: null })}>
              Close this one
            </button>
          </div>
        </Written>
      )}
    </div>
  ) : (
    <p className="quiet p-6">No lists yet. Give the first one a name on the left.</p>
  );
  return (
    <main className="grid min-h-0">
      <Split
        id="lists"
        across="horizontal"
        sides={[
          { id: "names", size: suited(0.21, 210, 300), label: "the names of lists", content: names },
          { id: "written", least: 300, content: written },
        ]}
      />
    </main>
  );
}

function Written({ list, children }: { list: AccessList; children: ReactNode }) {
  return (
    <div className="min-h-0 overflow-y-auto border-rule not-first:border-l">
      <div className="max-w-[860px]">
        <ListHeading list={list} />
        <ListNote key={`note of ${list.name}`} list={list} />
        <ListEditor key={list.name} list={list} />
        <PlacedAt list={list} />
        {children}
      </div>
    </div>
  );
}

/** Entries that stand in one list only, whatever their numbers and notes. */
function Differences({ one, other }: { one: AccessList; other: AccessList }) {
  const entries = (list: AccessList) =>
    new Set(
      (list.entries ?? "")
        .split("\n")
        .filter((line) => line && !line.startsWith("#"))
        .map((line) => line.replace(/^\d+ /, "").replace(/ # .*$/, "")),
    );
  const [here, there] = [entries(one), entries(other)];
  const only = [
    [one.name, [...here].filter((entry) => !there.has(entry))],
    [other.name, [...there].filter((entry) => !here.has(entry))],
  ] as const;
  if (only.every(([, lines]) => lines.length === 0)) {
    return <p className="px-4 pb-4">Both have the same entries.</p>;
  }
  return (
    <dl className="px-4 pb-4">
      {only.map(([name, lines]) => (
        <div key={name} className="mb-2">
          <dt className="font-semibold">
            {lines.length === 0 ? `Nothing stands in ${name} only` : `Only in ${name}`}
          </dt>
          {lines.slice(0, 40).map((line) => (
            <dd key={line} className="font-mono text-fine">
              {line}
            </dd>
          ))}
          {lines.length > 40 && <dd className="quiet">and {lines.length - 40} more</dd>}
        </div>
      ))}
    </dl>
  );
}
