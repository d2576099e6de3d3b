import { autocompletion, closeCompletion, startCompletion } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { type Diagnostic, lintKeymap, setDiagnostics } from "@codemirror/lint";
import { Compartment, EditorState, type Extension, Prec } from "@codemirror/state";
import { EditorView, keymap } from "@codemirror/view";
import { useEffect, useRef } from "react";
import type { AccessList, ProblemItem } from "../api/client";
import { hitGutter } from "./counters";
import { duplicateEntry, moveEntryDown, moveEntryUp, remarkEntry } from "./moving";
import { completions, notation, wordIsWhole } from "./notation";

export type View = React.RefObject<EditorView | null>;

interface Editing {
  network: string;
  list: AccessList;
  /** What it begins with. */
  text: string;
  hits: Map<number, number>;
  /** Lines whose entries decide about nothing. */
  never: ReadonlySet<number>;
  onText: (text: string) => void;
  onSave: () => void;
}

/** An editor of entries in `host`, made anew for each list; `view` is the one that there is. */
export function useEntriesEditor(view: View, editing: Editing) {
  const { network, hits, never } = editing;
  const { name, family, kind } = editing.list;
  const host = useRef<HTMLDivElement>(null);
  const margin = useRef(new Compartment());
  // An editor that is made anew loses its history: what is typed and counted comes into it otherwise.
  const latest = useRef(editing);
  useEffect(() => {
    latest.current = editing;
  });

  useEffect(() => {
    if (!host.current) return;
    const { text, hits } = latest.current;
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          // Before the completion: of two keys as urgent as each other the first one goes first.
          typing(
            () => latest.current.onSave(),
            (typed) => latest.current.onText(typed),
          ),
          margin.current.of(hitGutter(hits, new Set())),
          autocompletion({
            override: [completions(network, { of: "entry", family: family ?? null, kind })],
            icons: false,
            interactionDelay: 0,
          }),
          EditorView.contentAttributes.of({ "aria-label": `Entries of ${name}` }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, [view, network, name, family, kind]);

  useEffect(() => {
    view.current?.dispatch({ effects: margin.current.reconfigure(hitGutter(hits, never)) });
  }, [view, hits, never]);

  return host;
}

/** Keys, colours, and what is done while somebody types. */
const typing = (onSave: () => void, onText: (text: string) => void): Extension => {
  const saveNow = () => {
    onSave();
    return true;
  };
  return [
    notation,
    history(),
    EditorView.lineWrapping,
    Prec.highest(keymap.of([{ key: "Enter", run: nothingLeftToChoose }])),
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
      onText(update.state.doc.toString());
      const head = update.state.selection.main.head;
      const typed = update.transactions.some((each) => each.isUserEvent("input.type"));
      if (typed && update.state.sliceDoc(head - 1, head) === " ") startCompletion(update.view);
    }),
  ];
};

/** Enter begins a line where the word on offer stands there already. */
function nothingLeftToChoose(editor: EditorView): boolean {
  if (wordIsWhole(editor)) closeCompletion(editor);
  return false;
}

/** Show what is wrong with lines, and what is only said of them. */
export function useMarks(view: View, problems: ProblemItem[], told: ProblemItem[], current: boolean) {
  useEffect(() => {
    const editor = view.current;
    if (!editor || !current) return;
    const marks = [
      ...diagnostics(editor.state, problems, "error"),
      ...diagnostics(editor.state, told, "warning"),
    ];
    editor.dispatch(setDiagnostics(editor.state, marks));
  }, [view, problems, told, current]);
}

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
