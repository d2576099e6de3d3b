import { type DragEvent, type KeyboardEvent, useEffect, useRef, useState } from "react";
import { ApiError } from "../api/client";
import { entriesFor, type TrafficRow, useSeen } from "../api/seen";
import { Failed } from "../kit/Failed";
import { fail, say } from "../kit/notices";
import { Stage } from "../kit/Stage";
import { VerdictShape } from "../marks/VerdictMark";
import { useAsTest } from "../policy/useAsTest";
import { counted } from "../state/words";
import { useOpened } from "../workbench/opened";

type Shown = "all" | "odd" | "stop" | "stopped";

const SHOWN: Record<Shown, string> = {
  all: "all",
  odd: "cannot be",
  stop: "the draft would stop",
  stopped: "stopped on the draft",
};

const holds: Record<Shown, (row: TrafficRow) => boolean> = {
  all: () => true,
  odd: (row) => row.odd !== null,
  stop: (row) => row.running === "passes" && row.draft !== "passes",
  stopped: (row) => row.draft !== null && row.draft !== "passes",
};

/** What was really there: captures, flow records and connection tables, with what becomes of it in each state. */
export function TrafficView() {
  const { id, network, at } = useOpened();
  const seen = useSeen(id, network.version, at);
  const [shown, setShown] = useState<Shown>("all");
  const [chosen, setChosen] = useState<number | null>(null);
  const report = seen.verdicts.data;
  const rows = report?.rows.filter(holds[shown]) ?? [];
  const nothing = seen.verdicts.error instanceof ApiError && seen.verdicts.error.status === 404;
  const row = report?.rows.find((each) => each.index === chosen) ?? null;
  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)_clamp(240px,26vw,360px)]">
      <div className="flex min-h-0 flex-col">
        <Files onFiles={seen.bring} again={report !== undefined} />
        <div className="px-6">
          {seen.reading && <Stage words="Reading the traffic" done={seen.standing.done} />}
          {seen.error && (
            <p role="alert" className="border-l-2 border-clay pl-3">
              {seen.error.message}
            </p>
          )}
          {seen.read && (
            <p className="quiet" data-testid="traffic-read">
              {kindsOf(seen.read.kinds)}: {counted(seen.read.records, "record")} of{" "}
              {counted(seen.read.conversations, "conversation")}
              {seen.read.about_others > 0 &&
                `; ${seen.read.about_others.toLocaleString()} say something about other packets`}
              {seen.read.left_out_count > 0 && (
                <span
                  className="text-ochre"
                  title={seen.read.left_out.map((each) => each.message).join("\n")}
                >
                  ; left out: {seen.read.left_out[0]?.message}
                  {seen.read.left_out_count > 1 && ` and ${seen.read.left_out_count - 1} more`}
                </span>
              )}
              .
            </p>
          )}
        </div>
        {!nothing && <Failed of={seen.verdicts} className="px-6 py-2" />}
        {report && (
          <>
            <fieldset className="flex flex-wrap gap-4 px-6 py-2">
              <legend className="sr-only">Which conversations to show</legend>
              {(Object.keys(SHOWN) as Shown[]).map((each) => (
                <label key={each} className="flex items-center gap-1.5">
                  <input type="radio" checked={shown === each} onChange={() => setShown(each)} />
                  {SHOWN[each]}: {countOf(each, report)}
                </label>
              ))}
            </fieldset>
            <Rows rows={rows} chosen={chosen} onChoose={setChosen} />
            {report.count > report.rows.length && (
              <p className="quiet px-6 py-1 text-fine">
                The {report.rows.length.toLocaleString()} most telling of {report.count.toLocaleString()} are
                listed.
              </p>
            )}
          </>
        )}
      </div>
      <aside aria-label="Conversation" className="min-h-0 overflow-y-auto border-l border-rule px-5 py-4">
        {row ? (
          <Chosen key={row.index} row={row} rows={rows} />
        ) : (
          <p className="quiet">
            Choose a conversation to turn it into a test flow or a requirement, or to see which entries would
            let it through.
          </p>
        )}
      </aside>
    </main>
  );
}

/** “a packet capture”, “3 of a packet capture”. */
function kindsOf(kinds: readonly string[]): string {
  return [...new Set(kinds)]
    .map((kind) => {
      const count = kinds.filter((each) => each === kind).length;
      return count === 1 ? kind : `${count} times ${kind}`;
    })
    .join(", ");
}

