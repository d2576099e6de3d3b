import { type KeyboardEvent, useEffect, useRef } from "react";
import type { Device, ExchangeReport, HopReport, State, StepReport, TestFlow } from "../api/client";
import { seenOf, useLastRehearsal } from "../api/rehearsal";
import { Failed } from "../kit/Failed";
import { Split, suited } from "../kit/Split";
import { Times } from "../marks/Times";
import { VerdictShape } from "../marks/VerdictMark";
import { go } from "../state/location";
import { bareFlow } from "../state/words";
import { useForeseen } from "../workbench/foreseen";
import { useHandler } from "../workbench/handlers";
import { useOpened, useVerdicts } from "../workbench/opened";
import { type LookedAt, share, useShared } from "../workbench/store";
import { useTracing } from "../workbench/tracing";
import { useTrial, type Viewing, view } from "../workbench/trial";
import { type Column, columnsOf } from "./columns";
import { Evidence } from "./Evidence";
import { Seen } from "./Seen";

const STATES: [State, string][] = [
  ["baseline", "no lists"],
  ["running", "running"],
  ["draft", "draft"],
];

/** Below the map: the decisions in every device along the path, the way out above, the way home below. */
export function Trace() {
  const { network } = useOpened();
  const tracing = useTracing();
  const { test, shown } = tracing;
  if (!test) {
    return (
      <section aria-label="Trace" className="border-t border-rule px-4 py-3">
        <p className="quiet">Choose a test flow to see its path, hop by hop, and what decides it.</p>
      </section>
    );
  }
  const goal = goalOf(test, network.draft.devices);
  return (
    <section
      aria-label="Trace"
      data-keys
      tabIndex={-1}
      className="grid min-h-0 min-w-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_minmax(0,1fr)] outline-none"
    >
      <Header test={test} />
      {shown ? (
        <Split
          id="trace"
          across="horizontal"
          sides={[
            {
              id: "hops",
              least: 300,
              content: <Table columns={columnsOf(shown, goal)} />,
            },
            {
              id: "evidence",
              size: suited(0.23, 232, 336),
              label: "the evidence",
              content: <Evidence exchange={shown} />,
            },
          ]}
        />
      ) : (
        <div className="px-4 py-3">
          {tracing.missing ? (
            <p className="quiet">
              Not running yet: {tracing.missing} is in the draft only, until it is applied.
            </p>
          ) : (
            <>
              <Failed of={tracing} className="" />
              {!tracing.error && <p className="quiet">Tracing…</p>}
            </>
          )}
        </div>
      )}
    </section>
  );
}

/** The device that a flow is meant for, when it names one. */
function goalOf(test: TestFlow, devices: Device[]): string | null {
  const end = test.flow.split(" ")[2] ?? "";
  const name = end.split(":")[0] ?? "";
  return devices.some((device) => device.name === name) ? name : null;
}

