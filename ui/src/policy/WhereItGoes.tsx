import { Fragment, useEffect, useMemo, useRef, useState } from "react";
import { ActionButton } from "../actions/ActionButton";
import type { Choice } from "../api/client";
import { useAdvice } from "../api/computed";
import { Failed } from "../kit/Failed";
import { go } from "../state/location";
import { pointKey } from "../state/points";
import { FAMILY_WORDS } from "../state/words";
import { useHandler } from "../workbench/handlers";
import { useOpened } from "../workbench/opened";
import { share, useShared } from "../workbench/store";
import { AttemptButtons, useAttempt } from "./Attempt";

const FIRST = 6;
const KINDS: [string, Choice["kind"] | null][] = [
  ["Every kind", null],
  ["Extended", "extended"],
  ["Standard", "standard"],
];

/** Where should it go? Every place that was tried, as a list here and as a lens over the map. */
export function WhereItGoes({ text }: { text: string }) {
  const { id, network, at } = useOpened();
  const [asked, setAsked] = useState(false);
  const [all, setAll] = useState(false);
  const [kind, setKind] = useState<Choice["kind"] | null>(null);
  const advice = useAdvice(id, network.version, at, text, asked);
  const found = advice.data ?? advice.early;
  const choices = useMemo(
    () => (asked ? found?.choices.filter((choice) => kind === null || choice.kind === kind) : undefined),
    [asked, found, kind],
  );
  const whole = asked && advice.data !== undefined;
  // What was looked at while the others were tried stays looked at.
  const looked = useRef<string | null>(null);
  useEffect(() => {
    const { choice } = useShared.getState();
    looked.current = choice && nameOf(choice);
  });
  useEffect(() => {
    const same = choices?.find((choice) => nameOf(choice) === looked.current);
    share({ choices: choices ?? [], choice: same ?? (whole ? choices?.[0] : null) ?? null });
  }, [choices, whole]);
  useEffect(() => () => share({ choices: [], choice: null }), []);

  useHandler("advice.ask", asked ? null : () => setAsked(true));
  if (!asked)
    return (
      <ActionButton action="advice.ask" className="button mt-3">
        Where should it go?
      </ActionButton>
    );
  if (advice.error) return <Failed of={advice} className="mt-3" />;
  const trying = !advice.data && (
    <p role="status" className="quiet mt-3">
      Trying every place, {Math.round(advice.done * 100)}%…{" "}
      <button type="button" className="underline" onClick={() => setAsked(false)}>
        Cancel
      </button>
    </p>
  );
  if (!found || !choices) return trying;
  const shown = all ? choices : choices.slice(0, FIRST);
  return (
    <section
      aria-label="Where it could go"
      ref={(section) => section?.scrollIntoView({ block: "nearest" })}
      className="mt-3 border-t border-rule pt-2"
    >
      {advice.data ? <p>{advice.data.text}</p> : trying}
      {new Set(found.choices.map((choice) => choice.kind)).size > 1 && (
        <fieldset className="mt-1.5 flex gap-1.5">
          <legend className="sr-only">Kinds of lists</legend>
          {KINDS.map(([label, which]) => (
            <button
              key={label}
              type="button"
              className="button aria-pressed:border-ink aria-pressed:font-semibold"
              aria-pressed={kind === which}
              onClick={() => setKind(which)}
            >
              {label}
            </button>
          ))}
        </fieldset>
      )}
      <ol className="mt-1">
        {shown.map((choice, index) => (
          <Fragment key={nameOf(choice)}>
            {choice.on_hosts && !shown[index - 1]?.on_hosts && (
              <li className="quiet border-b border-rule pt-2 pb-1 text-fine">Filters of hosts themselves</li>
            )}
            <ChoiceItem choice={choice} />
          </Fragment>
        ))}
      </ol>
      {choices.length > shown.length && (
        <button type="button" className="mt-1 underline" onClick={() => setAll(true)}>
          {choices.length - shown.length} more
        </button>
      )}
    </section>
  );
}

const nameOf = ({ kind, family, measure, list, points }: Choice) =>
  [kind, family, measure, list, ...points.map(pointKey)].join(" ");

const DOES: Record<Choice["measure"], string> = {
  new: "place",
  extended: "add to",
  widened: "add to",
  moved: "move",
  opened: "place",
};
const SAYS: Record<Choice["measure"], string> = {
  new: "list",
  extended: "into",
  widened: "into",
  moved: "move",
  opened: "list",
};

function ChoiceItem({ choice }: { choice: Choice }) {
  const chosen = useShared((shared) => shared.choice === choice);
  const of = { list: choice.list, label: `${DOES[choice.measure]} ${choice.list}`, changes: choice.changes };
  const trying = useAttempt(of, chosen, () => {
    const [point] = choice.points;
    if (point && choice.points.length === 1) go({ chosen: `point:${pointKey(point)}` });
  });
  return (
    <li className={`border-b border-rule py-1.5 ${chosen ? "bg-plate" : ""}`}>
      <button
        type="button"
        aria-expanded={chosen}
        className="w-full text-left"
        onClick={() => share({ choice: chosen ? null : choice })}
      >
        <span className={choice.holds ? "font-semibold text-tide" : "text-ochre"} aria-hidden="true">
          {choice.holds ? "◆ " : "◇ "}
        </span>
        <span className="sr-only">{choice.holds ? "It is enough. " : "It is not enough. "}</span>
        {choice.text}
        <span className="quiet">
          {" "}
          {choice.kind}, {FAMILY_WORDS[choice.family]}
        </span>
      </button>
      {chosen && (
        <div className="mt-1">
          <pre className="font-mono text-fine break-words whitespace-pre-wrap">
            {[`${SAYS[choice.measure]} ${choice.list}`, ...choice.entries].join("\n")}
          </pre>
          {choice.collateral.examples.length > 0 && (
            <ul className="text-fine">
              {choice.collateral.examples.map((example) => (
                <li key={example}>{example}</li>
              ))}
            </ul>
          )}
          <AttemptButtons trying={trying} />
        </div>
      )}
    </li>
  );
}
