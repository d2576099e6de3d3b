import { useState } from "react";
import type { Derivation, Mark, TestFlow, Verdict } from "../api/client";
import { useHistory, useTraffic } from "../api/queries";
import { derive } from "../api/reading";
import { NotationField } from "../editor/NotationField";
import { FLOW } from "../editor/notation";
import { Failed } from "../kit/Failed";
import { Menu } from "../kit/Menu";
import { fail, say } from "../kit/notices";
import { Times } from "../marks/Times";
import { VerdictShape } from "../marks/VerdictMark";
import { TriedLines } from "../policy/TriedLines";
import { WhereItGoes } from "../policy/WhereItGoes";
import { flowLike } from "../state/examples";
import { go, goToTest, useLocation } from "../state/location";
import { pointKey } from "../state/points";
import { bareFlow, capital } from "../state/words";
import { useOpened, useVerdicts } from "../workbench/opened";

/** A test flow: what is expected, what came of it three times, and where it was decided. */
export function TestPanel({ test }: { test: TestFlow }) {
  const { id, network, make } = useOpened();
  const { book } = useVerdicts();
  const [text, setText] = useState(test.flow);
  const [group, setGroup] = useState(test.group);
  const [note, setNote] = useState(test.note);
  const marks = book?.tests.find((each) => each.id === test.id);
  const changed = text !== test.flow || group !== test.group || note !== test.note;
  const save = () =>
    make({
      do: "put",
      label: `edit ${test.flow}`,
      collection: "tests",
      item: { ...test, flow: text, group, note },
    });
  return (
    <div className="px-4 py-3">
      <h2 className="mb-2 font-semibold">Test flow</h2>
      <NotationField
        network={id}
        asked={FLOW}
        label="Test flow"
        hint={flowLike(network.draft)}
        value={text}
        invalid={false}
        onChange={setText}
        onSubmit={save}
      />
      <div className="mt-2 grid grid-cols-[3.5rem_minmax(0,1fr)] items-center gap-y-1.5">
        <label htmlFor="group" className="quiet">
          Group
        </label>
        <input
          id="group"
          className="field"
          value={group}
          onChange={(event) => setGroup(event.target.value)}
        />
        <label htmlFor="note" className="quiet">
          Note
        </label>
        <input id="note" className="field" value={note} onChange={(event) => setNote(event.target.value)} />
      </div>
      <div className="mt-2 flex flex-wrap gap-2">
        <button type="button" className="button button-strong" disabled={!changed} onClick={save}>
          Save
        </button>
        <Duplicate test={test} />
        <button
          type="button"
          className="button"
          onClick={async () => {
            const label = `remove ${test.flow}`;
            if (await make({ do: "remove", label, collection: "tests", key: test.id }))
              go({ test: null, chosen: null });
          }}
        >
          Remove
        </button>
      </div>
      <Send test={test} />
      {marks && (
        <dl className="mt-4 grid grid-cols-[4.375rem_minmax(0,1fr)] gap-y-2 border-t border-rule pt-3">
          <VerdictLine label="no lists" mark={marks.baseline} />
          <VerdictLine label="running" mark={marks.running} />
          <VerdictLine label="draft" mark={marks.draft} />
          <TriedLines kind="test" of={test.id} />
        </dl>
      )}
      <Since test={test} />
      <WhereItGoes text={test.flow} />
    </div>
  );
}

const WAYS: [Derivation | "copy", string][] = [
  ["copy", "As it is"],
  ["mirror", "The other way round"],
  ["other family", "In the other family"],
  ["segment", "From every host of its segment"],
];

/** Copies of a test flow, as they are or made into others. */
function Duplicate({ test }: { test: TestFlow }) {
  const { id, make } = useOpened();
  const location = useLocation();
  const copy = async (how: Derivation | "copy") => {
    try {
      const flows = how === "copy" ? [test.flow] : (await derive(id, test.flow, how)).flows;
      const label = `duplicate ${test.flow}`;
      const [first] = (await make({ do: "new-tests", label, flows, group: test.group })) ?? [];
      if (first) goToTest(first.key, { view: location.view });
    } catch (error) {
      fail(error);
    }
  };
  return (
    <Menu
      className="button"
      items={WAYS.map(([how, label]): [string, () => void] => [label, () => copy(how)])}
    >
      Duplicate ▾
    </Menu>
  );
}

