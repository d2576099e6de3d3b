import { type FormEvent, useState } from "react";
import { useTimes } from "../api/queries";
import { Failed } from "../kit/Failed";
import { Menu } from "../kit/Menu";
import { go } from "../state/location";
import { useOpened } from "../workbench/opened";

const MOMENT = /^(mon|tue|wed|thu|fri|sat|sun|\d{4}-\d{2}-\d{2}) ([01]?\d|2[0-3]):[0-5]\d$/;

/** Which moment the whole workbench shows: all times, one of each span, or any other. Not there while no entry
 * depends on the time. */
export function Moment() {
  const { id, network, at } = useOpened();
  const [writing, setWriting] = useState(false);
  const times = useTimes(id, network.version);
  const spans = times.data ?? [];
  if (times.error) return <Failed of={times} className="text-fine" />;
  if (spans.length < 2 && !at) return null;
  if (writing) return <Another start={at ?? ""} onDone={() => setWriting(false)} />;
  const now = spans.find((span) => span.at === at)?.when ?? (at ? `at ${at}` : "at all times");
  return (
    <Menu
      className={`max-w-[11rem] truncate rounded px-1.5 ${at ? "bg-ochrewash font-semibold text-ochre" : "quiet"}`}
      items={[
        ["At all times", () => go({ at: null })],
        ...spans.map((span): [string, () => void] => [capitalised(span.when), () => go({ at: span.at })]),
        ["Another moment…", () => setWriting(true)],
      ]}
    >
      <span className="sr-only">Shown: </span>
      {now} <span aria-hidden="true">▾</span>
    </Menu>
  );
}

const capitalised = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

function Another({ start, onDone }: { start: string; onDone: () => void }) {
  const [text, setText] = useState(start);
  const [wrong, setWrong] = useState(false);
  const look = (event: FormEvent) => {
    event.preventDefault();
    const moment = text.trim().toLowerCase().replace(/\s+/, " ");
    if (!MOMENT.test(moment)) {
      setWrong(true);
      return;
    }
    go({ at: moment });
    onDone();
  };
  return (
    <form onSubmit={look} className="flex items-center gap-1">
      <label>
        <span className="sr-only">Moment, such as tue 14:00 or 2026-12-25 10:00</span>
        <input
          // biome-ignore lint/a11y/noAutofocus: it was asked for just now
          autoFocus
          value={text}
          placeholder="tue 14:00"
          aria-invalid={wrong}
          className="field w-36"
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => event.key === "Escape" && onDone()}
        />
      </label>
      {wrong && (
        <span role="alert" className="text-fine text-clay">
          Write tue 14:00, or 2026-12-25 10:00
        </span>
      )}
    </form>
  );
}
