import { useState } from "react";
import type {
  Change,
  ChangedPlace,
  Difference,
  DiffLine,
  PacketChanges,
  ReachMatrix,
  ReachQuestion,
} from "../api/client";
import { useChangedPackets, useFindings, usePolicy, useReach } from "../api/computed";
import { useDifferences, useRevisions } from "../api/queries";
import { Failed } from "../kit/Failed";
import { fail, say } from "../kit/notices";
import { answerWords } from "../marks/AnswerMark";
import { ListPackets, PlacePackets } from "../marks/PacketChanges";
import { go } from "../state/location";
import { requirementsOnScreen } from "../state/onScreen";
import { counted, FAMILY_WORDS } from "../state/words";
import { useOpened, useVerdicts } from "../workbench/opened";
import { Rehearsal } from "./Rehearsal";
import { type Pair, RevisionChooser, RevisionComparison } from "./RevisionComparison";

const NAMES: Record<Change["collection"], string> = {
  devices: "Device",
  links: "Link",
  address_sets: "Address set",
  port_sets: "Port set",
  periods: "Period",
  lists: "List",
  placements: "Placement",
  requirements: "Requirement",
  tests: "Test flow",
  accepted: "Accepted finding",
  positions: "Position on the map",
};

/** What exactly will change, what that does to the book, and the ways back. */
export function ChangesView() {
  const { id, network, draft } = useOpened();
  const { book: known, trying, read } = useVerdicts();
  const tried = known !== undefined && !trying.stale;
  const book = tried ? known : undefined;
  const differences = useDifferences(id, network.version);
  const packets = useChangedPackets(id, network.version, network.changes.length > 0);
  const [note, setNote] = useState("");
  const [pair, setPair] = useState<Pair | null>(null);
  const revisions = useRevisions(id, network.version);
  const moved = book?.tests.filter((test) => test.running.verdict !== test.draft.verdict) ?? [];
  const surprises = book?.tests.filter((test) => test.draft.judgement?.standing !== "holds") ?? [];
  const broken = moved.filter(
    (test) => test.running.judgement?.standing === "holds" && test.draft.judgement?.standing !== "holds",
  );
  const apply = () =>
    draft.step(
      { step: "apply", note },
      {
        onSuccess: () => {
          setNote("");
          say("Applied. The draft is what is running now.");
        },
        onError: fail,
      },
    );
  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)_clamp(220px,26vw,360px)]">
      <div className="min-h-0 overflow-y-auto px-6 py-4">
        {pair && <RevisionComparison pair={pair} onClose={() => setPair(null)} />}
        <h2 className="mb-2 text-head font-semibold">Changes</h2>
        {network.changes.length === 0 && (
          <p className="quiet">No changes: the draft equals what is running.</p>
        )}
        <Failed of={differences} className="" />
        <ul>
          {differences.data?.map((each) => (
            <Item
              key={`${each.collection} ${each.key} ${each.verb}`}
              difference={each}
              packets={packets.isPlaceholderData ? undefined : packets.data}
            />
          ))}
        </ul>
        <Failed of={packets} className="" />
        {network.changes.length > 0 && (
          <>
            <h3 className="mt-5 mb-1 font-semibold">Effect on the test flows</h3>
            <Failed of={read} className="" />
            {!tried && !read.error && <p className="quiet">Being tried: {Math.round(trying.done * 100)}%</p>}
            {tried && moved.length === 0 && <p className="quiet">No verdict changes.</p>}
            <ul>
              {moved.map((test) => (
                <li key={test.id}>
                  <button
                    type="button"
                    className="text-left hover:underline"
                    onClick={() => go({ view: "map", test: test.id, chosen: `test:${test.id}` })}
                  >
                    {test.flow}: {test.running.verdict ?? "new"} → {test.draft.verdict}{" "}
                    <span className={test.draft.judgement?.standing === "holds" ? "text-tide" : "text-ochre"}>
                      {test.draft.judgement?.standing === "holds" ? "as expected" : "not as expected"}
                    </span>
                  </button>
                </li>
              ))}
            </ul>
            <p className="mt-2">
              {broken.length > 0 && (
                <strong className="text-clay">{broken.length} passed before and would not. </strong>
              )}
              {tried && surprises.length === 0
                ? "Every test flow is as expected on the draft."
                : tried
                  ? `${surprises.length} of ${book?.tests.length} test flows are not as expected in the draft.`
                  : ""}
            </p>
            <h3 className="mt-4 font-semibold">Other effects</h3>
            <Beyond />
            <div className="mt-4 flex gap-2">
              <input
                className="field w-[20rem]"
                aria-label="Note for this revision"
                placeholder="Why, in a few words"
                value={note}
                onChange={(event) => setNote(event.target.value)}
              />
              <button
                type="button"
                className="button button-strong"
                disabled={draft.stepping}
                onClick={apply}
              >
                Apply
              </button>
              <button
                type="button"
                className="button"
                disabled={draft.stepping}
                onClick={() => draft.step({ step: "discard" }, { onError: fail })}
              >
                Discard
              </button>
            </div>
          </>
        )}
        <Rehearsal />
      </div>
      <aside aria-label="Revisions" className="min-h-0 overflow-y-auto border-l border-rule px-5 py-4">
        <h2 className="mb-2 text-head font-semibold">History</h2>
        <Failed of={revisions} className="" />
        {revisions.data && (
          <RevisionChooser numbers={revisions.data.map(({ number }) => number)} onChoose={setPair} />
        )}
        <ol>
          {revisions.data?.map((revision, index) => (
            <li key={revision.number} className="flex items-start gap-3 border-t border-rule py-1.5">
              <span className="quiet w-6 text-right">{revision.number}</span>
              <div className="min-w-0 flex-1">
                <p>{revision.note || "no note"}</p>
                <p className="quiet text-fine">
                  {new Date(revision.applied_at).toLocaleString()}
                  {index === 0 ? ", running now" : ""}
                </p>
              </div>
              <button
                type="button"
                className="button"
                onClick={() =>
                  draft.restore(revision.number, {
                    onSuccess: () =>
                      say(`The draft now equals revision ${revision.number}. Apply it to go back.`),
                    onError: fail,
                  })
                }
              >
                To draft
              </button>
            </li>
          ))}
        </ol>
      </aside>
    </main>
  );
}

