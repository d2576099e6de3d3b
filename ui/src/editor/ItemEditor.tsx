import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap } from "@codemirror/view";
import { useEffect, useRef, useState } from "react";
import type { Change } from "../api/client";
import { useItemReading, useItemText } from "../api/reading";
import { Failed } from "../kit/Failed";
import { styleNonce } from "../state/nonce";
import { useOpened } from "../workbench/opened";

const plain = EditorView.theme({
  "&": { fontSize: "12px" },
  "&.cm-focused": { outline: "none" },
  ".cm-content": { fontFamily: "var(--font-mono)", padding: "6px 0", caretColor: "var(--ink)" },
  ".cm-line": { padding: "0 10px" },
});

interface Props {
  collection: Change["collection"];
  /** The item to edit, or null for a new one. */
  itemKey: string | null;
  start: string;
  onDone: (key: string | null) => void;
}

/** One item of the document as the text that stands in a workspace file, checked as it is typed. */
export function ItemEditor({ collection, itemKey, start, onDone }: Props) {
  const { id, network, make } = useOpened();
  const [text, setText] = useState(start);
  const host = useRef<HTMLDivElement>(null);
  const reading = useItemReading(id, network.version, collection, itemKey, text);
  const change = reading.isPlaceholderData ? null : reading.data?.change;

  useEffect(() => {
    if (!host.current) return;
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: start,
        extensions: [
          EditorView.cspNonce.of(styleNonce),
          plain,
          history(),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({
            "aria-label": itemKey ? `${itemKey} as text` : "New item as text",
          }),
          keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) setText(update.state.doc.toString());
          }),
        ],
      }),
    });
    editor.focus();
    return () => editor.destroy();
  }, [start, itemKey]);

  const save = async () => {
    if (!change) return;
    const name = String(change.item?.name ?? change.key);
    const label = itemKey ? `edit ${itemKey}` : `new ${name}`;
    if (await make({ do: "changes", label, made: [change] })) onDone(collection === "devices" ? name : null);
  };

  return (
    <section aria-label={itemKey ? `Edit ${itemKey}` : "New item"}>
      <div ref={host} className="max-h-[340px] overflow-y-auto border-y border-rule bg-plate" />
      <Failed of={reading} />
      {reading.data?.problems.map((problem) => (
        <p key={`${problem.where}${problem.message}`} role="alert" className="px-4 pt-1 text-clay">
          {problem.line ? `Line ${problem.line}: ` : `${problem.where.replace(/^text, /, "")}: `}
          {problem.message}
        </p>
      ))}
      <div className="flex gap-2 px-4 py-2">
        <button
          type="button"
          className="button button-strong"
          disabled={!change || text === start}
          onClick={save}
        >
          Save to draft
        </button>
        <button type="button" className="button" onClick={() => onDone(itemKey)}>
          Cancel
        </button>
      </div>
    </section>
  );
}

/** The editor for an item that is there already. */
export function ExistingItemEditor(props: Omit<Props, "start" | "itemKey"> & { itemKey: string }) {
  const { id, network } = useOpened();
  const text = useItemText(id, network.version, props.collection, props.itemKey);
  if (text.data) return <ItemEditor {...props} start={text.data.text} />;
  return <Failed of={text} />;
}
