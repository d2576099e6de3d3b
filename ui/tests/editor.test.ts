import { EditorState, type TransactionSpec } from "@codemirror/state";
import type { Command, EditorView } from "@codemirror/view";
import { describe, expect, it } from "vitest";
import type { Count } from "../src/api/client";
import { hitsOf } from "../src/editor/counters";
import { duplicateEntry, moveEntryDown, moveEntryUp, remarkEntry } from "../src/editor/moving";

const LIST = "# cameras\n10 permit tcp from any to any\n20 deny any from any to any\n";

/** What a command makes of a text with the cursor at `at`; the text itself where it does nothing. */
function after(command: Command, doc: string, at: number): string {
  let state = EditorState.create({ doc, selection: { anchor: at } });
  const view = {
    get state() {
      return state;
    },
    dispatch(spec: TransactionSpec) {
      state = state.update(spec).state;
    },
  };
  command(view as unknown as EditorView);
  return state.doc.toString();
}

describe("moving entries", () => {
  const second = LIST.indexOf("20");
  it("moves an entry up with its remarks, and leaves the numbers where they are", () => {
    expect(after(moveEntryUp, LIST, second)).toBe(
      "10 deny any from any to any\n# cameras\n20 permit tcp from any to any\n",
    );
  });
  it("moves it down and up again to the same text", () => {
    const down = after(moveEntryDown, LIST, LIST.indexOf("10"));
    expect(after(moveEntryUp, down, down.indexOf("20"))).toBe(LIST);
  });
  it("does nothing at the ends", () => {
    expect(after(moveEntryUp, LIST, LIST.indexOf("10"))).toBe(LIST);
    expect(after(moveEntryDown, LIST, second)).toBe(LIST);
  });
  it("copies an entry without its number, which would be taken", () => {
    const copied = after(duplicateEntry, LIST, second);
    expect(copied.match(/deny any from any to any/g)).toHaveLength(2);
    expect(copied.match(/^20 /gm)).toHaveLength(1);
  });
  it("makes an entry a remark and back", () => {
    const remark = after(remarkEntry, LIST, second);
    expect(remark).toContain("# 20 deny any");
    expect(after(remarkEntry, remark, remark.indexOf("# 20"))).toBe(LIST);
  });
});

describe("counters", () => {
  const count = (list: string, entry: number | null, at: string, packets: number): Count => ({
    place: { device: "sluice", at, direction: "in", list, entry },
    packets,
  });
  const counts = [count("visitors", 10, "eth0", 3), count("visitors", 10, "eth1", 4), count("visitors", null, "eth0", 5), count("lab", 10, "eth0", 9)];
  it("adds up a list over its placements; the implicit end is number 0", () => {
    expect([...hitsOf(counts, "visitors", null)]).toEqual([
      [10, 7],
      [0, 5],
    ]);
  });
  it("counts one placement alone", () => {
    expect([...hitsOf(counts, "visitors", "sluice:eth1:in")]).toEqual([[10, 4]]);
  });
});
