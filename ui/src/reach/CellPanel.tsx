import type { Intent, ReachQuestion, TestMarks } from "../api/client";
import { type CellOf, useCell } from "../api/reading";
import { Failed } from "../kit/Failed";
import { VerdictMark } from "../marks/VerdictMark";
import { goToTest } from "../state/location";
import { bareFlow } from "../state/words";
import { useOpened } from "../workbench/opened";
import { CellShape } from "./CellShape";
import { cellWords, type Line } from "./fold";

interface CellPanelProps {
  question: ReachQuestion;
  /** What is tried, if anything is. */
  intent: Intent | null;
  from: Line;
  to: Line;
  bits: number;
  devices: string[];
  draft: string[];
  onOpen: (source: number, destination: number) => void;
}

/** What stands behind a cell: the pairs of devices of a folded one, the conversations of a pair. */
export function CellPanel({ question, intent, from, to, bits, devices, draft, onOpen }: CellPanelProps) {
  const pair = from.members.length === 1 && to.members.length === 1;
  return (
    <div className="px-4 py-3">
      <h2 className="font-semibold">
        {from.label} → {to.label}
      </h2>
      <p className="quiet mt-1 mb-3 flex items-center gap-1.5">
        <CellShape bits={bits} /> {question.services.join(", ")}: {cellWords(bits)}
      </p>
      {pair ? (
        <Conversations
          question={question}
          intent={intent}
          source={devices[from.members[0] ?? 0] ?? ""}
          destination={devices[to.members[0] ?? 0] ?? ""}
        />
      ) : (
        <Pairs from={from} to={to} devices={devices} draft={draft} onOpen={onOpen} />
      )}
    </div>
  );
}

const MOST = 60;

function Pairs({
  from,
  to,
  devices,
  draft,
  onOpen,
}: Pick<CellPanelProps, "from" | "to" | "devices" | "draft" | "onOpen">) {
  const pairs = from.members.flatMap((source) =>
    to.members
      .filter((destination) => destination !== source)
      .map((destination) => ({ source, destination })),
  );
  return (
    <ul>
      {pairs.slice(0, MOST).map(({ source, destination }) => {
        const bits = (draft[source]?.charCodeAt(destination) ?? 48) - 48;
        return (
          <li key={`${source} ${destination}`} className="border-t border-rule">
            <button
              type="button"
              className="flex w-full items-center gap-2 py-1 text-left hover:bg-plate"
              onClick={() => onOpen(source, destination)}
            >
              <CellShape bits={bits} />
              <span className="flex-1">
                {devices[source]} → {devices[destination]}
              </span>
              <span className="quiet">{cellWords(bits)}</span>
            </button>
          </li>
        );
      })}
      {pairs.length > MOST && <li className="quiet py-1">and {pairs.length - MOST} more pairs</li>}
    </ul>
  );
}

function Conversations({ question, intent, source, destination }: CellOf) {
  const { id, network, at, make } = useOpened();
  const found = useCell(id, network.version, at, { question, intent, source, destination });
  const write = async (marks: TestMarks) => {
    const expect = marks.draft.verdict === "passes" ? "pass" : "block";
    const flows = [`${bareFlow(marks.flow)} ${expect}`];
    const [made] = (await make({ do: "new-tests", flows, group: "Reach" })) ?? [];
    if (made) goToTest(made.key);
  };
  if (source === destination) return <p className="quiet">A device does not connect to itself.</p>;
  if (found.error) return <Failed of={found} className="" />;
  if (!found.data) return <p className="quiet">Looking…</p>;
  if (found.data.length === 0) return <p className="quiet">{destination} is asked for nothing.</p>;
  return (
    <ul>
      {found.data.map((marks) => (
        <li key={marks.flow} className="border-t border-rule py-1.5">
          <div className="flex items-start gap-1">
            <span className="min-w-0 flex-1">{bareFlow(marks.flow)}</span>
            <VerdictMark label="no lists" mark={{ ...marks.baseline, judgement: null }} />
            <VerdictMark label="running" mark={{ ...marks.running, judgement: null }} />
            <VerdictMark label="draft" mark={{ ...marks.draft, judgement: null }} />
          </div>
          <p className="quiet text-fine">{marks.draft.text}</p>
          <button
            type="button"
            className="mt-0.5 underline decoration-rule underline-offset-2"
            onClick={() => write(marks)}
          >
            Trace it as a test flow
          </button>
        </li>
      ))}
      <li className="quiet border-t border-rule pt-2 text-fine">Marks: no lists, running, draft.</li>
    </ul>
  );
}