const VERBS: Record<Difference["verb"], string> = {
  new: "new",
  removed: "removed",
  changed: "changed",
  renamed: "renamed",
  moved: "moved",
  renumbered: "numbered anew, in the same order",
};
const SIGNS: Record<DiffLine["sign"], [string, string]> = {
  same: [" ", "quiet"],
  gone: ["−", "text-clay"],
  added: ["+", "text-tide"],
  gap: ["⋮", "quiet"],
};

/** One thing that will be otherwise, line by line and in order. */
function Item({ difference, packets }: { difference: Difference; packets: PacketChanges | undefined }) {
  const { collection, key, verb, was, lines } = difference;
  const [list, places] = [
    collection === "lists" ? packets?.lists.find(({ name }) => name === key) : undefined,
    collection === "placements" ? (packets?.places.filter((place) => standsAt(place, key, was)) ?? []) : [],
  ];
  return (
    <li className="border-t border-rule py-2">
      <p>
        {NAMES[collection]} <span className="font-mono">{nameOf(collection, key)}</span>{" "}
        <span className={verb === "removed" ? "text-clay" : "text-ochre"}>{VERBS[verb]}</span>
        {was && (
          <span className="quiet">
            , {verb === "moved" ? "from" : "was"} <span className="font-mono">{nameOf(collection, was)}</span>
          </span>
        )}
      </p>
      {lines.length > 0 && (
        <pre className="mt-0.5 font-mono text-fine whitespace-pre-wrap">
          {lines.map((line, number) => {
            const [sign, look] = SIGNS[line.sign];
            const text = line.sign === "gap" ? `${line.count} more as they were` : line.text;
            return (
              <span key={number} className={`block ${look}`}>
                {sign} {text}
              </span>
            );
          })}
        </pre>
      )}
      {(list || places.length > 0) && (
        <div className="mt-1 border-l-2 border-rule pl-2">
          {list && <ListPackets of={list} />}
          {places.map((place) => (
            <PlacePackets key={`${place.where} ${place.before} ${place.after}`} of={place} />
          ))}
        </div>
      )}
    </li>
  );
}

/** Whether a place is one that a placement is at, or was at before it moved. */
const standsAt = (place: ChangedPlace, ...keys: (string | null)[]) =>
  keys.some((key) => key?.startsWith(`${place.device}:${place.at}:${place.direction}:`));

