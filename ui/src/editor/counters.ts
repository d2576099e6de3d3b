import { type EditorView, GutterMarker, gutter } from "@codemirror/view";
import type { Count } from "../api/client";

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

export const hitGutter = (hits: Map<number, number>) =>
  gutter({
    class: "cm-hits",
    lineMarker: (view: EditorView, line) => {
      const number = /^\s*(\d+)\s/.exec(view.state.sliceDoc(line.from, line.to));
      return number ? new Hits(hits.get(Number(number[1])) ?? 0) : null;
    },
  });
