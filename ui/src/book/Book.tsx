import { useEffect, useRef, useState } from "react";
import { ActionMenu } from "../actions/ActionMenu";
import type { TestFlow, TestMarks } from "../api/client";
import { readFlow, readTable, useFlowReading } from "../api/reading";
import { agreeing, useLastRehearsal } from "../api/rehearsal";
import { NotationField } from "../editor/NotationField";
import { FLOW } from "../editor/notation";
import { Failed } from "../kit/Failed";
import { fail, say } from "../kit/notices";
import { TriedMark } from "../marks/TriedMark";
import { VerdictMark } from "../marks/VerdictMark";
import { Requirements } from "../policy/Requirements";
import { flowLike } from "../state/examples";
import { goToTest, useLocation } from "../state/location";
import { counted } from "../state/words";
import { useForeseen } from "../workbench/foreseen";
import { useHandler } from "../workbench/handlers";
import { useOpened, useVerdicts } from "../workbench/opened";
import { useTrial } from "../workbench/trial";

/** The left side: every test flow with its three verdicts. */
export function Book() {
  const { id, network, run } = useOpened();
  const { book, trying, read } = useVerdicts();
  const { trial } = useTrial();
  const foreseen = useForeseen();
  const location = useLocation();
  const [surprises, setSurprises] = useState(false);
  const marks = new Map(book?.tests.map((test) => [test.id, test]));
  const previewed = new Map(foreseen.tests?.map((test) => [test.id, test]));
  const last = useLastRehearsal(id, network.version).data?.last;
  const tried = agreeing(last, "test");
  const tests = network.draft.tests;
  const groups = [...new Set(tests.map((test) => test.group))];
  const unexpected = tests.filter((test) => isSurprise(marks.get(test.id)));
  const shown = surprises ? unexpected : tests;
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const fold = (group: string) =>
    setFolded((before) => {
      const after = new Set(before);
      if (!after.delete(group)) after.add(group);
      return after;
    });
  return (
    <aside aria-label="Book" data-keys tabIndex={-1} className="flex min-h-0 min-w-0 flex-col outline-none">
      <Requirements />
      <div className="flex items-baseline justify-between px-4 pt-3 pb-1">
        <h2 className="flex items-baseline gap-1 font-semibold">
          Test flows <TableMenu />
        </h2>
        <span className="quiet mr-2.5 flex text-fine" aria-hidden="true">
          {last && <span className="mr-1.5">tried</span>}
          <span className="w-[1.7rem] text-center">none</span>
          <span className="w-[1.7rem] text-center">run</span>
          <span className={`w-[1.7rem] text-center ${trial ? "font-semibold text-ochre" : ""}`}>
            {trial ? "trial" : "draft"}
          </span>
        </span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto pb-3">
        {tests.length === 0 && (
          <p className="quiet px-4 py-2">
            No test flows yet. Write one below: who sends, to whom, what, and pass or block.
          </p>
        )}
        {surprises && unexpected.length === 0 && book && !trying.stale && (
          <p className="quiet px-4 py-2">Everything is as expected.</p>
        )}
        {groups.map((group) => {
          const members = shown.filter((test) => test.group === group);
          return members.length ? (
            <section key={group} aria-label={group || "No group"}>
              <h3 className="group flex items-baseline px-4 pt-2 pb-0.5">
                <button
                  type="button"
                  className="quiet flex flex-1 items-baseline gap-1 text-left text-fine"
                  aria-expanded={!folded.has(group)}
                  onClick={() => fold(group)}
                >
                  {group || "No group"}
                  {folded.has(group) && (
                    <span>
                      : {members.length}
                      {members.some((test) => isSurprise(marks.get(test.id))) && (
                        <span className="text-ochre">, not all as expected</span>
                      )}
                    </span>
                  )}
                </button>
                <button
                  type="button"
                  className="text-fine underline opacity-0 focus-visible:opacity-100 group-hover:opacity-100"
                  aria-label={`Run ${group || "the flows without a group"}`}
                  onClick={() => run(tests.filter((test) => test.group === group))}
                >
                  run
                </button>
              </h3>
              <ul hidden={folded.has(group)}>
                {members.map((test) => (
                  <Row
                    key={test.id}
                    test={test}
                    marks={marks.get(test.id)}
                    previewed={previewed.get(test.id)}
                    chosen={location.test === test.id}
                    tried={tried.get(test.id)}
                    stale={last?.stale ?? false}
                  />
                ))}
              </ul>
            </section>
          ) : null;
        })}
      </div>
      <div className="border-t border-rule px-3 py-2">
        <Failed of={read} className="pb-1 text-fine" />
        <NewTest />
        <div className="quiet mt-1 flex items-baseline justify-between text-fine">
          <span data-testid="book-summary">
            {counted(tests.length, "flow")}, <Outcome unexpected={unexpected.length} />
          </span>
          <button
            type="button"
            aria-pressed={surprises}
            className="underline aria-pressed:font-semibold aria-pressed:text-ink"
            onClick={() => setSurprises(!surprises)}
          >
            {surprises ? "show all" : "surprises only"}
          </button>
        </div>
      </div>
    </aside>
  );
}

