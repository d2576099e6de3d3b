import { useState } from "react";
import { type TriedReport, useRehearsal } from "../api/rehearsal";
import { Failed } from "../kit/Failed";
import { TriedMark } from "../marks/TriedMark";
import { VerdictShape } from "../marks/VerdictMark";
import { go, goToTest } from "../state/location";
import { counted } from "../state/words";
import { useOpened } from "../workbench/opened";

/** The draft in a real kernel: what happened to real packets, beside what was predicted. */
export function Rehearsal() {
  const { id, network } = useOpened();
  const rehearsal = useRehearsal(id, network.version);
  const [all, setAll] = useState(false);
  const { state, working, standing } = rehearsal;
  const last = state?.last;
  const differing = last?.report.tried.filter((each) => !each.agrees) ?? [];
  const shown = all ? (last?.report.tried ?? []) : differing;
  const nothing = network.draft.tests.length + network.draft.requirements.length === 0;
  const cannot = state !== undefined && state.missing.length > 0;
  return (
    <section aria-label="Rehearsal" className="mt-6 border-t border-rule pt-3">
      <h3 className="font-semibold">On real wires</h3>
      <p className="quiet max-w-[46rem]">
        A rehearsal builds the draft in this machine’s kernel and sends real packets: every test flow, and for
        each requirement its violations and a few examples.
      </p>
      {cannot && <p className="text-ochre">{state.missing.join(" ")}</p>}
      <div className="my-2 flex items-center gap-3">
        <button
          type="button"
          className="button"
          disabled={working || cannot || nothing}
          onClick={rehearsal.begin}
        >
          Rehearse the draft
        </button>
        {working && (
          <>
            <progress value={standing.done} max={1} aria-label="Rehearsing" className="w-40" />
            <span className="quiet" data-testid="stage">
              {standing.stage || "beginning"}
            </span>
            <button type="button" className="quiet underline" onClick={rehearsal.cancel}>
              Cancel
            </button>
          </>
        )}
      </div>
      <Failed of={rehearsal} className="" />
      {last && !working && (
        <>
          <p data-testid="rehearsed">
            {last.report.tried.length === 0
              ? "There was no conversation to try"
              : `${counted(last.report.tried.length, "conversation")}, `}
            {last.report.tried.length === 0 ? (
              ""
            ) : differing.length === 0 ? (
              <span className="text-tide">all went as predicted</span>
            ) : (
              <strong className="text-clay">{differing.length} went otherwise</strong>
            )}{" "}
            <span className="quiet">
              at {new Date(last.at).toLocaleTimeString()}, built in {last.report.building_seconds.toFixed(1)}{" "}
              s, sent in {last.report.sending_seconds.toFixed(1)} s
            </span>
            {last.stale && <span className="text-ochre"> The draft has changed since.</span>}
          </p>
          {last.report.left_out.map((line) => (
            <p key={line} className="quiet text-fine">
              Not tried: {line}
            </p>
          ))}
          {last.report.rests_on.map((line) => (
            <p key={line} className="text-fine text-ochre">
              Not known, so rehearsed with and without it: {line}
            </p>
          ))}
          <button
            type="button"
            aria-pressed={all}
            className="quiet text-fine underline"
            onClick={() => setAll(!all)}
          >
            {all ? "show what differs only" : "show all of them"}
          </button>
          <ul>
            {shown.map((each) => (
              <Conversation key={`${each.test} ${each.requirement} ${each.flow} ${each.when}`} tried={each} />
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

function Conversation({ tried }: { tried: TriedReport }) {
  return (
    <li className="border-t border-rule py-1">
      <button
        type="button"
        className="flex items-center gap-2 text-left hover:underline"
        onClick={() =>
          tried.test
            ? goToTest(tried.test)
            : go({ view: "map", test: null, chosen: `requirement:${tried.requirement}` })
        }
      >
        <TriedMark agrees={tried.agrees} stale={false} />
        <VerdictShape shape={tried.verdict} size={12} />
        {tried.flow}{" "}
        <span className="quiet text-fine">
          {tried.when}
          {tried.requirement && `, for ${tried.requirement}`}
        </span>
      </button>
      {!tried.agrees && (
        <dl className="ml-7 grid grid-cols-[auto_1fr] gap-x-2 text-fine">
          <dt className="quiet">predicted</dt>
          <dd>{tried.predicted}</dd>
          <dt className="quiet">seen</dt>
          <dd>{tried.seen}</dd>
          {tried.differences.map((each) => (
            <div key={each.fact} className="contents text-clay">
              <dt>{each.fact}</dt>
              <dd>
                {each.predicted}, but {each.seen}
              </dd>
            </div>
          ))}
          <dt className="quiet">packets</dt>
          <dd className="font-mono">
            {tried.packets.map((packet, index) => (
              <div key={index}>{packet}</div>
            ))}
          </dd>
        </dl>
      )}
    </li>
  );
}
