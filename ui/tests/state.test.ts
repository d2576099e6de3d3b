import { describe, expect, it } from "vitest";
import type { Change, ExchangeReport, ReachMatrix } from "../src/api/client";
import { cellsOf, cellWords, foldCells, linesOf, verdictsIn } from "../src/reach/fold";
import { chosenOf, EVERY_VIEW, readLocation, writeLocation } from "../src/state/location";
import { configuration, pointKey, pointOf } from "../src/state/points";
import { bareFlow, runWords } from "../src/state/words";
import { columnsOf } from "../src/trace/columns";

describe("the address bar", () => {
  const at = (path: string) => readLocation(`http://localhost${path}`);
  it("reads what it has written", () => {
    const location = {
      network: "abc",
      view: "reach" as const,
      test: "t1",
      state: "running" as const,
      chosen: "point:sluice:eth1:in",
      list: "visitors",
      beside: "lab",
      at: "tue 14:00",
      reach: "tcp/443, ping;ipv6",
    };
    expect(at(writeLocation(location))).toEqual(location);
  });
  it("shows the map and the draft where nothing is said, or nothing that there is", () => {
    expect(at("/n/abc")).toMatchObject({ network: "abc", view: "map", state: "draft" });
    expect(at("/n/abc/cellar?state=tomorrow")).toMatchObject({ view: "map", state: "draft" });
    expect(at("/").network).toBeNull();
  });
  it("has every view under its own name", () => {
    for (const view of EVERY_VIEW) expect(at(`/n/abc/${view}`).view).toBe(view);
  });
  it("says what is chosen of a kind", () => {
    expect(chosenOf({ chosen: "device:sluice" }, "device")).toBe("sluice");
    expect(chosenOf({ chosen: "device:sluice" }, "list")).toBeNull();
    expect(chosenOf({ chosen: null }, "device")).toBeNull();
  });
});

describe("points and changes", () => {
  it("has one key for a point, whatever else is said of it", () => {
    const told = { device: "sluice", at: "eth1", direction: "in" as const, words: "entering sluice by eth1" };
    expect(pointKey(told)).toBe("sluice:eth1:in");
    expect(pointOf(told)).toEqual({ device: "sluice", at: "eth1", direction: "in" });
  });
  it("counts as configuration only what would reach a device", () => {
    const change = (collection: Change["collection"]): Change => ({ collection, key: "a", item: null });
    const all = (["devices", "lists", "positions", "tests", "requirements", "accepted"] as const).map(change);
    expect(configuration(all).map((each) => each.collection)).toEqual(["devices", "lists"]);
  });
});

describe("words", () => {
  it("takes the expectation off a flow", () => {
    expect(bareFlow("kiosk → ledger tcp/443 pass")).toBe("kiosk → ledger tcp/443");
    expect(bareFlow("kiosk → pass tcp/443")).toBe("kiosk → pass tcp/443");
  });
  it("says what came of a run", () => {
    const run = { ran: 2, surprises: ["t1"], untried: [], counted: 3, logged: 1 };
    expect(runWords(run, "draft")).toBe(
      "Ran 2 flows on the draft: 1 not as expected. 3 packets counted at lists, 1 logged.",
    );
  });
});

const MATRIX: ReachMatrix = {
  version: 1,
  devices: ["kiosk", "till", "ledger"],
  groups: [
    { kind: "segment", name: "floor", members: [0, 1] },
    { kind: "segment", name: "lab", members: [2] },
    { kind: "set", name: "public", members: [0] },
  ],
  running: ["011", "101", "110"],
  draft: ["012", "101", "110"],
} as unknown as ReachMatrix;

describe("folding the matrix", () => {
  it("shows each group with its devices, and one that is folded as one line", () => {
    const open = linesOf(MATRIX, new Set());
    expect(open.map((line) => line.label)).toEqual(["floor", "kiosk", "till", "ledger", "public"]);
    const folded = linesOf(MATRIX, new Set(["segment:floor"]));
    expect(folded.map((line) => line.label)).toEqual(["floor", "ledger", "public"]);
  });
  it("gathers the verdicts behind a folded cell, and whether any of them changed", () => {
    const lines = linesOf(MATRIX, new Set(["segment:floor"]));
    const { bits, changed } = foldCells(cellsOf(MATRIX), lines);
    expect(verdictsIn(bits[0]?.[1] ?? 0)).toEqual(["passes", "blocked"]);
    expect(changed[0]?.[1]).toBe(1);
    expect(changed[1]?.[0]).toBe(0);
  });
  it("names what is in a cell", () => {
    expect(cellWords(0)).toBe("nothing asked");
    expect(cellWords(1 + 4)).toBe("passes and unreachable");
  });
});

describe("the columns of a trace", () => {
  const hops = (...names: string[]) => names.map((device) => ({ device }));
  const columns = (out: string[], home: string[] | null, goal: string | null = null) =>
    columnsOf({ out: { hops: hops(...out) }, home: home && { hops: hops(...home) } } as ExchangeReport, goal).map(
      (column) => [column.device, column.out?.index ?? "–", column.home?.index ?? "–"],
    );
  it("has each device once where the way home is the way out", () => {
    expect(columns(["a", "b", "c"], ["c", "b", "a"])).toEqual([
      ["a", 0, 2],
      ["b", 1, 1],
      ["c", 2, 0],
    ]);
  });
  it("puts what only the way home meets where it comes by", () => {
    expect(columns(["a", "b", "c"], ["c", "d", "a"]).map(([name]) => name)).toEqual(["a", "b", "d", "c"]);
  });
  it("shows the goal that was never reached", () => {
    expect(columns(["a", "b"], null, "c").at(-1)).toEqual(["c", "–", "–"]);
  });
});