/** Since when the flow comes to what it comes to, and what it came to before. */
function Since({ test }: { test: TestFlow }) {
  const { id } = useOpened();
  const { book } = useVerdicts();
  const history = useHistory(id, book?.version, test.id);
  const [latest, ...before] = history.data ?? [];
  if (!latest) return <Failed of={history} className="mt-3" />;
  return (
    <details className="mt-3 border-t border-rule pt-2">
      <summary className="cursor-pointer">
        {latest.verdict ?? "cannot be tried"} since {when(latest.at)}
        {latest.edit && <span className="quiet">, after “{latest.edit}”</span>}
      </summary>
      <ul className="quiet mt-1 text-fine">
        {before.map((past) => (
          <li key={`${past.version}${past.at}`} className="flex gap-1.5 py-0.5">
            <VerdictShape shape={(past.verdict as Verdict | null) ?? "unknown"} size={12} />
            <span>
              {past.verdict ?? "could not be tried"} from {when(past.at)}
              {past.edit && `, after “${past.edit}”`}
            </span>
          </li>
        ))}
        {before.length === 0 && <li>It always had this outcome.</li>}
      </ul>
    </details>
  );
}

const when = (at: string) =>
  new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });

const keptWords = (kept: { device: string; lasts: string }[]) =>
  kept.length ? `, remembered by ${kept.map(({ device, lasts }) => `${device} (${lasts})`).join(", ")}` : "";

/** Sending the flow for real: it is counted and logged at the lists that it meets. */
function Send({ test }: { test: TestFlow }) {
  const { id, at } = useOpened();
  const location = useLocation();
  const { send } = useTraffic(id, at);
  const [times, setTimes] = useState(1);
  const state = location.state;
  const act = () =>
    send.mutate(
      { flow: bareFlow(test.flow), times, state },
      {
        onSuccess: (sent) =>
          say(
            `Sent${times > 1 ? ` ${times} times` : ""}: ${sent.text}. ` +
              `${sent.counted} counted at lists, ${sent.logged} logged${keptWords(sent.kept)}.`,
          ),
        onError: fail,
      },
    );
  return (
    <form
      className="mt-3 flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        act();
      }}
    >
      <button type="submit" className="button" disabled={send.isPending}>
        Send
      </button>
      <input
        type="number"
        min={1}
        max={1_000_000}
        aria-label="How many times"
        className="field w-[84px]"
        value={times}
        onChange={(event) => setTimes(Math.max(1, Number(event.target.value) || 1))}
      />
      <span className="quiet text-fine">
        {times === 1 ? "time" : "times"}, {state === "baseline" ? "with no lists" : `as ${state}`}: counts and
        logs
      </span>
    </form>
  );
}

const STANDING = { holds: "As expected.", fails: "Not as expected.", inconclusive: "Inconclusive." };

function VerdictLine({ label, mark }: { label: string; mark: Mark }) {
  const { place, judgement } = mark;
  return (
    <>
      <dt className="quiet flex items-start gap-1.5">
        <span className="pt-[3px]">
          <VerdictShape shape={mark.verdict ?? "unknown"} size={12} />
        </span>
        {label}
      </dt>
      <dd>
        {capital(mark.text)}.{" "}
        {judgement && (
          <span className={judgement.standing === "holds" ? "text-tide" : "font-medium text-ochre"}>
            {STANDING[judgement.standing]} {judgement.reason}
          </span>
        )}{" "}
        <Times of={mark.times} />
        {place?.at && place.direction && (
          <button
            type="button"
            className="quiet underline"
            onClick={() =>
              go({
                chosen: `point:${pointKey({ device: place.device, at: place.at ?? "", direction: place.direction ?? "" })}`,
              })
            }
          >
            show the place
          </button>
        )}
      </dd>
    </>
  );
}
