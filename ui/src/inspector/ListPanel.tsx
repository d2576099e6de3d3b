import { useState } from "react";
import type { AccessList } from "../api/client";
import { ListEditor } from "../editor/ListEditor";
import { go, useLocation } from "../state/location";
import { pointKey } from "../state/points";
import { listWords } from "../state/words";
import { useOpened, usePoints } from "../workbench/opened";
import { pickUp } from "../workbench/picking";
import { useDragList } from "../workbench/useDragList";
import { Name } from "./Name";

/** A list: its entries, where it is placed, and picking it up. */
export function ListPanel({ list }: { list: AccessList }) {
  const { make } = useOpened();
  return (
    <>
      <ListHeading list={list} />
      <ListNote key={`note of ${list.name}`} list={list} />
      <ListEditor key={list.name} list={list} />
      <PlacedAt list={list} />
      <div className="px-4 pt-1 pb-4">
        <button
          type="button"
          className="quiet underline"
          onClick={async () => {
            if (await make({ do: "remove", collection: "lists", key: list.name }))
              go({ chosen: null, list: null });
          }}
        >
          Remove this list
        </button>
      </div>
    </>
  );
}

export function ListHeading({ list }: { list: AccessList }) {
  const location = useLocation();
  const startDrag = useDragList();
  const renamed = (name: string) => {
    const change = (key: string | null, was: string, is: string) => (key === was ? is : key);
    go({
      chosen: change(location.chosen, `list:${list.name}`, `list:${name}`),
      list: change(location.list, list.name, name),
      beside: change(location.beside, list.name, name),
    });
  };
  return (
    <div className="flex items-center gap-2 px-4 py-2">
      <Name collection="lists" name={list.name} onRenamed={renamed}>
        <h2
          className="cursor-grab touch-none font-mono text-head font-semibold"
          onPointerDown={startDrag(list, null)}
        >
          {list.name}
        </h2>
      </Name>
      <span className="quiet">{listWords(list)}</span>
      <button type="button" className="button ml-auto" onClick={() => pickUp(list, null)} title="p">
        Place…
      </button>
    </div>
  );
}

/** What is noted of a list, written where it is shown. */
export function ListNote({ list }: { list: AccessList }) {
  const { make } = useOpened();
  const [written, setWritten] = useState<string | null>(null);
  if (written === null) {
    return (
      <p className="quiet px-4 pb-2">
        {list.note}{" "}
        <button
          type="button"
          className="text-fine underline decoration-rule underline-offset-2"
          onClick={() => setWritten(list.note ?? "")}
        >
          {list.note ? "change the note" : "add a note"}
        </button>
      </p>
    );
  }
  const save = async () => {
    const note = written.trim();
    if (note === (list.note ?? "")) return setWritten(null);
    const made = await make({
      do: "put",
      label: `note of ${list.name}`,
      collection: "lists",
      item: { ...list, note },
    });
    if (made) setWritten(null);
  };
  return (
    <form
      className="px-4 pb-2"
      onSubmit={(event) => {
        event.preventDefault();
        save();
      }}
    >
      <input
        // biome-ignore lint/a11y/noAutofocus: it appears because it was asked for
        autoFocus
        aria-label={`Note of ${list.name}`}
        placeholder="Why it is there. Enter saves, Esc cancels"
        maxLength={2000}
        className="field w-full"
        value={written}
        onChange={(event) => setWritten(event.target.value)}
        onKeyDown={(event) => {
          if (event.key !== "Escape") return;
          event.stopPropagation();
          setWritten(null);
        }}
      />
    </form>
  );
}

export function PlacedAt({ list }: { list: AccessList }) {
  const { network } = useOpened();
  const { places } = usePoints();
  const placed = network.draft.placements.filter((each) => each.list === list.name);
  const words = new Map(places?.points.map((point) => [pointKey(point), point.words]));
  return (
    <div className="px-4 py-2">
      {placed.length === 0 ? (
        <p className="font-medium text-ochre">Not placed: it does nothing yet.</p>
      ) : (
        <>
          <h3 className="quiet">Placed</h3>
          <ul>
            {placed.map((each) => (
              <li key={pointKey(each)}>
                <button
                  type="button"
                  className="text-left underline decoration-rule underline-offset-2"
                  onClick={() => go({ view: "map", chosen: `point:${pointKey(each)}` })}
                >
                  {words.get(pointKey(each)) ?? `${each.device} ${each.at} ${each.direction}`}
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}