/** What the book comes to, as far as it is known. */
function Outcome({ unexpected }: { unexpected: number }) {
  const { network } = useOpened();
  const { book, trying } = useVerdicts();
  if (network.draft.tests.length === 0) return <>none to try</>;
  if (!book) return <>not tried yet{trying.working ? `: ${Math.round(trying.done * 100)}%` : ""}</>;
  if (trying.stale) return <>being tried again: {Math.round(trying.done * 100)}%</>;
  return <>{unexpected === 0 ? "all as expected" : `${unexpected} not as expected`}</>;
}

const isSurprise = (marks: TestMarks | undefined) =>
  marks !== undefined && marks.draft.judgement?.standing !== "holds";

interface TestRowProps {
  test: TestFlow;
  marks: TestMarks | undefined;
  previewed: TestMarks | undefined;
  chosen: boolean;
  /** Whether real packets did as was predicted, in the last rehearsal. */
  tried: boolean | undefined;
  stale: boolean;
}

function Row({ test, marks, previewed, chosen, tried, stale }: TestRowProps) {
  const { trying } = useVerdicts();
  const row = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    if (chosen) row.current?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  const [, ends, service, expect] = /^(.*) (\S+(?: source-port \d+)?) (pass|block)$/.exec(test.flow) ?? [];
  const changed =
    marks !== undefined && previewed !== undefined && previewed.draft.verdict !== marks.draft.verdict;
  return (
    <li>
      <button
        ref={row}
        type="button"
        aria-current={chosen ? "true" : undefined}
        data-test={test.id}
        onClick={() => goToTest(test.id)}
        className={`flex w-full items-start gap-1 border-l-[3px] py-0.5 pr-1.5 pl-[9px] text-left ${
          chosen ? "border-ink bg-plate" : "border-transparent hover:bg-plate/70"
        }`}
      >
        <span className="min-w-0 flex-1 leading-[1.125rem] [overflow-wrap:anywhere]">
          {ends} <span className="quiet">{service}</span>
          <span className="sr-only">, should {expect}</span>
        </span>
        {tried !== undefined && <TriedMark agrees={tried} stale={stale} />}
        {!marks && <Untried />}
        {marks && (
          <span className={`flex items-center gap-0.5 ${trying.stale ? "opacity-45" : ""}`}>
            <VerdictMark label="no lists" mark={marks.baseline} />
            <VerdictMark label="running" mark={marks.running} />
            <VerdictMark
              label={previewed ? "trial" : "draft"}
              mark={(changed && previewed ? previewed : marks).draft}
              changed={changed}
            />
          </span>
        )}
      </button>
    </li>
  );
}

/** In the place of marks that are not there: three dots, and no verdict. */
const Untried = () => (
  <span className="quiet flex gap-0.5">
    <span className="sr-only">not tried yet</span>
    {["none", "running", "draft"].map((state) => (
      <span key={state} aria-hidden="true" className="w-[27px] text-center">
        ·
      </span>
    ))}
  </span>
);

/** The whole book as a table: out to a file, or in from one. */
function TableMenu() {
  const { id, make } = useOpened();
  const file = useRef<HTMLInputElement>(null);
  useHandler("book.import", () => file.current?.click());
  const read = async (chosen: File) => {
    try {
      const text = await chosen.text();
      const { changes } = await readTable(id, text);
      if (!changes.length) say(`${chosen.name} has no test flows.`);
      else if (await make({ do: "changes", label: `import ${chosen.name}`, made: changes }))
        say(`${changes.length} test flows were added from ${chosen.name}.`);
    } catch (error) {
      fail(error);
    }
  };
  return (
    <>
      <input
        ref={file}
        type="file"
        accept=".csv,text/csv"
        aria-label="Table of test flows"
        className="sr-only"
        tabIndex={-1}
        onChange={(event) => {
          const chosen = event.target.files?.[0];
          if (chosen) read(chosen);
          event.target.value = "";
        }}
      />
      <ActionMenu
        className="quiet px-1 font-normal"
        label="The whole book"
        actions={["book.run", "book.export", "book.import"]}
      >
        ▾
      </ActionMenu>
    </>
  );
}

/** What is being written outlives a look elsewhere, in the network that it is written in. */
const keptFor = (network: string) => `grey-heron:new-test:${network}`;

function NewTest() {
  const { id, network, make } = useOpened();
  const location = useLocation();
  const [text, setText] = useState(() => sessionStorage.getItem(keptFor(id)) ?? "");
  const [tried, setTried] = useState(false);
  useEffect(() => sessionStorage.setItem(keptFor(id), text), [id, text]);
  const asked = tried && text.trim() !== "";
  const reading = useFlowReading(id, network.version, text, asked);
  const problem = asked ? reading.data?.problems[0] : undefined;

  const submit = async () => {
    if (!text.trim()) return;
    setTried(true);
    const read = await readFlow(id, text).catch(fail);
    if (!read?.formatted) return;
    const group = network.draft.tests.find((test) => test.id === location.test)?.group ?? "";
    const [made] = (await make({ do: "new-tests", flows: [read.formatted], group })) ?? [];
    if (!made) return;
    setText("");
    setTried(false);
    goToTest(made.key);
  };

  return (
    <>
      <NotationField
        key={flowLike(network.draft)}
        network={id}
        asked={FLOW}
        label="New test flow"
        hint={flowLike(network.draft)}
        value={text}
        invalid={problem !== undefined}
        onChange={setText}
        onSubmit={submit}
      />
      <Failed of={reading} className="mt-1 text-fine" />
      {problem && (
        <p role="alert" className="mt-1 text-fine text-clay">
          {problem.message}
        </p>
      )}
    </>
  );
}
