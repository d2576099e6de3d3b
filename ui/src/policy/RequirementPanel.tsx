import { useState } from "react";
import type { ProofReport, Requirement } from "../api/client";
import { usePolicy } from "../api/computed";
import { NotationField } from "../editor/NotationField";
import { REQUIREMENT } from "../editor/notation";
import { Failed } from "../kit/Failed";
import { AnswerShape, answerWords, notRunningWords } from "../marks/AnswerMark";
import { requirementLike } from "../state/examples";
import { go } from "../state/location";
import { requirementsOnScreen } from "../state/onScreen";
import { notRunningYet } from "../state/running";
import { FAMILY_WORDS } from "../state/words";
import { useOpened } from "../workbench/opened";
import { TriedLines } from "./TriedLines";
import { useAsTest } from "./useAsTest";
import { WhereItGoes } from "./WhereItGoes";

/** A requirement: its three answers, what violates it, and where a list would make it hold. */
export function RequirementPanel({ requirement }: { requirement: Requirement }) {
  const { id, network, at, make } = useOpened();
  const [text, setText] = useState(requirement.statement);
  const [group, setGroup] = useState(requirement.group);
  const [note, setNote] = useState(requirement.note);
  const policy = usePolicy(id, network.version, at, true, requirementsOnScreen);
  const found = policy.data?.requirements.find((each) => each.id === requirement.id);
  const marks = found?.statement === requirement.statement ? found : undefined;
  const changed = text !== requirement.statement || group !== requirement.group || note !== requirement.note;
  const save = () =>
    make({
      do: "put",
      label: `edit ${requirement.statement}`,
      collection: "requirements",
      item: { ...requirement, statement: text, group, note },
    });
  const removal = {
    do: "remove",
    label: `remove ${requirement.statement}`,
    collection: "requirements",
    key: requirement.id,
  } as const;
  return (
    <div className="px-4 py-3">
      <h2 className="mb-2 font-semibold">Requirement</h2>
      <NotationField
        network={id}
        asked={REQUIREMENT}
        label="Requirement"
        hint={requirementLike(network.draft, "telnet")}
        value={text}
        invalid={false}
        onChange={setText}
        onSubmit={save}
      />
      <label className="mt-2 grid grid-cols-[3.5rem_minmax(0,1fr)] items-center">
        <span className="quiet">Group</span>
        <input className="field" value={group} onChange={(event) => setGroup(event.target.value)} />
      </label>
      <label className="mt-1.5 grid grid-cols-[3.5rem_minmax(0,1fr)] items-center">
        <span className="quiet">Note</span>
        <input className="field" value={note} onChange={(event) => setNote(event.target.value)} />
      </label>
      <div className="mt-2 flex flex-wrap gap-2">
        <button type="button" className="button button-strong" disabled={!changed} onClick={save}>
          Save
        </button>
        <button
          type="button"
          className="button"
          onClick={async () => {
            if (await make(removal)) go({ chosen: null });
          }}
        >
          Remove
        </button>
      </div>
      {!marks && !policy.isError && (
        <p className="quiet mt-4">Not proved yet: {Math.round(policy.done * 100)}%…</p>
      )}
      <Failed of={policy} className="mt-4" />
      {marks && (
        <>
          <dl className="mt-4 grid grid-cols-[4.375rem_minmax(0,1fr)] gap-y-1 border-t border-rule pt-3">
            <Answer label="no lists" report={marks.baseline} />
            <Answer
              label="running"
              report={marks.running}
              absent={notRunningYet(network, requirement.statement)}
            />
            <Answer label="draft" report={marks.draft} />
          </dl>
          <Details report={marks.draft} />
          {marks.draft.answer === "violated" && <WhereItGoes text={requirement.statement} />}
          <dl className="mt-4 grid grid-cols-[4.375rem_minmax(0,1fr)] gap-y-1 border-t border-rule pt-3 empty:hidden">
            <TriedLines kind="requirement" of={requirement.id} />
          </dl>
        </>
      )}
    </div>
  );
}

function Answer({ label, report, absent = [] }: { label: string; report: ProofReport; absent?: string[] }) {
  const waits = report.answer === "inconclusive" && absent.length > 0;
  return (
    <>
      <dt className="quiet flex items-start gap-1.5">
        <span className="pt-[3px]">
          <AnswerShape answer={waits ? "unknown" : report.answer} remains={report.remains !== ""} size={12} />
        </span>
        {label}
      </dt>
      <dd className={waits ? "quiet" : ""}>{waits ? notRunningWords(absent) : answerWords(report)}</dd>
    </>
  );
}

/** Conversations in groups, under a title. */
function Boxes({ title, boxes }: { title: string; boxes: ProofReport["boxes"] }) {
  if (boxes.length === 0) return null;
  return (
    <>
      <h3 className="quiet mt-3">{title}</h3>
      <ul>
        {boxes.map((box) => (
          <li
            key={`${box.expect}${box.family}${box.sources}${box.destinations}${box.services}`}
            className="border-b border-rule py-1"
          >
            {box.sources.join(", ")} <span className="quiet">→</span> {box.destinations.join(", ")}
            <div className="quiet text-fine">
              {box.services.join("; ")}, {FAMILY_WORDS[box.family]},{" "}
              {box.expect === "pass" ? "should get through" : "should not"}
            </div>
          </li>
        ))}
      </ul>
    </>
  );
}

/** The draft's answer in full. */
function Details({ report }: { report: ProofReport }) {
  const asTest = useAsTest();
  const { flow } = report;
  return (
    <div className="mt-3" data-testid="proof">
      <p>{report.text}</p>
      {flow && (
        <button type="button" className="button mt-2" onClick={() => asTest(flow)}>
          Trace it as a test flow
        </button>
      )}
      <Boxes title="All that violates it" boxes={report.boxes} />
      {report.more > 0 && <p className="quiet">and {report.more} more groups like these</p>}
      <Boxes title="Devices themselves" boxes={report.remaining} />
      {report.remaining.length > 0 && (
        <p className="quiet text-fine">
          A router’s own packets meet no list where hosts enter it. To include them, write +devices after that
          side.
        </p>
      )}
      <p className="quiet mt-2 text-fine">{report.covered}</p>
    </div>
  );
}