function countOf(
  shown: Shown,
  report: { count: number; cannot_be: number; would_stop: number; stopped: number },
): string {
  const counts = {
    all: report.count,
    odd: report.cannot_be,
    stop: report.would_stop,
    stopped: report.stopped,
  };
  return counts[shown].toLocaleString();
}

function Files({ onFiles, again }: { onFiles: (files: readonly File[]) => void; again: boolean }) {
  const field = useRef<HTMLInputElement>(null);
  const drop = (event: DragEvent) => {
    event.preventDefault();
    onFiles([...event.dataTransfer.files]);
  };
  return (
    <section
      aria-label="Traffic to bring in"
      className="flex items-center gap-3 px-6 py-3"
      onDragOver={(event) => event.preventDefault()}
      onDrop={drop}
    >
      <h2 className="text-head font-semibold">Traffic</h2>
      <button type="button" className="button" onClick={() => field.current?.click()}>
        {again ? "Bring in other traffic…" : "Bring in traffic…"}
      </button>
      <span className="quiet">
        {again
          ? "It takes the place of this."
          : "or drop it here: pcap, pcapng, IPFIX, CSV, JSON lines or a connection table, compressed or not"}
      </span>
      <input
        ref={field}
        type="file"
        multiple
        aria-label="Traffic files"
        className="hidden"
        onChange={(event) => {
          onFiles([...(event.target.files ?? [])]);
          event.target.value = "";
        }}
      />
    </section>
  );
}

interface RowsProps {
  rows: readonly TrafficRow[];
  chosen: number | null;
  onChoose: (index: number) => void;
}

const MOST_DRAWN = 300;

function Rows({ rows, chosen, onChoose }: RowsProps) {
  const [most, setMost] = useState(MOST_DRAWN);
  // biome-ignore lint/correctness/useExhaustiveDependencies: other rows begin at their beginning
  useEffect(() => setMost(MOST_DRAWN), [rows.length]);
  const step = (event: KeyboardEvent<HTMLElement>) => {
    const by = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!by) return;
    event.preventDefault();
    const every = [...event.currentTarget.querySelectorAll<HTMLElement>("button[data-seen]")];
    every[every.indexOf(document.activeElement as HTMLElement) + by]?.focus();
  };
  if (rows.length === 0) return <p className="quiet px-6">None.</p>;
  return (
    <div className="min-h-0 flex-1 overflow-auto border-t border-rule px-6" onKeyDown={step}>
      <table className="w-full">
        <thead className="sticky top-0 bg-fog text-left text-fine">
          <tr className="quiet">
            <th className="py-1 pl-2 font-normal">who → whom</th>
            <th className="font-normal">service</th>
            <th className="pr-3 text-right font-normal">packets</th>
            <th className="pr-3 text-right font-normal">bytes</th>
            <th className="pr-3 font-normal">
              <span className="flex">
                {["none", "run", "draft"].map((state) => (
                  <span key={state} className="w-[2.1rem] text-center">
                    {state}
                  </span>
                ))}
              </span>
            </th>
            <th className="font-normal">why</th>
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, most).map((row) => (
            <tr
              key={row.index}
              className={`border-t border-rule ${chosen === row.index ? "bg-plate shadow-[inset_3px_0_0_var(--ink)]" : ""}`}
            >
              <td className="py-0.5 pr-3 pl-2">
                <button
                  type="button"
                  data-seen={row.index}
                  className="text-left hover:underline"
                  onClick={() => onChoose(row.index)}
                >
                  <Party device={row.from_device} address={row.source} /> →{" "}
                  <Party device={row.to_device} address={row.destination} />
                </button>
              </td>
              <td className="pr-3 whitespace-nowrap">{row.service}</td>
              <td className="pr-3 text-right tabular-nums">{row.packets.toLocaleString()}</td>
              <td className="pr-3 text-right tabular-nums">{row.octets.toLocaleString()}</td>
              <td>
                <span className="flex">
                  {([row.baseline, row.running, row.draft] as const).map((verdict, index) => (
                    <span
                      key={index}
                      role="img"
                      className="flex w-[2.1rem] justify-center"
                      aria-label={`${["no lists", "running", "draft"][index]}: ${verdict ?? "cannot be tried"}`}
                    >
                      <VerdictShape shape={verdict ?? "unknown"} size={12} />
                    </span>
                  ))}
                </span>
              </td>
              <td className="text-fine">
                {row.odd && <span className="text-clay">{row.odd}</span>}
                {row.odd && row.decided && ": "}
                {row.decided && <span className="quiet">{row.decided}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > most && (
        <button type="button" className="quiet my-2 underline" onClick={() => setMost(most + MOST_DRAWN)}>
          {(rows.length - most).toLocaleString()} more
        </button>
      )}
    </div>
  );
}

