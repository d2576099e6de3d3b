import { useState } from "react";
import type { FindingItem, Intent, Network } from "../api/client";
import { useFindings } from "../api/computed";
import { Failed } from "../kit/Failed";
import { useAsTest } from "../policy/useAsTest";
import { wantFocus } from "../state/focus";
import { go } from "../state/location";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";

const HEADINGS: Record<FindingItem["severity"], string> = {
  fault: "Faults",
  warning: "Warnings",
  note: "Notes",
};

/** What is wrong or doubtful in the draft, each with its evidence and, where there is one, a repair. */
export function FindingsView() {
  const { id, network, at } = useOpened();
  const search = useFindings(id, network.version, at);
  const [accepted, setAccepted] = useState(false);
  const known = search.data ?? search.early;
  const every = known?.findings ?? [];
  const open = every.filter((finding) => finding.accepted === null);
  const shown = accepted ? every : open;
  return (
    <main
      className={`min-h-0 overflow-y-auto px-6 py-4 ${search.isPlaceholderData ? "text-slate" : ""}`}
      aria-busy={search.isFetching}
    >
      <div className="mb-2 flex items-baseline gap-4">
        <h2 className="text-head font-semibold">Findings</h2>
        {search.isFetching && (
          <span role="status" className="quiet">
            looking{search.isPlaceholderData ? " again; below is how it was before the last edit" : ""},{" "}
            {Math.round(search.done * 100)}%
          </span>
        )}
        {every.length > open.length && (
          <button type="button" className="quiet underline" onClick={() => setAccepted(!accepted)}>
            {accepted ? "leave out" : "show"} the {every.length - open.length} accepted
          </button>
        )}
      </div>
      <Failed of={search} className="" again="Look again" />
      {search.data && !search.isPlaceholderData && shown.length === 0 && (
        <p className="quiet">Nothing: no list, link or route looks wrong.</p>
      )}
      {!known && !search.isError && (
        <p className="quiet">Nothing has been looked at yet: the draft is being searched.</p>
      )}
      {(["fault", "warning", "note"] as const).map((severity) => {
        const members = shown.filter((finding) => finding.severity === severity);
        return members.length ? (
          <section key={severity} aria-label={HEADINGS[severity]} className="mb-4 max-w-[1000px]">
            <h3 className="quiet mt-2 mb-1">
              {HEADINGS[severity]}, {members.length}
            </h3>
            <ul>
              {members.map((finding) => (
                <Item key={finding.key} finding={finding} />
              ))}
            </ul>
          </section>
        ) : null;
      })}
    </main>
  );
}

/** The devices that a finding is about: those it names, and those where its lists stand. */
const wayOf = (finding: FindingItem, network: Network) => [
  ...new Set([
    ...finding.devices,
    ...network.placements.filter(({ list }) => finding.lists.includes(list)).map(({ device }) => device),
  ]),
];

const MARKS = { fault: "border-clay", warning: "border-ochre", note: "border-slate" };

function Item({ finding }: { finding: FindingItem }) {
  const { network, make } = useOpened();
  const { show } = useTrial();
  const asTest = useAsTest();
  const [reason, setReason] = useState<string | null>(null);
  const { repair } = finding;
  const way = wayOf(finding, network.draft);
  const mending: Intent | null = repair && { do: "changes", label: repair.label, made: repair.changes };
  const attempt = () => {
    if (!repair || !mending) return;
    go({ view: "map", chosen: null });
    show({ list: finding.lists[0] ?? "", label: repair.label, intent: mending, kind: "tried" });
  };
  const accepted = (reason: string | null): Intent => ({
    do: "accept",
    finding: finding.key,
    kind: finding.kind,
    evidence: finding.digest,
    reason,
  });
  return (
    <li
      data-finding={finding.key}
      className={`border-b border-rule py-2 pl-3 ${finding.accepted === null ? "" : "opacity-70"}`}
    >
      <p className={`-ml-3 border-l-[3px] pl-[9px] ${MARKS[finding.severity]}`}>
        <span className="font-semibold">{finding.kind}.</span> {finding.text}
      </p>
      {finding.evidence.length > 0 && (
        <ul className="quiet mt-0.5 font-mono text-fine">
          {finding.evidence.map((line) => (
            <li key={line}>{line}</li>
          ))}
        </ul>
      )}
      {finding.accepted !== null && <p className="mt-0.5">Accepted: {finding.accepted}</p>}
      <div className="mt-1 flex flex-wrap items-center gap-x-4 gap-y-1">
        {finding.lists.map((list) => (
          <button
            key={list}
            type="button"
            className="underline"
            onClick={() => {
              wantFocus(`list:${list}`);
              go({ view: "lists", list });
            }}
          >
            open {list}
          </button>
        ))}
        {finding.devices.map((device) => (
          <button
            key={device}
            type="button"
            className="underline"
            onClick={() => go({ view: "map", chosen: `device:${device}` })}
          >
            show {device}
          </button>
        ))}
        {way.length > 1 && (
          <button
            type="button"
            className="underline"
            onClick={() =>
              go({
                view: "map",
                test: null,
                chosen: `devices:${way.join(",")}`,
              })
            }
          >
            show it on the map
          </button>
        )}
        {finding.flow && (
          <button
            type="button"
            className="underline"
            onClick={() => asTest(`${finding.flow} pass`, "From findings")}
          >
            trace {finding.flow}
          </button>
        )}
        {repair && (
          <>
            <button type="button" className="button" onClick={() => mending && make(mending)}>
              {repair.label[0]?.toUpperCase()}
              {repair.label.slice(1)}
            </button>
            <button type="button" className="underline" onClick={attempt}>
              try it first
            </button>
          </>
        )}
        {finding.accepted === null && reason === null && (
          <button type="button" className="quiet underline" onClick={() => setReason("")}>
            accept…
          </button>
        )}
        {finding.accepted !== null && (
          <button type="button" className="quiet underline" onClick={() => make(accepted(null))}>
            no longer accept
          </button>
        )}
        {reason !== null && finding.accepted === null && (
          <form
            className="flex gap-2"
            onSubmit={async (event) => {
              event.preventDefault();
              if (reason.trim() && (await make(accepted(reason.trim())))) setReason(null);
            }}
          >
            <input
              ref={(field) => field?.focus()}
              aria-label={`Why it is as it should be: ${finding.kind}`}
              placeholder="why it is as it should be"
              className="field w-[260px]"
              value={reason}
              onChange={(event) => setReason(event.target.value)}
            />
            <button type="submit" className="button" disabled={!reason.trim()}>
              Accept
            </button>
          </form>
        )}
      </div>
    </li>
  );
}