function Header({ test }: { test: TestFlow }) {
  const { book, trying } = useVerdicts();
  const { trace, exchange, shown } = useTracing();
  const { trial, viewing } = useTrial();
  const { tests: foreseen } = useForeseen();
  const states: [Viewing, string][] = trial ? [...STATES, ["trial", "trial"]] : STATES;
  const tried = foreseen?.find((each) => each.id === test.id);
  const where = {
    baseline: "with no lists",
    running: "as running",
    draft: "on the draft",
    trial: "in the trial",
  };
  const verdictOf = (state: Viewing) => {
    if (state === "trial")
      return tried?.draft.verdict ?? (trace && viewing === "trial" ? trace.verdict : null);
    return marks && !trying.stale ? marks[state].verdict : null;
  };
  const marks = book?.tests.find((each) => each.id === test.id);
  return (
    <div className="flex flex-wrap items-center gap-x-3 border-b border-rule px-4 py-1">
      <h2 className="font-semibold whitespace-nowrap">{bareFlow(test.flow)}</h2>
      <fieldset className="flex flex-wrap rounded border border-rule">
        <legend className="sr-only">Lists in force</legend>
        {states.map(([state, label]) => (
          <label
            key={state}
            className={`flex cursor-pointer items-center gap-1.5 px-2 whitespace-nowrap has-focus-visible:outline-2 has-focus-visible:outline-tide ${
              viewing === state
                ? state === "trial"
                  ? "bg-ochrewash font-semibold text-ochre"
                  : "bg-plate font-semibold"
                : "quiet"
            }`}
          >
            <input
              type="radio"
              name="state"
              className="sr-only"
              checked={viewing === state}
              onChange={() => view(state)}
            />
            <VerdictShape shape={verdictOf(state) ?? "unknown"} size={12} />
            {label}
          </label>
        ))}
      </fieldset>
      {trace && (trace.exchanges.length > 1 || trace.queries.length > 0) && (
        <div
          role="tablist"
          aria-label="Equal-cost paths"
          className="flex min-w-0 items-center gap-1 overflow-x-auto"
        >
          {trace.queries.map((each, index) => {
            const number = index - trace.queries.length;
            return (
              <button
                key={each.resolver}
                type="button"
                role="tab"
                aria-selected={exchange === number}
                aria-label={`query for ${each.name} to ${each.resolver}, ${each.verdict}`}
                title={`${each.resolver}: ${each.text}`}
                onClick={() => share({ exchange: number })}
                className={`flex items-center gap-1 border-b-2 px-1.5 whitespace-nowrap ${
                  exchange === number ? "border-ink" : "quiet border-transparent"
                }`}
              >
                <VerdictShape shape={each.verdict} size={11} /> name query
              </button>
            );
          })}
          <span className="quiet">path</span>
          {trace.exchanges.map((each, index) => (
            <button
              key={index}
              type="button"
              role="tab"
              aria-selected={exchange === index}
              aria-label={`path ${index + 1}, ${each.verdict}`}
              onClick={() => share({ exchange: index })}
              className={`flex items-center gap-1 border-b-2 px-1.5 ${
                exchange === index ? "border-ink" : "quiet border-transparent"
              }`}
            >
              <VerdictShape shape={each.verdict} size={11} /> {index + 1}
            </button>
          ))}
          {trace.more_paths && <span className="quiet">and more</span>}
        </div>
      )}
      {trace && <Times of={trace.times} />}
      {trace && (
        <p
          className="quiet min-w-0 flex-1 truncate"
          data-testid="sentence"
          title={`${trace.flow} ${where[viewing]}: ${trace.text}.`}
        >
          <span className="sr-only">{trace.flow} </span>
          {where[viewing]}: {trace.text}.
        </p>
      )}
      <button
        type="button"
        className="quiet ml-auto whitespace-nowrap underline"
        onClick={() => navigator.clipboard?.writeText(asText(shown))}
      >
        Copy as text
      </button>
      <button type="button" className="quiet underline" onClick={() => go({ test: null, chosen: null })}>
        Close
      </button>
    </div>
  );
}

function Table({ columns }: { columns: Column[] }) {
  const { id, network } = useOpened();
  const { test, exchange, shown } = useTracing();
  const hop = useShared((shared) => shared.hop);
  const { viewing } = useTrial();
  const last = useLastRehearsal(id, network.version).data?.last;
  const tried = test && viewing === "draft" ? seenOf(last, test.id, exchange < 0) : undefined;
  const home = shown?.home;
  const body = useRef<HTMLDivElement>(null);
  const decided = shown && shown.verdict !== "passes" ? shown.decided_on : null;

  const entering = useRef(false);
  useHandler("trace.enter", () => {
    entering.current = true;
    share({ hop: decidingHop(columns) });
  });

  useEffect(() => {
    const cell = body.current?.querySelector<HTMLElement>(
      hop ? `[data-hop="${hop.way}${hop.index}"]` : "[data-decides]",
    );
    cell?.scrollIntoView({ block: "nearest", inline: "nearest" });
    if (hop && (entering.current || body.current?.contains(document.activeElement))) cell?.focus();
    entering.current = false;
  }, [hop]);

  const step = (event: KeyboardEvent) => {
    const way = hop?.way ?? decided ?? "out";
    const count = shown?.[way]?.hops.length ?? 0;
    const at = hop?.index ?? -1;
    // On screen the way home runs from right to left.
    const forward = way === "out" ? "ArrowRight" : "ArrowLeft";
    const backward = way === "out" ? "ArrowLeft" : "ArrowRight";
    if (event.key === forward) share({ hop: { way, index: Math.min(at + 1, count - 1) } });
    else if (event.key === backward) share({ hop: { way, index: Math.max(at - 1, 0) } });
    else if (event.key === "ArrowDown" && home) share({ hop: { way: "home", index: 0 } });
    else if (event.key === "ArrowUp") share({ hop: { way: "out", index: 0 } });
    else return;
    event.preventDefault();
  };

  const grid = { gridTemplateColumns: `auto repeat(${columns.length}, minmax(min-content, 1fr))` };
  return (
    <div
      ref={body}
      role="group"
      aria-label="Hops: the arrow keys step through them"
      onKeyDown={step}
      className="min-h-0 overflow-auto"
    >
      <div
        className={`grid min-h-full ${tried ? "grid-rows-[auto_1fr_auto_1fr_auto]" : "grid-rows-[auto_1fr_1fr]"}`}
        style={grid}
      >
        <span className="sticky top-0 z-10 bg-fog" />
        {columns.map((column) => (
          <DeviceName key={column.device} column={column} />
        ))}
        <WayLabel label="way out" name={shown?.out.name} />
        {columns.map((column) => (
          <Cell
            key={column.device}
            column={column}
            way="out"
            empty={column.out ? "" : emptyOut(column, columns)}
          />
        ))}
        {tried && <Seen tried={tried} stale={last?.stale ?? false} way="out" columns={columns} />}
        <WayLabel label="way home" name={home?.name ?? "nothing"} />
        {columns.map((column, index) => (
          <Cell
            key={column.device}
            column={column}
            way="home"
            empty={index === 0 && shown && !column.home ? `sees ${shown.sees.text}` : ""}
          />
        ))}
        {tried && <Seen tried={tried} stale={last?.stale ?? false} way="home" columns={columns} />}
      </div>
    </div>
  );
}

