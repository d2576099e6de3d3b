import { autocompletion, closeCompletion, startCompletion } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { type Diagnostic, lintKeymap, setDiagnostics } from "@codemirror/lint";
import { Compartment, EditorState, Prec } from "@codemirror/state";
import { EditorView, keymap } from "@codemirror/view";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { AccessList, Intent, ListReading, ProblemItem } from "../api/client";
import { useCounters } from "../api/queries";
import { useListReading } from "../api/reading";
import { Failed } from "../kit/Failed";
import { useNotices } from "../kit/notices";
import { useFocusTaker } from "../state/focus";
import { useSettled } from "../state/useSettled";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";
import { hitGutter, hitsOf, linesOf } from "./counters";
import { duplicateEntry, moveEntryDown, moveEntryUp, remarkEntry } from "./moving";
import { completions, notation, wordIsWhole } from "./notation";

/** Milliseconds without a keystroke before the server is asked. */
const SETTLE = 40;

/** The text of a list while it is being written, kept in this browser until it is saved. */
const keptKey = (network: string, list: string) => `grey-heron:${network}:${list}`;

interface Props {
  list: AccessList;
  /** The placement whose counters are shown; all of them together when there is none. */
  point?: string;
}

export function ListEditor({ list, point }: Props) {
  const { id, network, draft } = useOpened();
  const { show: showTrial } = useTrial();
  const notices = useNotices();
  const counters = useCounters(id);
  const counts = counters.data;
  const hits = useMemo(() => hitsOf(counts ?? [], list.name, point ?? null), [counts, list.name, point]);
  const margin = useRef(new Compartment());
  const saved = list.entries ?? "";
  const key = keptKey(id, list.name);
  const [text, setText] = useState(() => localStorage.getItem(key) ?? saved);
  const [based, setBased] = useState(saved);
  const settled = useSettled(text, SETTLE);
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const dirty = text !== saved;
  const elsewhere = dirty && saved !== based;

  const { name, family, kind } = list;
  const reading = useListReading(id, network.version, { name, family, kind, entries: settled });
  const problems = reading.data?.problems ?? [];
  const current = settled === text && !reading.isPlaceholderData && reading.data !== undefined;

  // What is said of the margin is said of the text that was read.
  const idle = useMemo(
    () => (current ? linesOf(settled, reading.data?.formatted ?? "", reading.data?.idle ?? []) : []),
    [current, settled, reading.data],
  );
  const never = useMemo(
    () => new Set(idle.flatMap(([line, { matched }]) => (matched ? [] : [line]))),
    [idle],
  );

  const show = useCallback((insert: string) => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== insert) {
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert } });
    }
  }, []);

  // What was saved elsewhere is taken over only while nothing is being typed here.
  useEffect(() => {
    if (saved === based) return;
    if (text === based) {
      setText(saved);
      show(saved);
      setBased(saved);
    } else if (text === saved) setBased(saved);
  }, [saved, based, text, show]);

  useEffect(() => {
    if (dirty) localStorage.setItem(key, text);
    else localStorage.removeItem(key);
  }, [dirty, key, text]);

  const clean = current && dirty && problems.length === 0;
  useEffect(() => {
    if (clean) {
      const intent = putting(list, settled);
      showTrial({ list: list.name, label: `edit ${list.name}`, intent, kind: "typed" });
    } else if (!dirty) showTrial(null);
  }, [clean, dirty, settled, list, showTrial]);
  useEffect(() => () => showTrial(null), [showTrial]);

  const save = useCallback(async () => {
    notices.clear();
    if (view.current) closeCompletion(view.current);
    const written = view.current?.state.doc.toString() ?? text;
    try {
      const after = await draft.carryOut(putting(list, written));
      const formatted = after.draft.lists.find((each) => each.name === list.name)?.entries ?? "";
      setBased(formatted);
      setText(formatted);
      show(formatted);
    } catch (error) {
      notices.fail(error);
    }
  }, [draft, list, notices, show, text]);
  // An editor that is made anew loses its history: what is typed and counted comes into it otherwise.
  const first = useRef({ text, hits });
  const latestSave = useRef(save);
  useEffect(() => {
    latestSave.current = save;
    first.current = { text, hits };
  });

  useEffect(() => {
    if (!host.current) return;
    const { text, hits } = first.current;
    const saveNow = () => {
      latestSave.current();
      return true;
    };
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          notation,
          margin.current.of(hitGutter(hits, new Set())),
          history(),
          EditorView.lineWrapping,
          Prec.highest(keymap.of([{ key: "Enter", run: nothingLeftToChoose }])),
          autocompletion({
            override: [completions(id, { of: "entry", family: list.family ?? null, kind: list.kind })],
            icons: false,
            interactionDelay: 0,
          }),
          EditorView.contentAttributes.of({ "aria-label": `Entries of ${list.name}` }),
          keymap.of([
            { key: "Mod-s", run: saveNow, preventDefault: true },
            { key: "Mod-Enter", run: saveNow },
            { key: "Alt-ArrowUp", run: moveEntryUp },
            { key: "Alt-ArrowDown", run: moveEntryDown },
            { key: "Shift-Alt-ArrowDown", run: duplicateEntry },
            { key: "Mod-/", run: remarkEntry },
            ...defaultKeymap,
            ...historyKeymap,
            ...lintKeymap,
          ]),
          EditorView.updateListener.of((update) => {
            if (!update.docChanged) return;
            setText(update.state.doc.toString());
            const head = update.state.selection.main.head;
            const typed = update.transactions.some((each) => each.isUserEvent("input.type"));
            if (typed && update.state.sliceDoc(head - 1, head) === " ") startCompletion(update.view);
          }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, [id, list.name, list.family, list.kind]);
  useFocusTaker(`list:${list.name}`, () => {
    const editor = view.current;
    editor?.dispatch({ selection: { anchor: editor.state.doc.length } });
    editor?.focus();
  });

  useEffect(() => {
    view.current?.dispatch({ effects: margin.current.reconfigure(hitGutter(hits, never)) });
  }, [hits, never]);

  useEffect(() => {
    const editor = view.current;
    if (!editor || !current) return;
    const told = idle.map(([line, each]): ProblemItem => ({ ...WHOLE, line, message: each.text }));
    const marks = [
      ...diagnostics(editor.state, problems, "error"),
      ...diagnostics(editor.state, told, "warning"),
    ];
    editor.dispatch(setDiagnostics(editor.state, marks));
  }, [problems, idle, current]);

  const take = (line: string) => {
    const editor = view.current;
    if (!editor) return;
    const before = editor.state.doc.toString().trimEnd();
    show(`${before ? `${before}\n` : ""}${line}\n`);
    editor.dispatch({ selection: { anchor: editor.state.doc.length } });
    editor.focus();
  };

  const covers = useMemo(() => (dirty ? [] : (reading.data?.covers ?? [])), [dirty, reading.data]);
  return (
    <section aria-label={`List ${list.name}`}>
      <div className="border-y border-rule bg-plate" ref={host} />
      <div className="flex border-b border-rule bg-plate font-mono text-code text-slate" data-implicit-deny>
        <span className="w-[42px] border-r border-rule py-1 pr-1.5 text-right text-fine">
          {hits.get(0) ?? 0}
        </span>
        <span className="py-1 pl-2">
          deny any{" "}
          <span className="font-sans">
            (implicit{list.family === "ipv6" ? ", after neighbour discovery" : ""})
          </span>
        </span>
      </div>
      <Failed of={reading} />
      <Failed of={counters} />
      {saved.trim() === "" && <FirstLines list={list} onTake={take} />}
      {problems.length > 0 && (
        <ul className="px-3 pt-2" aria-label="Problems">
          {problems.map((problem) => (
            <li key={`${problem.line}:${problem.column}:${problem.message}`} className="text-clay">
              {problem.line ? `Line ${problem.line}: ` : ""}
              {problem.message}
            </li>
          ))}
        </ul>
      )}
      {idle.length > 0 && (
        <ul className="px-3 pt-2" aria-label="Entries with nothing to do">
          {idle.slice(0, MOST_TOLD).map(([line, each]) => (
            <li key={each.number} className={each.matched ? "quiet" : "text-ochre"}>
              Line {line} {each.text}.
            </li>
          ))}
          {idle.length > MOST_TOLD && <li className="quiet">{idle.length - MOST_TOLD} more of these.</li>}
        </ul>
      )}
      {elsewhere && (
        <div role="alert" className="mx-3 mt-2 border-l-2 border-ochre pl-2">
          <p>This list was changed in another window. What you typed is still here.</p>
          <details>
            <summary className="cursor-pointer underline">What it is there</summary>
            <pre className="mt-1 font-mono text-fine whitespace-pre-wrap">{saved}</pre>
          </details>
        </div>
      )}
      <div className="flex flex-wrap items-center gap-2 px-3 py-2">
        <button
          type="button"
          className="button button-strong"
          disabled={!dirty || problems.length > 0 || draft.saving}
          onClick={save}
        >
          {elsewhere ? "Save mine over it" : "Save to draft"}
        </button>
        <button
          type="button"
          className="button"
          disabled={!dirty}
          onClick={() => {
            setText(saved);
            setBased(saved);
            show(saved);
          }}
        >
          {elsewhere ? "Take theirs" : "Undo typing"}
        </button>
        <button
          type="button"
          className="button"
          disabled={!current || !reading.data?.renumbered || reading.data.renumbered === text}
          onClick={() => show(reading.data?.renumbered ?? text)}
        >
          Renumber
        </button>
        <span className="quiet text-fine">{dirty ? "not saved yet" : "saved in the draft"}</span>
      </div>
      {covers.length > 0 && <Covers covers={covers} />}
    </section>
  );
}

/** A list with other entries. */
const putting = (list: AccessList, entries: string): Intent => ({
  do: "put",
  label: `edit ${list.name}`,
  collection: "lists",
  item: { ...list, entries },
});

const FIRST: Record<string, [string, string][]> = {
  "ipv4 extended": [
    ["deny tcp from any to any port telnet log", "one service kept out, seen in the log"],
    ["permit tcp from any to any port https", "one service let in"],
    ["permit any from any to any", "everything else: a list of denials needs it"],
  ],
  "ipv4 standard": [
    ["permit from 172.20.0.0/16", "whoever is inside"],
    ["deny from any log", "everyone else, seen in the log"],
  ],
  frame: [
    ["permit arp", "neighbours are found: nothing goes over IPv4 without it"],
    ["permit ipv4", "packets of either family"],
    ["permit ipv6", "with neighbour discovery, which is IPv6 itself"],
  ],
  "ipv6 extended": [
    ["permit tcp from any to any port https", "one service, to begin with"],
    ["permit icmp packet-too-big from any to any", "without it large packets get lost"],
    ["deny any from any to any log", "what is left, seen in the log"],
  ],
};

/** Lines to take for a list that has none yet, for its family and kind. */
function FirstLines({ list, onTake }: { list: AccessList; onTake: (line: string) => void }) {
  return (
    <div className="border-b border-rule px-3 py-2">
      <p className="quiet">
        No entries yet: placed, it would deny everything. Write one, or take some of these:
      </p>
      <ul>
        {FIRST[[list.family, list.kind].filter(Boolean).join(" ")]?.map(([line, why]) => (
          <li key={line}>
            <button
              type="button"
              className="font-mono text-code underline decoration-rule underline-offset-2 hover:decoration-ink"
              onClick={() => onTake(line)}
            >
              {line}
            </button>{" "}
            <span className="quiet text-fine">{why}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Covers({ covers }: { covers: ListReading["covers"] }) {
  const told = covers.filter((cover) => cover.source || cover.destination);
  if (!told.length) return null;
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-3 gap-y-1 border-t border-rule px-3 py-2">
      {told.map((cover) => (
        <div key={cover.number} className="contents">
          <dt className="quiet text-right font-mono text-fine">{cover.number}</dt>
          <dd className="text-fine">
            {[cover.source && `from ${cover.source}`, cover.destination && `to ${cover.destination}`]
              .filter(Boolean)
              .join("; ")}
          </dd>
        </div>
      ))}
    </dl>
  );
}

/** Enter begins a line where the word on offer stands there already. */
function nothingLeftToChoose(editor: EditorView): boolean {
  if (wordIsWhole(editor)) closeCompletion(editor);
  return false;
}

/** A mark on a whole line. */
const WHOLE = { where: "", column: 1, end: 10_000 };
const MOST_TOLD = 6;

function diagnostics(
  state: EditorState,
  problems: ProblemItem[],
  severity: Diagnostic["severity"],
): Diagnostic[] {
  return problems.flatMap((problem) => {
    if (!problem.line || problem.line > state.doc.lines) return [];
    const line = state.doc.line(problem.line);
    const from = Math.min(line.from + (problem.column ?? 1) - 1, line.to);
    const to = Math.min(line.from + (problem.end ?? 1) - 1, line.to);
    return [{ from: Math.min(from, to), to: Math.max(from, to), severity, message: problem.message }];
  });
}
