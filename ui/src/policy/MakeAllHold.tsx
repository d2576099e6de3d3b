import { useState } from "react";
import type { PolicyPlan } from "../api/client";
import { useAllHolding } from "../api/computed";
import { Failed } from "../kit/Failed";
import { Stage } from "../kit/Stage";
import { go } from "../state/location";
import { counted } from "../state/words";
import { useOpened } from "../workbench/opened";
import { AttemptButtons, useAttempt } from "./Attempt";

/** Lists that make all requirements hold at once: two or three ways, to be tried and taken. */
export function MakeAllHold() {
  const { id, network, at } = useOpened();
  const found = useAllHolding(id, network.version, at);
  const { data } = found;
  const [chosen, setChosen] = useState(0);
  return (
    <section aria-label="Make all hold" className="px-4 py-3">
      <h2 className="mb-2 font-semibold">Make all hold</h2>
      <Failed of={found} className="" />
      {!data && !found.error && (
        <Stage words="Choosing places, and proving every requirement" done={found.done} />
      )}
      {data && <p>{data.text}</p>}
      {data && data.at_odds.length > 0 && (
        <ul className="mt-2 border-l-2 border-clay pl-2">
          {data.at_odds.map((statement) => (
            <li key={statement}>
              <button
                type="button"
                className="text-left hover:underline"
                onClick={() => {
                  const same = network.draft.requirements.find((each) => each.statement === statement);
                  if (same) go({ chosen: `requirement:${same.id}` });
                }}
              >
                {statement}
              </button>
            </li>
          ))}
        </ul>
      )}
      <ol className="mt-1">
        {data?.plans.map((plan, number) => (
          <PlanItem
            key={plan.aims.join()}
            plan={plan}
            open={number === chosen}
            onOpen={() => setChosen(number === chosen ? -1 : number)}
          />
        ))}
      </ol>
    </section>
  );
}

interface PlanProps {
  plan: PolicyPlan;
  open: boolean;
  onOpen: () => void;
}

function PlanItem({ plan, open, onOpen }: PlanProps) {
  const of = { list: plan.lists[0]?.name ?? "", label: "make all requirements hold", changes: plan.changes };
  const trying = useAttempt(of, open, () => go({ chosen: null }));
  const [first = "", ...rest] = plan.aims;
  const title = [`${first[0]?.toUpperCase()}${first.slice(1)}`, ...rest].join(", ");
  return (
    <li className={`-mx-2 border-b border-rule px-2 py-1.5 ${open ? "bg-plate" : ""}`}>
      <button type="button" aria-expanded={open} className="w-full text-left" onClick={onOpen}>
        <span className="font-semibold">{title}</span>
        <span className="quiet">
          : {counted(plan.places, "new place")}, {counted(plan.entries, "new entry", "new entries")}
        </span>
      </button>
      {open && (
        <>
          <Harm of={plan} />
          <PlannedLists of={plan} />
          <AttemptButtons trying={trying} />
        </>
      )}
    </li>
  );
}

function PlannedLists({ of: { lists } }: { of: PolicyPlan }) {
  return (
    <ul>
      {lists.map((each) => (
        <li key={each.name} className="mt-1.5">
          <span className="font-mono">{each.name}</span>{" "}
          <span className="quiet">{each.new ? "new" : "extended"}</span>
          <pre className="font-mono text-fine break-words whitespace-pre-wrap">{each.added.join("\n")}</pre>
          {each.places.map((place) => (
            <p key={place} className="text-fine">
              <span className="quiet">placed</span> {place}
            </p>
          ))}
        </li>
      ))}
    </ul>
  );
}

/** What a plan would break beside the requirements. */
function Harm({ of: { broken, locked, cut, hosts } }: { of: PolicyPlan }) {
  const said = [
    ...broken.map((flow) => `${flow} would fail`),
    ...locked.map((device) => `nobody on the map could log in to ${device}`),
    ...hosts.map((host) => `${host} would need a filter of its own`),
    ...cut.map((pair) => `${pair} would no longer be routing neighbours`),
  ];
  if (said.length === 0) return <p className="quiet text-fine">No test flow would break.</p>;
  return (
    <ul className="text-clay">
      {said.map((each) => (
        <li key={each}>{each}</li>
      ))}
    </ul>
  );
}
