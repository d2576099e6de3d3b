import type { ExchangeReport, HopReport, StepReport } from "../api/client";
import { usePartings } from "../api/queries";
import { Failed } from "../kit/Failed";
import { go } from "../state/location";
import { notRunningYet } from "../state/running";
import { bareFlow, capital } from "../state/words";
import { useForeseen } from "../workbench/foreseen";
import { useOpened } from "../workbench/opened";
import { useShared } from "../workbench/store";
import { useTracing } from "../workbench/tracing";
import { useTrial } from "../workbench/trial";

/** Why: the list with every entry that was passed over, the header, the routes that lost, what is seen. */
export function Evidence({ exchange }: { exchange: ExchangeReport }) {
  const hop = useShared((shared) => shared.hop);
  const stopped = exchange.verdict !== "passes";
  const deciding = stopped ? exchange[exchange.decided_on]?.hops.at(-1) : undefined;
  const looked = hop ? exchange[hop.way]?.hops[hop.index] : deciding;
  return (
    <aside aria-label="Evidence" className="min-h-0 overflow-y-auto bg-plate px-3 py-2">
      <p className={stopped ? "font-semibold text-clay" : "font-semibold text-tide"}>
        {sentence(exchange.text)}
      </p>
      <p className="mb-1">The sender sees {exchange.sees.text}.</p>
      {looked && <HopEvidence hop={looked} />}
      {!looked && <p className="quiet">Choose a hop to see the header there and what was decided.</p>}
      <Partings />
      <KeptByDevices kept={exchange.kept} />
    </aside>
  );
}

const NAMES: Record<string, string> = { baseline: "no lists", running: "running", draft: "draft" };

/** Where the traces with no lists, as running and on the draft stop being the same. */
function Partings() {
  const { id, network, at } = useOpened();
  const { test } = useTracing();
  const compared = test && notRunningYet(network, test.flow).length === 0 ? bareFlow(test.flow) : null;
  const partings = usePartings(id, network.version, at, compared);
  const found = partings.data;
  if (!found?.length) return <Failed of={partings} className="text-fine" />;
  return (
    <dl className="mt-2 border-t border-rule pt-1 text-fine">
      {found.map((parting) => (
        <div key={parting.second} className="mb-1">
          <dt className="font-semibold">
            {capital(NAMES[parting.second] ?? "")} parts from {NAMES[parting.first]} at {parting.device}
            {parting.way === "home" ? ", on the way home" : ""}
          </dt>
          <dd className="quiet">
            {NAMES[parting.first]}: {parting.before ?? "nothing more"}
          </dd>
          <dd>
            {NAMES[parting.second]}: {parting.after ?? "nothing more"}
          </dd>
        </div>
      ))}
    </dl>
  );
}

/** Sessions and translations of the conversation when it has ended, and for how long. */
function KeptByDevices({ kept }: { kept: ExchangeReport["kept"] }) {
  if (!kept.length) return null;
  return (
    <section aria-label="Sessions and translations" className="mt-2 border-t border-rule pt-1 text-fine">
      <h3 className="font-semibold">Sessions and translations</h3>
      <ul>
        {kept.map((each) => (
          <li key={each.device} className="mb-1">
            {each.device}: {each.protocol} {each.tracked ? "session" : "translation"} {each.state},{" "}
            <span className="quiet">kept for {each.lasts}</span>
            <div className="font-mono">{each.came}</div>
            {each.translated && <div className="font-mono">as {each.sent}</div>}
          </li>
        ))}
      </ul>
    </section>
  );
}

const sentence = (text: string) => `${capital(text)}.`;

function HopEvidence({ hop }: { hop: HopReport }) {
  return (
    <>
      {hop.steps
        .filter((step) => step.decision)
        .map((step) => (
          <ListEvidence
            device={hop.device}
            key={`${step.decision?.list}${step.decision?.device}${step.decision?.at}${step.decision?.direction}`}
            step={step}
          />
        ))}
      {hop.steps.map((step) =>
        step.lost.map((lost) => (
          <p key={lost} className="quiet text-fine">
            Route not used: {lost}
          </p>
        )),
      )}
      <dl className="mt-1 grid grid-cols-[minmax(5rem,auto)_1fr] gap-x-2 text-fine">
        {hop.header.map((line) => (
          <div key={line.field} className="contents">
            <dt className="quiet">{line.field}</dt>
            <dd className="font-mono">{line.value}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

function ListEvidence({ step, device }: { step: StepReport; device: string }) {
  const { network } = useOpened();
  const { viewing } = useTrial();
  const { lists } = useForeseen();
  const decision = step.decision;
  if (!decision) return null;
  const state = viewing === "running" ? network.running : network.draft;
  const written = viewing === "trial" ? lists : [];
  const list = [...written, ...state.lists].find((each) => each.name === decision.list);
  const lines = (list?.entries ?? "").split("\n").filter((line) => line && !line.startsWith("#"));
  const text = (entry: number) => lines.find((line) => line.startsWith(`${entry} `)) ?? String(entry);
  return (
    <div className="my-1 border-y border-rule py-1">
      <button
        type="button"
        className="mb-0.5 font-semibold underline"
        onClick={() => go({ chosen: `list:${decision.list}` })}
      >
        {decision.list}
      </button>{" "}
      {decision.device !== device && (
        <span className="quiet text-fine">
          on {decision.device} {decision.at}
        </span>
      )}
      <ol className="text-fine">
        {decision.passed_over.map((passed) => (
          <li key={passed.entry} className="quiet">
            <span className="font-mono">{text(passed.entry)}</span> · {passed.field} differs
          </li>
        ))}
        <li className={decision.action === "deny" ? "text-clay" : "text-tide"}>
          <span className="font-mono font-semibold">
            {decision.entry === null ? "deny any (implicit)" : text(decision.entry)}
          </span>{" "}
          · decides
        </li>
      </ol>
    </div>
  );
}