/** The hop that decides; the first one where none does. */
function decidingHop(columns: Column[]): LookedAt {
  for (const way of ["out", "home"] as const) {
    const found = columns.find((column) => column[way]?.hop.steps.some((step) => step.deciding));
    if (found) return { way, index: found[way]?.index ?? 0 };
  }
  return { way: "out", index: 0 };
}

const emptyOut = (column: Column, columns: Column[]) =>
  columns[columns.length - 1] === column && !column.home ? "never arrives" : "";

function DeviceName({ column }: { column: Column }) {
  return (
    <button
      type="button"
      className="sticky top-0 z-10 border-l border-rule bg-fog px-2 py-0.5 text-left font-semibold hover:underline"
      onClick={() => go({ chosen: `device:${column.device}` })}
    >
      {column.device}
    </button>
  );
}

const WayLabel = ({ label, name }: { label: string; name: string | undefined }) => (
  <div className="quiet border-t border-rule py-1 pr-1.5 pl-3 text-fine">
    <div>{label}</div>
    <div className="text-ink">{name}</div>
  </div>
);

function Cell({ column, way, empty }: { column: Column; way: "out" | "home"; empty: string }) {
  const found = column[way];
  const current = useShared(({ hop }) => hop?.way === way && hop.index === found?.index);
  if (!found) {
    return <div className="quiet border-t border-l border-rule px-1.5 py-1 text-fine">{empty}</div>;
  }
  const deciding = found.hop.steps.some((step) => step.deciding);
  return (
    <button
      type="button"
      data-hop={`${way}${found.index}`}
      data-decides={deciding || undefined}
      aria-pressed={current}
      onClick={() => share({ hop: { way, index: found.index } })}
      className={`flex flex-col items-stretch focus-visible:outline-offset-[-2px] border-t border-l border-rule px-1.5 py-1 text-left ${
        deciding ? "bg-claywash" : current ? "bg-tidewash" : "hover:bg-plate"
      } ${current ? "shadow-[inset_0_-3px_0_var(--ink)]" : ""}`}
    >
      <Steps hop={found.hop} />
    </button>
  );
}

function Steps({ hop }: { hop: HopReport }) {
  return (
    <span className="flex flex-col gap-0.5 text-fine">
      {hop.steps.filter(worthShowing(hop)).map((step, index) => (
        <span
          key={index}
          className={
            step.deciding ? "font-semibold text-clay" : step.kind === "filtered" ? "font-medium" : "quiet"
          }
        >
          {step.text}
        </span>
      ))}
    </span>
  );
}

/**
 * The next column says where a packet goes, unless there are switches between, and most places have no list:
 * neither needs a line of its own.
 */
const worthShowing = (hop: HopReport) => (step: StepReport) =>
  step.kind === "leaves" ? hop.links.length > 1 : step.kind !== "unfiltered" || step.text !== "no list";

function asText(exchange: ExchangeReport | undefined): string {
  if (!exchange) return "";
  const leg = (title: string, hops: HopReport[]) =>
    [
      title,
      ...hops.flatMap((hop) => [`  ${hop.device}`, ...hop.steps.map((step) => `    ${step.text}`)]),
    ].join("\n");
  return [
    leg(`way out, ${exchange.out.name}`, exchange.out.hops),
    ...(exchange.home ? [leg(`way home, ${exchange.home.name}`, exchange.home.hops)] : []),
    `the sender sees ${exchange.sees.text}`,
    exchange.text,
  ].join("\n");
}
