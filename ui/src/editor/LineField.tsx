import { useState } from "react";
import type { Intent, ItemReading } from "../api/client";
import { askedOf, type LineOf, readLine, useLineReading } from "../api/reading";
import { Failed } from "../kit/Failed";
import { fail, say } from "../kit/notices";
import { useOpened } from "../workbench/opened";
import { NotationField } from "./NotationField";

interface Props {
  label: string;
  hint: string;
  /** What such a line makes, and which part it changes. */
  line: LineOf;
  start: string;
  /** What is proposed to be written where there is nothing yet. */
  offered?: string;
  /** What the edit is called. */
  edit: string;
  removes?: boolean;
  /** Called when nothing more is to be done, with the key of what was put, if something was. */
  onDone: (key: string | null) => void;
  /** What else is to be done in the same edit, once it is known what the line says. */
  also?: (read: ItemReading) => Intent[];
}

/** A line that is read by the server at every key and becomes an edit of the draft by Enter. */
export function LineField({ label, hint, line, start, offered = "", edit, removes, onDone, also }: Props) {
  const { id, network, make } = useOpened();
  const [text, setText] = useState(start || offered);
  const [tried, setTried] = useState(false);
  const written = text.trim() !== "" && text !== start;
  const reading = useLineReading(id, network.version, line, text, written);
  // The word that is being written is no mistake before Enter says that it is whole.
  const problem = text.trim() === "" ? undefined : reading.data?.problems[0];
  const shown = problem && (tried || (problem.end ?? 0) <= text.length) ? problem : undefined;

  const put = async (written: string | null, called: string) => {
    const read = await readLine(id, line, written).catch((error: Error) => {
      fail(error);
      return null;
    });
    if (!read?.change) {
      setTried(true);
      if (written === null && read?.problems[0]) say(read.problems[0].message);
      return;
    }
    const own: Intent = { do: "changes", label: called, made: [read.change] };
    const more = also?.(read) ?? [];
    const intent: Intent = more.length ? { do: "together", label: called, intents: [own, ...more] } : own;
    if (await make(intent)) onDone(read.change.key);
  };

  return (
    <div
      onKeyDown={(event) => {
        if (event.key !== "Escape" || event.defaultPrevented) return;
        event.stopPropagation();
        onDone(null);
      }}
    >
      <NotationField
        network={id}
        asked={askedOf(line)}
        label={label}
        hint={hint}
        value={text}
        invalid={shown !== undefined}
        focused
        onChange={(next) => {
          setText(next);
          setTried(false);
        }}
        onSubmit={() => (text.trim() && text !== start ? put(text, edit) : onDone(null))}
      />
      <Failed of={reading} className="mt-1 text-fine" />
      {shown && (
        <p role="alert" className="mt-1 text-fine text-clay">
          {shown.where === "text" ? "" : `${shown.where}: `}
          {shown.message}
        </p>
      )}
      <div className="quiet flex gap-3 pt-0.5 text-fine">
        <span>Enter saves, Esc cancels</span>
        {removes && (
          <button
            type="button"
            className="ml-auto underline"
            onClick={() => put(null, `${edit}: take “${start}” out`)}
          >
            Remove it
          </button>
        )}
      </div>
    </div>
  );
}
