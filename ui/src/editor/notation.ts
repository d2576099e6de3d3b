import {
  type CompletionContext,
  type CompletionResult,
  closeCompletion,
  selectedCompletion,
} from "@codemirror/autocomplete";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { KEYWORDS } from "../api/keywords";
import { type Asked, complete } from "../api/reading";
import { styleNonce } from "../state/nonce";

/** How the notation looks in an editor, and where its completions come from. */

const language = StreamLanguage.define<{ start: boolean }>({
  name: "notation",
  startState: () => ({ start: true }),
  token(stream, state) {
    if (stream.sol()) state.start = true;
    if (stream.eatSpace()) return null;
    if (stream.peek() === "#") {
      stream.skipToEnd();
      return "comment";
    }
    const word = (stream.match(/^\S+/) as RegExpMatchArray)[0];
    const first = state.start;
    state.start = false;
    if (first && /^\d+$/.test(word)) {
      state.start = true;
      return "number";
    }
    if (word === "permit" || word === "pass") return "inserted";
    if (word === "deny" || word === "block") return "deleted";
    if (KEYWORDS.has(word) || word === "→") return "keyword";
    return word.startsWith("@") ? "name" : null;
  },
  tokenTable: {
    comment: tags.comment,
    number: tags.number,
    inserted: tags.inserted,
    deleted: tags.deleted,
    keyword: tags.keyword,
    name: tags.variableName,
  },
});

const colours = HighlightStyle.define([
  { tag: tags.comment, color: "var(--ochre)" },
  { tag: tags.number, color: "var(--slate)" },
  { tag: tags.inserted, color: "var(--tide)", fontWeight: "600" },
  { tag: tags.deleted, color: "var(--clay)", fontWeight: "600" },
  { tag: tags.keyword, color: "var(--slate)" },
  { tag: tags.variableName, fontWeight: "600" },
]);

const look = EditorView.theme({
  "&": { backgroundColor: "transparent", color: "var(--ink)", fontSize: "0.78rem" },
  "&.cm-focused": { outline: "none" },
  ".cm-content": { fontFamily: "var(--font-mono)", padding: "6px 0", caretColor: "var(--ink)" },
  ".cm-line": { padding: "0 8px 0 26px", textIndent: "-18px", lineHeight: "1.25rem" },
  ".cm-scroller": { overflow: "hidden" },
  ".cm-placeholder": { color: "var(--slate)" },
  ".cm-gutters": { backgroundColor: "transparent", border: "none" },
  ".cm-never": { color: "var(--ochre)" },
  ".cm-hits": {
    minWidth: "42px",
    padding: "0 6px 0 4px",
    textAlign: "right",
    color: "var(--slate)",
    fontFamily: "var(--font-mono)",
    fontSize: "0.72rem",
    borderRight: "1px solid var(--rule)",
  },
  ".cm-hits .cm-gutterElement": { lineHeight: "1.25rem" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-activeLine": { backgroundColor: "transparent" },
  ".cm-tooltip": {
    backgroundColor: "var(--plate)",
    border: "1px solid var(--slate)",
    borderRadius: "4px",
    fontFamily: "var(--font-sans)",
  },
  ".cm-tooltip-autocomplete > ul": { fontFamily: "var(--font-mono)", fontSize: "0.75rem", maxHeight: "13em" },
  ".cm-tooltip-autocomplete > ul > li": {
    padding: "2px 8px",
    lineHeight: "18px",
    display: "flex",
    gap: "14px",
  },
  ".cm-tooltip-autocomplete > ul > li[aria-selected]": {
    backgroundColor: "var(--tidewash)",
    color: "var(--ink)",
  },
  ".cm-completionLabel": { flexShrink: "0" },
  ".cm-completionDetail": {
    fontFamily: "var(--font-sans)",
    fontStyle: "normal",
    color: "var(--slate)",
    marginLeft: "auto",
    overflow: "hidden",
    textOverflow: "ellipsis",
  },
  ".cm-diagnostic": { borderLeft: "3px solid var(--clay)", padding: "4px 10px", maxWidth: "420px" },
  ".cm-lintRange-warning": {
    backgroundImage: "none",
    textDecoration: "underline dotted var(--ochre)",
    textUnderlineOffset: "3px",
  },
  ".cm-lintRange-error": {
    backgroundImage: "none",
    borderBottom: "2px dotted var(--clay)",
  },
});

export const notation = [EditorView.cspNonce.of(styleNonce), language, syntaxHighlighting(colours), look];

export const FLOW: Asked = { of: "flow" };
export const REQUIREMENT: Asked = { of: "requirement" };

/** Completion at every position, each with a line of explanation. */
export const completions =
  (network: string, asked: Asked) =>
  async (context: CompletionContext): Promise<CompletionResult | null> => {
    const line = context.state.doc.lineAt(context.pos);
    const text = context.state.sliceDoc(line.from, context.pos);
    if (/(^|\s)#/.test(text)) return null;
    if (!context.explicit && asked.of === "entry" && !text.trim()) return null;
    const found = await complete(network, asked, text);
    if (!found.options.length) return null;
    return {
      from: context.pos - found.word.length,
      options: found.options.map((option, index) => ({
        label: option.text,
        detail: option.explains,
        boost: (option.literal ? 1 : 0) - index / 1000,
        type: option.literal ? "literal" : "example",
        apply: option.literal ? `${option.text} ` : closeCompletion,
      })),
      validFor: /^\S*$/,
    };
  };

/** Whether the completion on offer stands there already, at the end of a line: nothing is left to choose. */
export function wordIsWhole({ state }: EditorView): boolean {
  const { label } = selectedCompletion(state) ?? {};
  const { head } = state.selection.main;
  const line = state.doc.lineAt(head);
  return label !== undefined && head === line.to && ` ${line.text}`.endsWith(` ${label}`);
}
