import { useState } from "react";
import { ActionButton } from "../actions/ActionButton";
import { usePolicy } from "../api/computed";
import { traitsOf } from "../api/kinds";
import { readRequirement } from "../api/reading";
import { agreeing, useLastRehearsal } from "../api/rehearsal";
import { NotationField } from "../editor/NotationField";
import { REQUIREMENT } from "../editor/notation";
import { Failed } from "../kit/Failed";
import { fail } from "../kit/notices";
import { AnswerMark } from "../marks/AnswerMark";
import { TriedMark } from "../marks/TriedMark";
import { requirementLike } from "../state/examples";
import { go, useLocation } from "../state/location";
import { requirementsOnScreen } from "../state/onScreen";
import { notRunningYet } from "../state/running";
import { useHandler } from "../workbench/handlers";
import { useOpened } from "../workbench/opened";

/** The policy: every requirement with its three answers, and a line to write another. */
export function Requirements() {
  const { id, network, at } = useOpened();
  const location = useLocation();
  const { requirements } = network.draft;
  const policy = usePolicy(id, network.version, at, requirements.length > 0, requirementsOnScreen);
  const groups = [...new Set(requirements.map((each) => each.group))];
  const ordered = groups.flatMap((group) => requirements.filter((each) => each.group === group));
  const last = useLastRehearsal(id, network.version).data?.last;
  const tried = agreeing(last, "requirement");
  // Answers as they come stand before those of the last version.
  const early = new Map(policy.early?.requirements.map((each) => [each.id, each]));
  const marks = new Map([
    ...(policy.data?.requirements.map((each) => [each.id, each] as const) ?? []),
    ...early,
  ]);
  const violated = [...marks.values()].filter((each) => each.draft.answer === "violated").length;
  return (
    <section aria-label="Requirements" className="flex max-h-[38%] flex-col border-b border-rule pb-2">
      <div className="flex items-baseline justify-between gap-2 px-4 pt-3 pb-1">
        <h2 className="font-semibold">Requirements</h2>
        {violated > 0 && !policy.isFetching && <MakeThemHold />}
        {policy.isFetching && requirements.length > 0 && (
          <span className="quiet text-fine" role="status">
            proving{policy.isPlaceholderData ? " again" : ""}, {Math.round(policy.done * 100)}%
          </span>
        )}
      </div>
      <Failed of={policy} className="px-4 text-fine" />
      <ul className="min-h-0 overflow-y-auto">
        {ordered.map((requirement, number) => {
          const heads = requirement.group && requirement.group !== ordered[number - 1]?.group;
          const found = marks.get(requirement.id);
          const agrees = tried.get(requirement.id);
          const chosen = location.chosen === `requirement:${requirement.id}`;
          const [, kind, rest] = /^(\S+) (.*)$/.exec(requirement.statement) ?? [];
          return (
            <li key={requirement.id}>
              {heads && <h3 className="quiet px-4 pt-1.5 text-fine">{requirement.group}</h3>}
              <button
                type="button"
                data-requirement={requirement.id}
                aria-current={chosen ? "true" : undefined}
                onClick={() => go({ test: null, chosen: `requirement:${requirement.id}` })}
                className={`flex w-full items-start gap-1 border-l-[3px] py-0.5 pr-1.5 pl-[9px] text-left ${
                  chosen ? "border-ink bg-plate" : "border-transparent hover:bg-plate/70"
                }`}
              >
                <span className="min-w-0 flex-1 leading-[1.125rem] [overflow-wrap:anywhere]">
                  <span className="font-semibold">{kind}</span> {rest}
                </span>
                {last && agrees !== undefined && <TriedMark agrees={agrees} stale={last.stale} />}
                {found?.statement !== requirement.statement && (
                  <span className="quiet text-fine">not proved yet</span>
                )}
                {found && found.statement === requirement.statement && (
                  <span
                    className={`flex items-center gap-0.5 ${policy.isPlaceholderData && !early.has(requirement.id) ? "opacity-45" : ""}`}
                  >
                    <AnswerMark label="no lists" report={found.baseline} quiet />
                    <AnswerMark
                      label="running"
                      report={found.running}
                      absent={notRunningYet(network, requirement.statement)}
                    />
                    <AnswerMark label="draft" report={found.draft} />
                  </span>
                )}
              </button>
            </li>
          );
        })}
      </ul>
      {requirements.length === 0 && <FirstRequirements />}
      <div className="px-3 pt-1">
        <NewRequirement />
      </div>
    </section>
  );
}

function MakeThemHold() {
  useHandler("policy.hold", () => go({ test: null, chosen: "policy" }));
  return <ActionButton action="policy.hold">Make all hold…</ActionButton>;
}

const SOME = 2;

/** What could be required of the hosts that are there, to be taken as it stands. */
function FirstRequirements() {
  const { network, make } = useOpened();
  const hosts = network.draft.devices.filter(
    (device) => traitsOf(device).end_system && device.services.length,
  );
  const [one, other] = hosts;
  if (!one || !other) return null;
  const service = other.services.find(({ port }) => port === 23) ?? other.services[0];
  const offered = [
    `block ${one.name} → ${other.name} ${service?.name}`,
    `allow ${one.name} → ${other.name} ${other.services[0]?.name}`,
  ].slice(0, SOME);
  const take = async (statement: string) => {
    const [made] = (await make({ do: "require", statement })) ?? [];
    if (made) go({ test: null, chosen: `requirement:${made.key}` });
  };
  return (
    <div className="px-4 pb-1">
      <p className="quiet text-fine">No requirements yet. Write one below, or take one of these:</p>
      {offered.map((statement) => (
        <button
          key={statement}
          type="button"
          className="block text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
          onClick={() => take(statement)}
        >
          {statement}
        </button>
      ))}
    </div>
  );
}

function NewRequirement() {
  const { id, network, make } = useOpened();
  const [text, setText] = useState("");
  const [problem, setProblem] = useState<string | null>(null);
  const submit = async () => {
    if (!text.trim()) return;
    const read = await readRequirement(id, text).catch(fail);
    if (!read) return;
    if (!read.formatted) {
      setProblem(read.problems[0]?.message ?? null);
      return;
    }
    const [made] = (await make({ do: "require", statement: read.formatted })) ?? [];
    if (!made) return;
    setText("");
    go({ test: null, chosen: `requirement:${made.key}` });
  };
  return (
    <>
      <NotationField
        key={requirementLike(network.draft)}
        network={id}
        asked={REQUIREMENT}
        label="New requirement"
        hint={requirementLike(network.draft)}
        value={text}
        invalid={problem !== null}
        onChange={(next) => {
          setText(next);
          setProblem(null);
        }}
        onSubmit={submit}
      />
      {problem && (
        <p role="alert" className="mt-1 text-fine text-clay">
          {problem}
        </p>
      )}
    </>
  );
}
