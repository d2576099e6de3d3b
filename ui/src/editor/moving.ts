import type { EditorState, Text, TransactionSpec } from "@codemirror/state";
import type { Command } from "@codemirror/view";

/** Moving entries: the text moves with its remarks, the numbers stay where they are. */

interface Entry {
  from: number;
  to: number;
}

const NUMBER = /^(\s*)(\d+)(?=\s)/;

/** Each entry's lines: its remarks, which stand above it, and itself. */
function entriesOf(doc: Text): Entry[] {
  const found: Entry[] = [];
  let from = 1;
  for (let number = 1; number <= doc.lines; number++) {
    const text = doc.line(number).text.trim();
    if (!text && from === number) from = number + 1;
    else if (text && !text.startsWith("#")) {
      found.push({ from, to: number });
      from = number + 1;
    }
  }
  return found;
}

const textOf = (doc: Text, { from, to }: Entry) => doc.sliceString(doc.line(from).from, doc.line(to).to);

/** `text` with the number that `like` has, or none when it has none. */
function numberedLike(text: string, like: string): string {
  const lines = text.split("\n");
  const number = NUMBER.exec(like.split("\n").pop() ?? "")?.[2];
  const last = (lines.pop() ?? "").replace(/^\s*\d+\s+/, "");
  return [...lines, number ? `${number} ${last}` : last].join("\n");
}

function swapped(state: EditorState, by: 1 | -1): TransactionSpec | null {
  const { doc, selection } = state;
  const line = doc.lineAt(selection.main.head).number;
  const entries = entriesOf(doc);
  const at = entries.findIndex((entry) => line >= entry.from && line <= entry.to);
  const [upper, lower] = by === 1 ? [entries[at], entries[at + 1]] : [entries[at - 1], entries[at]];
  if (at < 0 || !upper || !lower) return null;
  const [one, other] = [textOf(doc, upper), textOf(doc, lower)];
  const between = doc.sliceString(doc.line(upper.to).to, doc.line(lower.from).from);
  const above = numberedLike(other, one);
  const below = numberedLike(one, other);
  const start = doc.line(upper.from).from;
  const insert = `${above}${between}${below}`;
  const anchor = by === -1 ? start + above.length : start + insert.length;
  return {
    changes: { from: start, to: doc.line(lower.to).to, insert },
    selection: { anchor },
    scrollIntoView: true,
    userEvent: "move.line",
  };
}

const moving =
  (by: 1 | -1): Command =>
  ({ state, dispatch }) => {
    const spec = swapped(state, by);
    if (spec) dispatch(state.update(spec));
    return true;
  };

export const moveEntryUp = moving(-1);
export const moveEntryDown = moving(1);

/** A copy of the entry below it; it takes a number between its neighbours when it is saved. */
export const duplicateEntry: Command = ({ state, dispatch }) => {
  const line = state.doc.lineAt(state.selection.main.head);
  const entry = entriesOf(state.doc).find((each) => line.number >= each.from && line.number <= each.to);
  if (!entry) return true;
  const end = state.doc.line(entry.to);
  const insert = `\n${end.text.replace(/^\s*\d+\s+/, "")}`;
  dispatch(
    state.update({
      changes: { from: end.to, insert },
      selection: { anchor: end.to + insert.length },
      scrollIntoView: true,
      userEvent: "input.copyline",
    }),
  );
  return true;
};

/** Make the entry a remark, or what is a remark an entry again. */
export const remarkEntry: Command = ({ state, dispatch }) => {
  const line = state.doc.lineAt(state.selection.main.head);
  if (!line.text.trim()) return true;
  const insert = line.text.trimStart().startsWith("#")
    ? line.text.replace(/^\s*#\s?/, "")
    : `# ${line.text.trimStart()}`;
  dispatch(state.update({ changes: { from: line.from, to: line.to, insert }, userEvent: "input" }));
  return true;
};