function nameOf(collection: Change["collection"], key: string): string {
  if (collection !== "placements") return key;
  const [device, at, direction, list] = key.split(":");
  return `${list} at ${device} ${at} ${direction}bound`;
}

/** What else the draft does: to the policy, to who reaches whom, and to what is wrong. */
function Beyond() {
  const { id, network, at } = useOpened();
  const policy = usePolicy(
    id,
    network.version,
    at,
    network.draft.requirements.length > 0,
    requirementsOnScreen,
  );
  const findings = useFindings(id, network.version, at);
  const reach = {
    ipv4: useReach(id, network.version, at, REACH.ipv4, null),
    ipv6: useReach(id, network.version, at, REACH.ipv6, null),
  };
  const turned = policy.data?.requirements.filter(
    (each) => answerWords(each.running) !== answerWords(each.draft) && !policy.isPlaceholderData,
  );
  const cells = FAMILIES.map((family) => {
    const found = reach[family];
    return found.isPlaceholderData ? undefined : found.data && cellsThatDiffer(found.data);
  });
  const open = findings.isPlaceholderData
    ? undefined
    : findings.data?.findings.filter((each) => each.accepted === null);
  const waiting = (done: number) => `computing, ${Math.round(done * 100)}%`;
  return (
    <dl className="mt-3 grid grid-cols-[7rem_minmax(0,1fr)] gap-y-1" data-testid="beyond">
      <dt className="quiet">Requirements</dt>
      <dd>
        {network.draft.requirements.length === 0 && "none written"}
        {network.draft.requirements.length > 0 && !turned && !policy.error && waiting(policy.done)}
        <Failed of={policy} className="" />
        {turned?.length === 0 && "every answer stays as it is"}
        {turned?.map((each) => (
          <button
            key={each.id}
            type="button"
            className="block text-left hover:underline"
            onClick={() => go({ view: "map", test: null, chosen: `requirement:${each.id}` })}
          >
            {each.statement}: {answerWords(each.running)} → {answerWords(each.draft)}
          </button>
        ))}
      </dd>
      <dt className="quiet">Reach</dt>
      <dd>
        {FAMILIES.map((family, place) => {
          const [found, differing] = [reach[family], cells[place]];
          if (found.data?.devices.length === 0) return null;
          return (
            <div key={family}>
              {differing === undefined && !found.error && `${FAMILY_WORDS[family]}: ${waiting(found.done)}`}
              <Failed of={found} className="" />
              {differing !== undefined && (
                <button
                  type="button"
                  className="hover:underline"
                  onClick={() => go({ view: "reach", reach: `services, ping;${family}` })}
                >
                  {FAMILY_WORDS[family]}:{" "}
                  {differing === 0
                    ? "no change in reach"
                    : `${differing} ${differing === 1 ? "cell differs" : "cells differ"} from what is running`}
                </button>
              )}
            </div>
          );
        })}
      </dd>
      <dt className="quiet">Findings</dt>
      <dd>
        {open === undefined && !findings.error && waiting(findings.done)}
        <Failed of={findings} className="" />
        {open !== undefined && (
          <button type="button" className="hover:underline" onClick={() => go({ view: "findings" })}>
            {open.length === 0 ? "nothing looks wrong in the draft" : `${findingsWords(open)} in the draft`}
          </button>
        )}
      </dd>
    </dl>
  );
}

/** “2 faults, 1 warning and 3 notes”, of what there is. */
function findingsWords(found: { severity: string }[]): string {
  const counts = (["fault", "warning", "note"] as const).flatMap((severity) => {
    const count = found.filter((each) => each.severity === severity).length;
    return count ? [counted(count, severity)] : [];
  });
  return counts.join(", ");
}

const FAMILIES = ["ipv4", "ipv6"] as const;
const REACH: Record<(typeof FAMILIES)[number], ReachQuestion> = {
  ipv4: { services: ["services", "ping"], family: "ipv4", hosts_only: false },
  ipv6: { services: ["services", "ping"], family: "ipv6", hosts_only: false },
};

const cellsThatDiffer = ({ draft, running }: ReachMatrix) =>
  draft.reduce((sum, row, at) => sum + [...row].filter((sign, to) => sign !== running[at]?.[to]).length, 0);
