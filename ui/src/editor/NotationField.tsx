import { autocompletion, completionStatus, startCompletion } from "@codemirror/autocomplete";
import { history, historyKeymap, standardKeymap } from "@codemirror/commands";
import { EditorState, Prec } from "@codemirror/state";
import { EditorView, keymap, placeholder, tooltips } from "@codemirror/view";
import { useEffect, useRef } from "react";
import type { Asked } from "../api/reading";
import { useFocusTaker } from "../state/focus";
import { completions, notation, wordIsWhole } from "./notation";

const oneLine = Prec.high(EditorView.theme({ ".cm-line": { padding: "0 8px", textIndent: "0" } }));

interface Props {
  network: string;
  /** What the line is, and what its completions depend on; as it is when the field appears. */
  asked: Asked;
  label: string;
  hint: string;
  value: string;
  invalid: boolean;
  /** Whether to take the focus when it appears, behind what stands there. */
  focused?: boolean;
  onChange: (text: string) => void;
  onSubmit: () => void;
}

/** One line of notation. Enter submits, unless it chooses a completion. */
export function NotationField({
  network,
  asked,
  label,
  hint,
  value,
  invalid,
  focused,
  onChange,
  onSubmit,
}: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const latest = useRef({ onChange, onSubmit });
  useEffect(() => {
    latest.current = { onChange, onSubmit };
  });
  // What is asked and how the field is called stay as they were when it appeared: an editor that is made
  // anew loses what is typed.
  const first = useRef({ asked, label, hint, value });

  useEffect(() => {
    if (!host.current) return;
    const { asked, label, hint, value } = first.current;
    const submit = () => {
      latest.current.onSubmit();
      return true;
    };
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: value,
        extensions: [
          notation,
          oneLine,
          EditorView.lineWrapping,
          tooltips({ parent: document.body, position: "fixed" }),
          placeholder(hint),
          history(),
          Prec.highest(keymap.of([{ key: "Enter", run: (editor) => wordIsWhole(editor) && submit() }])),
          autocompletion({
            override: [completions(network, asked)],
            icons: false,
            interactionDelay: 0,
            activateOnTyping: true,
          }),
          EditorState.transactionFilter.of((change) => (change.newDoc.lines > 1 ? [] : change)),
          EditorView.contentAttributes.of({ "aria-label": label }),
          EditorView.updateListener.of((update) => {
            if (!update.docChanged) return;
            latest.current.onChange(update.state.doc.toString());
            const typedSpace =
              update.transactions.some((each) => each.isUserEvent("input")) &&
              update.state.doc.toString().endsWith(" ");
            if (typedSpace) startCompletion(update.view);
          }),
          Prec.low(keymap.of([{ key: "Enter", run: submit }])),
          keymap.of([...standardKeymap.filter((binding) => binding.key !== "Enter"), ...historyKeymap]),
          EditorView.domEventHandlers({
            focus: (_, editor) => {
              if (!editor.state.doc.length && completionStatus(editor.state) === null)
                startCompletion(editor);
            },
          }),
        ],
      }),
    });
    view.current = editor;
    if (focused) {
      editor.dispatch({ selection: { anchor: editor.state.doc.length } });
      editor.focus();
    }
    return () => editor.destroy();
  }, [network, focused]);
  useFocusTaker(label, () => view.current?.focus());

  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== value) {
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: value } });
    }
  }, [value]);

  return (
    <div
      ref={host}
      data-field={label}
      className={`rounded border bg-plate ${invalid ? "border-clay" : "border-rule focus-within:border-tide"}`}
    />
  );
}
