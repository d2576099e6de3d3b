import { useEffect, useState } from "react";
import type { Choice } from "../api/client";
import { useWorkbench } from "../shell/context";
import { useAdvice } from "./usePolicy";

const FIRST = 6;

/** Where should it go? Every place that was tried, as a list here and as a lens over the map. */
export function WhereItGoes({ text }: { text: string }) {
  const { id, network, lens } = useWorkbench();
  const [asked, setAsked] = useState(false);
  const [all, setAll] = useState(false);
  const advice = useAdvice(id, network.version, text, asked);
  const { open, show } = lens;
  const choices = asked ? advice.data?.choices : undefined;
  useEffect(() => {
    open(choices ?? []);
    show(choices?.[0] ?? null);
    return () => {
      open([]);
      show(null);
    };
  }, [choices, open, show]);

  if (!asked)
    return (
      <button type="button" className="button mt-3" data-key="w" onClick={() => setAsked(true)}>
        Where should it go?
      </button>
    );
  if (advice.isError)
    return (
      <p role="alert" className="mt-3 text-clay">
        {advice.error.message}
      </p>
    );
  if (!advice.data)
    return (
      <p role="status" className="quiet mt-3">
        Trying every place, {Math.round(advice.done * 100)}%…{" "}
        <button type="button" className="underline" onClick={() => setAsked(false)}>
          Cancel
        </button>
      </p>
    );
  const shown = all ? advice.data.choices : advice.data.choices.slice(0, FIRST);
  return (
    <section
      aria-label="Where it could go"
      ref={(section) => section?.scrollIntoView({ block: "nearest" })}
      className="mt-3 border-t border-rule pt-2"
    >
      <p>{advice.data.text}</p>
      <ol className="mt-1">
        {shown.map((choice) => (
          <ChoiceItem key={`${choice.kind}${choice.family}${choice.text}`} choice={choice} />
        ))}
      </ol>
      {advice.data.choices.length > shown.length && (
        <button type="button" className="mt-1 underline" onClick={() => setAll(true)}>
          {advice.data.choices.length - shown.length} more
        </button>
      )}
    </section>
  );
}

function ChoiceItem({ choice }: { choice: Choice }) {
  const { lens, preview, make, go } = useWorkbench();
  const chosen = lens.shown === choice;
  const edit = { label: `${choice.new ? "place" : "add to"} ${choice.list}`, changes: choice.changes };
  const trying = preview.shown?.edit.changes === choice.changes;
  const attempt = () => preview.show(trying ? null : { list: choice.list, edit, kind: "tried" });
  useEffect(() => {
    if (trying && !chosen) preview.show(null);
  });
  const take = async () => {
    preview.show(null);
    const [point] = choice.points;
    if ((await make(edit)) && point && choice.points.length === 1)
      go({ chosen: `point:${point.device}:${point.at}:${point.direction}` });
  };
  return (
    <li className={`border-b border-rule py-1.5 ${chosen ? "bg-plate" : ""}`}>
      <button
        type="button"
        aria-expanded={chosen}
        className="w-full text-left"
        onClick={() => lens.show(chosen ? null : choice)}
      >
        <span className={choice.holds ? "font-semibold text-tide" : "text-ochre"} aria-hidden="true">
          {choice.holds ? "◆ " : "◇ "}
        </span>
        <span className="sr-only">{choice.holds ? "It is enough. " : "It is not enough. "}</span>
        {choice.text}
        <span className="quiet">
          {" "}
          {choice.kind}, {choice.family === "ipv4" ? "IPv4" : "IPv6"}
        </span>
      </button>
      {chosen && (
        <div className="mt-1">
          <pre className="font-mono text-fine break-words whitespace-pre-wrap">
            {`${choice.new ? `list ${choice.list}` : `into ${choice.list}`}\n${choice.entries.join("\n")}`}
          </pre>
          {choice.collateral.examples.length > 0 && (
            <ul className="text-fine">
              {choice.collateral.examples.map((example) => (
                <li key={example}>{example}</li>
              ))}
            </ul>
          )}
          <div className="mt-1.5 flex gap-2">
            <button type="button" className="button" data-key="v" aria-pressed={trying} onClick={attempt}>
              {trying ? "Stop trying" : "Try it"}
            </button>
            <button type="button" className="button button-strong" data-key="a" onClick={take}>
              Take it
            </button>
          </div>
        </div>
      )}
    </li>
  );
}
