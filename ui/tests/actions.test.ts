// @vitest-environment happy-dom
import { matchKeyBindingPress, parseKeybinding } from "tinykeys";
import { describe, expect, it, vi } from "vitest";
import { keyWords, sign } from "../src/actions/action";
import { ACTIONS, actionOf } from "../src/actions/registry";
import { matching, type Target } from "../src/actions/targets";
import { giveFocus, offerFocus, wantFocus } from "../src/state/focus";

const press = (key: string, ...held: string[]) =>
  ({ key, code: "", getModifierState: (name: string) => held.includes(name) }) as unknown as KeyboardEvent;

/** The ids of the actions that a key does. */
const doneBy = (event: KeyboardEvent) =>
  ACTIONS.filter((action) =>
    action.keys?.some((key) => parseKeybinding(key).every((pressed) => matchKeyBindingPress(event, pressed))),
  ).map((action) => action.id);

describe("the actions", () => {
  it("have ids of their own, and no key does two things", () => {
    const ids = ACTIONS.map((action) => action.id);
    expect(new Set(ids).size).toBe(ids.length);
    const keys = ACTIONS.flatMap((action) => action.keys ?? []);
    expect(new Set(keys).size).toBe(keys.length);
    expect(() => actionOf("make coffee")).toThrow("no action make coffee");
  });
  it("open the views by digits", () => {
    expect(doneBy(press("1"))).toEqual(["view.map"]);
    expect(doneBy(press("6"))).toEqual(["view.log"]);
  });
  it("tell a letter from the same one with Shift or Ctrl", () => {
    expect(doneBy(press("x"))).toEqual(["test.run"]);
    expect(doneBy(press("X", "Shift"))).toEqual(["book.run"]);
    expect(doneBy(press("z", "Control"))).toEqual(["draft.undo"]);
    expect(doneBy(press("Z", "Control", "Shift"))).toEqual(["draft.redo"]);
    expect(doneBy(press("z"))).toEqual([]);
  });
  it("take signs as any keyboard writes them", () => {
    for (const key of ["/", "=", "+", "?"]) {
      expect(doneBy(press(key))).toHaveLength(1);
      expect(doneBy(press(key, "Shift"))).toEqual(doneBy(press(key)));
    }
    expect(sign("?")).toEqual(["?", "Shift+?"]);
  });
  it("say their keys as people do", () => {
    expect(keyWords(actionOf("draft.redo"))).toBe("Ctrl+Shift+Z");
    expect(keyWords(actionOf("device.add"))).toBe("+");
    expect(keyWords(actionOf("leave"))).toBe("Esc");
    expect(keyWords(actionOf("out"))).toBe("");
  });
});

describe("finding anything", () => {
  const target = (label: string, detail = ""): Target => ({ key: label, label, detail, run: () => undefined });
  const targets = [target("Open lab-in"), target("lab-desk", "host"), target("Go to Lists"), target("lab")];
  it("finds what has every word, exact names first, then what begins so", () => {
    expect(matching(targets, "lab").map((each) => each.label)).toEqual(["lab", "lab-desk", "Open lab-in"]);
    expect(matching(targets, "lab host").map((each) => each.label)).toEqual(["lab-desk"]);
    expect(matching(targets, "nothing")).toEqual([]);
  });
});

describe("the focus", () => {
  it("is taken at once by what is there, and not by what has gone", () => {
    const take = vi.fn();
    const stop = offerFocus("map", take);
    expect(giveFocus("map")).toBe(true);
    stop();
    expect(giveFocus("map")).toBe(false);
    expect(take).toHaveBeenCalledOnce();
  });
  it("waits for what is not there yet, and is taken once", () => {
    const [take, again] = [vi.fn(), vi.fn()];
    wantFocus("New test flow");
    const stop = offerFocus("New test flow", take);
    stop();
    offerFocus("New test flow", again)();
    expect(take).toHaveBeenCalledOnce();
    expect(again).not.toHaveBeenCalled();
  });
  it("goes to what was wanted last", () => {
    const take = vi.fn();
    wantFocus("list:lab");
    offerFocus("map", () => undefined);
    wantFocus("map");
    offerFocus("list:lab", take)();
    expect(take).not.toHaveBeenCalled();
  });
});
