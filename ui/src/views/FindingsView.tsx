import { useState } from "react";
import type { FindingItem, Intent, Network } from "../api/client";
import { useFindings } from "../api/computed";
import { Failed } from "../kit/Failed";
import { useAsTest } from "../policy/useAsTest";
import { wantFocus } from "../state/focus";
import { go } from "../state/location";
import { useOpened } from "../workbench/opened";
import { showTrial } from "../workbench/trial";

const HEADINGS: Record<FindingItem["severity"], string> = {
  fault: "Faults",
  warning: "Warnings",
  note: "Notes",
};

/** What is wrong or doubtful in the draft, by kind, each with its evidence and, where there is one, a repair. */
export function FindingsView() {
  const { id, network, at } = useOpened();
  const search = useFindings(id, network.version, at);
  const [accepted, setAccepted] = useState(false);
  const [words, setWords] = useState("");
  const known = search.data ?? search.early;
  const every = known?.findings ?? [];
  const open = every.filter((finding) => finding.accepted === null);
  const candidates = accepted ? every : open;
  const shown = candidates.filter((finding) => speaksOf(finding, words));
  return (
    <main
      className={`min-h-0 overflow-y-auto px-6 py-4 ${search.isPlaceholderData ? "text-slate" : ""}`}
      aria-busy={search.isFetching}
    >
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h2 className="text-head font-semibold">Findings</h2>
        {candidates.length > 1 && (
          <input
            className="field w-[260px]"
            aria-label="Filter findings by words"
            placeholder="filter by words…"
            value={words}
            onChange={(event) => setWords(event.target.value)}
          />
        )}
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
      {search.data && !search.isPlaceholderData && candidates.length === 0 && (
        <p className="quiet">No findings: no list, link or route looks wrong.</p>
      )}
      {candidates.length > 0 && shown.length === 0 && (
        <p className="quiet">None of the {candidates.length} findings speaks of that.</p>
      )}
      {!known && !search.isError && <p className="quiet">Searching the draft…</p>}
      {(["fault", "warning", "note"] as const).map((severity) => (
        <OfSeverity
          key={severity}
          severity={severity}
          findings={shown.filter((finding) => finding.severity === severity)}
          searched={words !== ""}
        />
      ))}
    </main>
  );
}

/** Whether a finding has all of some words, in whatever it says. */
function speaksOf({ kind, text, devices, lists, evidence }: FindingItem, words: string): boolean {
  const said = [kind, text, ...devices, ...lists, ...evidence].join("\n").toLowerCase();
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => said.includes(word));
}

interface SeverityProps {
  severity: FindingItem["severity"];
  findings: FindingItem[];
  /** Whether somebody looks for words: what is found is not folded away. */
  searched: boolean;
}

/** Findings of one weight: several of a kind under one heading. */
function OfSeverity({ severity, findings, searched }: SeverityProps) {
  if (findings.length === 0) return null;
  const kinds = new Map<string, FindingItem[]>();
  for (const finding of findings) kinds.set(finding.kind, [...(kinds.get(finding.kind) ?? []), finding]);
  return (
    <section aria-label={HEADINGS[severity]} className="mb-4 max-w-[1000px]">
      <h3 className="quiet mt-2 mb-1">
        {HEADINGS[severity]}, {findings.length}
      </h3>
      <ul>
        {[...kinds].map(([kind, members]) =>
          members.length === 1 && members[0] ? (
            <Item key={kind} finding={members[0]} />
          ) : (
            <OfKind key={kind} kind={kind} members={members} open={searched || findings.length <= FEW} />
          ),
        )}
      </ul>
    </section>
  );
}

/** So many findings of a weight are all shown: more are folded by kind. */
const FEW = 3;
const MOST_NAMED = 8;

function OfKind({ kind, members, open }: { kind: string; members: FindingItem[]; open: boolean }) {
  const [unfolded, setUnfolded] = useState<boolean | null>(null);
  const shown = unfolded ?? open;
  const where = [...new Set(members.flatMap(({ devices, lists }) => (devices.length ? devices : lists)))];
  const more = where.length > MOST_NAMED ? ` and ${where.length - MOST_NAMED} more` : "";
  const severity = members[0]?.severity ?? "note";
  return (
    <li className="border-b border-rule py-2 pl-3">
      <button
        type="button"
        aria-expanded={shown}
        className={`-ml-3 w-full border-l-[3px] pl-[9px] text-left ${MARKS[severity]}`}
        onClick={() => setUnfolded(!shown)}
      >
        <span className="font-semibold">{kind}</span>, {members.length}
        <span className="quiet">
          {where.length > 0 && `: ${where.slice(0, MOST_NAMED).join(", ")}${more}`} {shown ? "▾" : "▸"}
        </span>
      </button>
      {shown && (
        <ul className="mt-1">
          {members.map((finding) => (
            <Item key={finding.key} finding={finding} />
          ))}
        </ul>
      )}
    </li>
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

const lower = (sentence: string) => `${sentence[0]?.toLowerCase()}${sentence.slice(1)}`;

function Item({ finding }: { finding: FindingItem }) {
  const { network, make } = useOpened();
  const asTest = useAsTest();
  const [reason, setReason] = useState<string | null>(null);
  const { repair } = finding;
  const way = wayOf(finding, network.draft);
  const mending: Intent | null = repair && { do: "changes", label: repair.label, made: repair.changes };
  const attempt = () => {
    if (!repair || !mending) return;
    go({ view: "map", chosen: null });
    showTrial({ list: finding.lists[0] ?? "", label: repair.label, intent: mending, kind: "tried" });
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
      {finding.unrepaired && (
        <p className="quiet mt-0.5 text-fine">No repair is offered: {lower(finding.unrepaired)}</p>
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
          <WhyAccepted
            kind={finding.kind}
            reason={reason}
            onReason={setReason}
            onAccept={async () => {
              if (await make(accepted(reason.trim()))) setReason(null);
            }}
          />
        )}
      </div>
    </li>
  );
}

interface WhyProps {
  kind: string;
  reason: string;
  onReason: (reason: string) => void;
  onAccept: () => void;
}

function WhyAccepted({ kind, reason, onReason, onAccept }: WhyProps) {
  return (
    <form
      className="flex gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (reason.trim()) onAccept();
      }}
    >
      <input
        ref={(field) => field?.focus()}
        aria-label={`Why it is accepted: ${kind}`}
        placeholder="why it is accepted"
        className="field w-[260px]"
        value={reason}
        onChange={(event) => onReason(event.target.value)}
      />
      <button type="submit" className="button" disabled={!reason.trim()}>
        Accept
      </button>
    </form>
  );
}
