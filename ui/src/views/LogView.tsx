import { useState } from "react";
import type { LogLine } from "../api/client";
import { useCounters, useLog, useTraffic } from "../api/queries";
import { Failed } from "../kit/Failed";
import { fail } from "../kit/notices";
import { go } from "../state/location";
import { useOpened } from "../workbench/opened";

const DENIALS: Record<string, string> = {
  zones: "zones",
  sessions: "no such session",
  translations: "inside address",
};

/** What denied it, or let it pass: an entry, the end of a list, or none of a list's doing. */
const decider = ({ place, denial }: LogLine) =>
  place.list ? `${place.list} ${place.entry ?? "implicit end"}` : (DENIALS[denial ?? ""] ?? "");

/** What entries and devices wrote of the flows that were sent, and the counters of every entry. */
export function LogView() {
  const { id } = useOpened();
  const [text, setText] = useState("");
  const [action, setAction] = useState<"permit" | "deny" | "">("");
  const log = useLog(id, text, action);
  const counted = useCounters(id);
  const counters = counted.data ?? [];
  const { reset } = useTraffic(id, null);
  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)_380px]">
      <div className="min-h-0 overflow-y-auto px-6 py-4">
        <div className="mb-3 flex items-center gap-2">
          <h2 className="text-head font-semibold">Log</h2>
          <input
            className="field ml-4 w-[240px]"
            aria-label="Filter by address, port or protocol"
            placeholder="Address, port or protocol"
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
          <select
            className="field"
            aria-label="Filter by action"
            value={action}
            onChange={(event) => setAction(event.target.value as typeof action)}
          >
            <option value="">permitted and denied</option>
            <option value="permit">permitted</option>
            <option value="deny">denied</option>
          </select>
        </div>
        <Failed of={log} className="py-1" />
        {log.data?.length === 0 && (
          <p className="quiet">
            {text || action
              ? "No line is like that."
              : "Nothing yet. Entries with log write a line for each flow that is sent, and devices of the denials that their setting logs names; send one from its test."}
          </p>
        )}
        <table className="w-full">
          <tbody>
            {log.data?.map(({ at, line }, index) => (
              <tr key={`${at}${index}`} className="border-t border-rule align-top">
                <td className="quiet py-1 pr-3 whitespace-nowrap">{new Date(at).toLocaleTimeString()}</td>
                <td
                  className={`py-1 pr-3 font-semibold ${line.action === "deny" ? "text-clay" : "text-tide"}`}
                >
                  {line.action === "deny" ? "denied" : "permitted"}
                </td>
                <td className="py-1 pr-3">
                  {line.protocol} <span className="font-mono text-fine">{line.source}</span> →{" "}
                  <span className="font-mono text-fine">{line.destination}</span>
                  {line.count > 1 && <span className="quiet"> × {line.count}</span>}
                </td>
                <td className="py-1 text-right">
                  <button
                    type="button"
                    className="underline decoration-rule underline-offset-2"
                    onClick={() =>
                      go({
                        view: "map",
                        chosen: `point:${line.place.device}:${line.place.at}:${line.place.direction}`,
                      })
                    }
                  >
                    {decider(line)}, {line.place.device} {line.place.at}
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <aside aria-label="Counters" className="min-h-0 overflow-y-auto border-l border-rule px-5 py-4">
        <div className="mb-2 flex items-center">
          <h2 className="text-head font-semibold">Counters</h2>
          <button
            type="button"
            className="button ml-auto"
            disabled={counters.length === 0 || reset.isPending}
            onClick={() => reset.mutate(undefined, { onError: fail })}
          >
            Reset counters and log
          </button>
        </div>
        <Failed of={counted} className="" />
        {counted.data?.length === 0 && <p className="quiet">All are at zero.</p>}
        <ul>
          {counters.map(({ place, packets }) => (
            <li
              key={`${place.device}${place.at}${place.direction}${place.list}${place.entry}`}
              className="flex gap-3 border-t border-rule py-1"
            >
              <span className="w-[64px] text-right font-mono">{packets}</span>
              <span>
                {place.list} {place.entry ?? "implicit deny"}{" "}
                <span className="quiet">
                  {place.direction === "in" ? "entering" : "leaving"} {place.device} by {place.at}
                </span>
              </span>
            </li>
          ))}
        </ul>
      </aside>
    </main>
  );
}
