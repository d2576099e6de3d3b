import { useState } from "react";
import type { Change, Network } from "../api/client";
import { useRevisions } from "../api/queries";
import { useWorkbench } from "../shell/context";

const NAMES: Record<Change["collection"], string> = {
  devices: "Device",
  links: "Link",
  address_sets: "Address set",
  port_sets: "Port set",
  lists: "List",
  placements: "Placement",
  requirements: "Requirement",
  tests: "Test flow",
  accepted: "Accepted finding",
  positions: "Position on the map",
};

/** What exactly will change, what that does to the book, and the ways back. */
export function ChangesView() {
  const { id, network, book, draft, notices, go } = useWorkbench();
  const [note, setNote] = useState("");
  const revisions = useRevisions(id, network.version);
  const moved = book?.tests.filter((test) => test.running.verdict !== test.draft.verdict) ?? [];
  const surprises = book?.tests.filter((test) => test.draft.judgement?.standing !== "holds") ?? [];
  const broken = moved.filter(
    (test) => test.running.judgement?.standing === "holds" && test.draft.judgement?.standing !== "holds",
  );
  const apply = () =>
    draft.step.mutate(
      { step: "apply", note },
      {
        onSuccess: () => {
          setNote("");
          notices.say("Applied. The draft is what is running now.");
        },
        onError: notices.fail,
      },
    );
  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)_360px]">
      <div className="min-h-0 overflow-y-auto px-6 py-4">
        <h2 className="mb-2 text-[15px] font-semibold">What will change</h2>
        {network.changes.length === 0 && <p className="quiet">Nothing: the draft is what is running.</p>}
        <ul>
          {network.changes.map((change) => (
            <ChangeItem
              key={`${change.collection}${change.key}${change.item === null}`}
              change={change}
              running={network.running}
              draft={network.draft}
            />
          ))}
        </ul>
        {network.changes.length > 0 && (
          <>
            <h3 className="mt-5 mb-1 font-semibold">What it does to the book</h3>
            {moved.length === 0 && <p className="quiet">No verdict changes.</p>}
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
              {surprises.length === 0
                ? "Every test flow is as expected on the draft."
                : `${surprises.length} of ${book?.tests.length} test flows are not as expected on the draft.`}
            </p>
            <div className="mt-4 flex gap-2">
              <input
                className="field w-[340px]"
                aria-label="Note for this revision"
                placeholder="Why, in a few words"
                value={note}
                onChange={(event) => setNote(event.target.value)}
              />
              <button
                type="button"
                className="button button-strong"
                disabled={draft.step.isPending}
                onClick={apply}
              >
                Apply
              </button>
              <button
                type="button"
                className="button"
                disabled={draft.step.isPending}
                onClick={() => draft.step.mutate({ step: "discard" }, { onError: notices.fail })}
              >
                Discard
              </button>
            </div>
          </>
        )}
      </div>
      <aside aria-label="Revisions" className="min-h-0 overflow-y-auto border-l border-rule px-5 py-4">
        <h2 className="mb-2 text-[15px] font-semibold">Ways back</h2>
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
                  draft.restore.mutate(revision.number, {
                    onSuccess: () =>
                      notices.say(`The draft is revision ${revision.number} now. Apply it to go back.`),
                    onError: notices.fail,
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

function ChangeItem({ change, running, draft }: { change: Change; running: Network; draft: Network }) {
  const before = textOf(change, running);
  const after = change.item === null ? null : textOf(change, draft);
  const verb = before === null ? "new" : after === null ? "removed" : "changed";
  const [old, now] = [before?.split("\n") ?? [], after?.split("\n") ?? []];
  return (
    <li className="border-t border-rule py-2">
      <p>
        {NAMES[change.collection]} <span className="font-mono">{nameOf(change)}</span>{" "}
        <span className={verb === "removed" ? "text-clay" : "text-ochre"}>{verb}</span>
      </p>
      <pre className="mt-0.5 font-mono text-fine whitespace-pre-wrap">
        {old
          .filter((line) => line && !now.includes(line))
          .map((line) => (
            <span key={`-${line}`} className="block text-clay">
              − {line}
            </span>
          ))}
        {now
          .filter((line) => line && !old.includes(line))
          .map((line) => (
            <span key={`+${line}`} className="block text-tide">
              + {line}
            </span>
          ))}
      </pre>
    </li>
  );
}

function nameOf(change: Change): string {
  if (change.collection !== "placements") return change.key;
  const [device, at, direction, list] = change.key.split(":");
  return `${list} at ${device} ${at} ${direction}bound`;
}

/** What stands under a change's key, a line for each thing that can differ. */
function textOf(change: Change, network: Network): string | null {
  switch (change.collection) {
    case "lists":
      return network.lists.find((list) => list.name === change.key)?.entries ?? null;
    case "requirements":
      return network.requirements.find((each) => each.id === change.key)?.statement ?? null;
    case "accepted":
      return network.accepted.find((each) => each.finding === change.key)?.reason ?? null;
    case "tests":
      return network.tests.find((test) => test.id === change.key)?.flow ?? null;
    case "devices": {
      const device = network.devices.find((each) => each.name === change.key);
      return device ? JSON.stringify(device, null, 1) : null;
    }
    case "address_sets":
    case "port_sets":
      return (
        network[change.collection].find((group) => group.name === change.key)?.members.join("\n") ?? null
      );
    case "placements":
      return network.placements.some(
        (each) => `${each.device}:${each.at}:${each.direction}:${each.list}` === change.key,
      )
        ? ""
        : null;
    case "links":
      return network.links.some((link) => link.ends.join(" ") === change.key) ? "" : null;
    case "positions": {
      const at = network.positions.find((each) => each.device === change.key);
      return at ? `${at.x}, ${at.y}` : null;
    }
  }
}