const Party = ({ device, address }: { device: string | null; address: string }) =>
  device ? (
    <>
      {device} <span className="quiet font-mono text-fine">{address}</span>
    </>
  ) : (
    <span className="font-mono text-fine">{address}</span>
  );

function Chosen({ row, rows }: { row: TrafficRow; rows: readonly TrafficRow[] }) {
  const { id, make } = useOpened();
  const [entries, setEntries] = useState<Awaited<ReturnType<typeof entriesFor>> | null>(null);
  const alike = rows.filter((each) => each.decided !== null && each.decided === row.decided);
  const attempt = async (work: () => Promise<void>) => {
    try {
      await work();
    } catch (failed) {
      fail(failed);
    }
  };
  const asTest = useAsTest();
  const require = () =>
    attempt(async () => {
      if (row.statement && (await make({ do: "require", statement: row.statement })))
        say(`Required: ${row.statement}`);
    });
  const letThrough = (which: readonly TrafficRow[]) =>
    attempt(async () => {
      setEntries(
        await entriesFor(
          id,
          which.map((each) => each.index),
        ),
      );
    });
  return (
    <>
      <h3 className="mb-2 font-semibold [overflow-wrap:anywhere]">
        {row.from_device ?? row.source} → {row.to_device ?? row.destination} {row.service}
      </h3>
      <dl className="mb-3 grid grid-cols-[auto_1fr] gap-x-3">
        <dt className="quiet">from</dt>
        <dd className="font-mono text-fine">{row.source}</dd>
        <dt className="quiet">to</dt>
        <dd className="font-mono text-fine">{row.destination}</dd>
        <dt className="quiet">conversations</dt>
        <dd>
          {row.count.toLocaleString()}, {row.answered ? "answered" : "not answered"}
        </dd>
        {row.first > 0 && (
          <>
            <dt className="quiet">first</dt>
            <dd>{moment(row.first)}</dd>
            <dt className="quiet">last</dt>
            <dd>{moment(row.last)}</dd>
          </>
        )}
        <dt className="quiet">draft</dt>
        <dd>
          {row.draft ?? "cannot be tried"}
          {row.decided && <span className="quiet">: {row.decided}</span>}
        </dd>
      </dl>
      {row.odd && <p className="mb-3 border-l-2 border-clay pl-2">It cannot be: {row.odd}.</p>}
      <div className="mb-3 flex flex-wrap gap-2">
        <button
          type="button"
          className="button"
          disabled={!row.flow}
          onClick={() => attempt(() => asTest(`${row.flow} pass`, "Traffic"))}
        >
          Make it a test flow
        </button>
        <button type="button" className="button" disabled={!row.statement} onClick={require}>
          Require it
        </button>
        <button type="button" className="button" onClick={() => letThrough([row])}>
          Entries for it
        </button>
        {alike.length > 1 && (
          <button type="button" className="button" onClick={() => letThrough(alike)}>
            Entries for all {alike.length} that this entry stops
          </button>
        )}
      </div>
      {entries && (
        <>
          <Entries title="Just what was there" entries={entries.exact.entries} more={0} />
          {entries.few.entries.length < entries.exact.entries.length && (
            <Entries title="The fewest" entries={entries.few.entries} more={entries.few.more} />
          )}
        </>
      )}
    </>
  );
}

function Entries({ title, entries, more }: { title: string; entries: readonly string[]; more: number }) {
  return (
    <section aria-label={title} className="mb-3">
      <h4 className="font-semibold">
        {title}: {entries.length} {entries.length === 1 ? "entry" : "entries"}
      </h4>
      {more > 0 && (
        <p className="text-ochre">
          They would let {more.toLocaleString()} more pairs through than were there.
        </p>
      )}
      <pre className="my-1 max-h-60 overflow-auto bg-plate p-2 font-mono text-code whitespace-pre-wrap">
        {entries.join("\n")}
      </pre>
      <button
        type="button"
        className="quiet underline"
        onClick={() => navigator.clipboard?.writeText(`${entries.join("\n")}\n`)}
      >
        Copy
      </button>
    </section>
  );
}

const moment = (nanoseconds: number) => new Date(nanoseconds / 1e6).toLocaleString();
