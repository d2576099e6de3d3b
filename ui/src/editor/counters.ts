import { type EditorView, GutterMarker, gutter } from "@codemirror/view";
import type { Count, ListReading } from "../api/client";

type IdleEntry = ListReading["idle"][number];

/** Hit counters in the margin, by the number that a line begins with. */

class Hits extends GutterMarker {
  constructor(readonly packets: number) {
    super();
  }

  override eq(other: Hits): boolean {
    return other.packets === this.packets;
  }

  override toDOM(): Text {
    return document.createTextNode(String(this.packets));
  }
}

/** Packets by entry of one list, at one placement or at all of them; 0 stands for the implicit end. */
export function hitsOf(counts: Count[], list: string, point: string | null): Map<number, number> {
  const hits = new Map<number, number>();
  for (const { place, packets } of counts) {
    const here = `${place.device}:${place.at}:${place.direction}`;
    if (place.list !== list || (point !== null && here !== point)) continue;
    const entry = place.entry ?? 0;
    hits.set(entry, (hits.get(entry) ?? 0) + packets);
  }
  return hits;
}

/** An entry that never matches: its counter would only ever be 0. */
class Never extends GutterMarker {
  override eq(): boolean {
    return true;
  }

  override toDOM(): HTMLElement {
    const shown = document.createElement("span");
    shown.className = "cm-never";
    shown.textContent = "never";
    return shown;
  }
}

/** The margin: counters, and a word at entries that never match. */
export const hitGutter = (hits: Map<number, number>, never: ReadonlySet<number>) =>
  gutter({
    class: "cm-hits",
    lineMarker: (view: EditorView, line) => {
      if (never.has(view.state.doc.lineAt(line.from).number)) return new Never();
      const number = /^\s*(\d+)\s/.exec(view.state.sliceDoc(line.from, line.to));
      return number ? new Hits(hits.get(Number(number[1])) ?? 0) : null;
    },
  });

/** The number of the line at which each entry with nothing to do stands: written alike, in the same order. */
export function linesOf(text: string, formatted: string, idle: IdleEntry[]): [line: number, of: IdleEntry][] {
  const own = text.split("\n").flatMap((line, at) => (line.trim() ? [at + 1] : []));
  const theirs = formatted.split("\n").filter((line) => line.trim());
  if (own.length !== theirs.length) return [];
  const byNumber = new Map(idle.map((each) => [each.number, each]));
  return own.flatMap((line, at) => {
    const found = byNumber.get(Number(/^\s*(\d+)\s/.exec(theirs[at] ?? "")?.[1]));
    return found ? [[line, found] as [number, IdleEntry]] : [];
  });
}
