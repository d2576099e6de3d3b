import { useCallback, useEffect, useRef, useState } from "react";
import { pointKey } from "../state/edits";
import type { Workbench } from "./context";

export const SHORTCUTS: [string, string][] = [
  ["/, =", "write a new test flow, a new requirement"],
  ["+, l", "add a device to the map; link the chosen one with another"],
  ["w", "where should it go? for the requirement or the test flow that is shown"],
  ["v, a", "try the choice that is shown on the map, or stop trying; take it"],
  ["j, k", "next or previous test flow"],
  ["x, Shift+X", "run the chosen test flow, or the whole book: it is counted and logged"],
  ["b, r, d", "trace with no lists, as running, on the draft"],
  ["t, then ← → ↑ ↓", "go to the trace and step through its hops"],
  [
    "p",
    "place the list that is shown; then arrows or a letter to choose, Enter to place, Esc to put it down",
  ],
  ["m", "move the list that stands at the place shown"],
  ["Ctrl+Z, Ctrl+Shift+Z", "undo, redo an edit of the draft"],
  ["Ctrl+S", "save the list being written to the draft"],
  ["Alt+↑ ↓, Alt+Shift+↓, Ctrl+/", "in a list: move an entry, copy it, make it a remark"],
  ["1, 2, 3, 4, 5, 6", "map, lists, reach, findings, changes, log"],
  ["f, n", "fit the map to the window; show only the chosen device and its neighbours"],
  ["Esc", "leave a field, so that these keys work again; then back to all lists"],
  ["Ctrl+K", "find anything: a device, a list, a flow, a place, something to do"],
  ["?", "this page"],
];

const FIELDS = "input, textarea, select, .cm-editor";
const PANELS = "[data-keys]";

/** Keys: single letters act only where the map, the book or the trace has the focus. */
export function useShortcuts(workbench: Workbench) {
  const [shown, setShown] = useState(false);
  const [finding, setFinding] = useState(false);
  const latest = useRef(workbench);
  latest.current = workbench;
  // Whether the focus was last in one of those panels: what had it may have gone from the page since.
  const within = useRef(true);
  const open = useCallback(() => setShown(true), []);
  const close = useCallback(() => setShown(false), []);
  const stopFinding = useCallback(() => setFinding(false), []);

  useEffect(() => {
    const look = (event: Event) => {
      const target = event.target as HTMLElement;
      if (!target.closest?.("[role=dialog], [role=alertdialog], [role=menu]"))
        within.current = isHome(target);
    };
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        setFinding(true);
        return;
      }
      if (target.closest("[role=dialog], [role=alertdialog], [role=menu]")) return;
      if (event.defaultPrevented) return;
      if (target.closest(FIELDS)) {
        if (latest.current.carried) latest.current.putDown();
        // Of a line with something in it Esc closes what is offered, and keeps what was written at hand.
        const line = target.closest("[data-field]");
        if (event.key === "Escape" && (line ? isEmpty(target) : !target.closest(".cm-editor"))) {
          target.blur();
          focusMap();
        }
        return;
      }
      if (latest.current.carried) {
        if (whileCarrying(event, latest.current)) event.preventDefault();
        return;
      }
      const here = target === document.body ? within.current : isHome(target);
      if (isLetter(event) && !here) return;
      if (whenFree(event, latest.current, open)) event.preventDefault();
    };
    window.addEventListener("focusin", look);
    // A click on what takes no focus leaves it on the page: then letters mean nothing there.
    window.addEventListener("pointerdown", look);
    window.addEventListener("keydown", onKey);
    return () => {
      window.removeEventListener("focusin", look);
      window.removeEventListener("pointerdown", look);
      window.removeEventListener("keydown", onKey);
    };
  }, [open]);

  // Where one comes to work, the keys work at once.
  const { view } = workbench.place;
  useEffect(() => {
    const { activeElement } = document;
    if (view === "map" && (activeElement === document.body || activeElement?.closest("header"))) focusMap();
  }, [view]);

  return { shown, open, close, finding, stopFinding };
}

/** Whether letters are keys there: in the map, the book or the trace, or where the inspector itself, and nothing in it, has the focus. */
const isHome = (target: HTMLElement) =>
  Boolean(target.closest?.(PANELS)) || target.getAttribute?.("aria-label") === "Inspector";

/** Whether a line of notation shows nothing but its hint. */
const isEmpty = (line: HTMLElement) => line.querySelector(".cm-placeholder") !== null;

const isLetter = (event: KeyboardEvent) =>
  /^[a-z]$/i.test(event.key) && !event.ctrlKey && !event.metaKey && !event.altKey;

export const focusMap = () => document.querySelector<HTMLElement>("[aria-label=Map]")?.focus();

function whileCarrying(event: KeyboardEvent, workbench: Workbench): boolean {
  const { carried, hover, drop, putDown } = workbench;
  if (!carried || event.ctrlKey || event.metaKey || event.altKey) return false;
  const { targets, over } = carried;
  const at = over ? targets.findIndex((point) => pointKey(point) === pointKey(over)) : -1;
  const step = (by: number) => hover(targets[(at + by + targets.length) % targets.length] ?? null);
  switch (event.key) {
    case "Escape":
      putDown();
      return true;
    case "Enter":
      if (over) drop(over);
      return true;
    case "ArrowRight":
    case "ArrowDown":
      step(1);
      return true;
    case "ArrowLeft":
    case "ArrowUp":
      step(at < 0 ? 0 : -1);
      return true;
  }
  if (["Shift", "Tab", "CapsLock"].includes(event.key)) return false;
  const order = [...targets.slice(at + 1), ...targets.slice(0, at + 1)];
  const devices = order.filter((point) => point.device.toLowerCase().startsWith(event.key.toLowerCase()));
  const next = devices.find((point) => point.device !== over?.device) ?? devices[0];
  // What begins no place's name means nothing to a list that is carried: it was picked up by accident.
  if (next) hover(next);
  else if (targets.length) putDown();
  return true;
}

function whenFree(event: KeyboardEvent, workbench: Workbench, openShortcuts: () => void): boolean {
  const { go, place, network, draft, notices, run, preview, trial, view, make } = workbench;
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z") {
    const step = event.shiftKey ? "redo" : "undo";
    if (network[step]) draft.step.mutate({ step }, { onError: notices.fail });
    return true;
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return false;
  const tests = network.draft.tests;
  const at = tests.findIndex((test) => test.id === place.test);
  const chooseTest = (index: number) => {
    const test = tests[(index + tests.length) % tests.length];
    if (test) go({ view: "map", test: test.id, chosen: `test:${test.id}` });
  };
  switch (event.key) {
    case "Escape":
      if (trial?.kind === "tried") {
        preview.show(null);
        return true;
      }
      // First out of the inspector, and only then away from what it shows.
      if (document.activeElement?.closest("[aria-label=Inspector]")) {
        focusMap();
        return true;
      }
      focusMap();
      if (place.chosen) go({ chosen: null });
      return place.chosen !== null;
    case "?":
      openShortcuts();
      return true;
    case "/":
      go({ view: "map" });
      focusField("New test flow");
      return true;
    case "=":
      go({ view: "map" });
      focusField("New requirement");
      return true;
    case "l":
      document.querySelector<HTMLElement>("[data-key=l]")?.focus();
      return true;
    case "v":
    case "a":
      if (press(event.key) || trial?.kind !== "tried") return true;
      preview.show(null);
      if (event.key === "a") make(trial.edit);
      return true;
    case "+":
    case "f":
    case "n":
    case "w": {
      return press(event.key);
    }
    case "t": {
      const trace = document.querySelector("[aria-label=Trace]");
      (
        trace?.querySelector<HTMLElement>("[data-decides]") ?? trace?.querySelector<HTMLElement>("[data-hop]")
      )?.click();
      setTimeout(() => trace?.querySelector<HTMLElement>("[data-hop][aria-pressed=true]")?.focus());
      return true;
    }
    case "j":
      chooseTest(at + 1);
      return true;
    case "k":
      chooseTest(at < 0 ? -1 : at - 1);
      return true;
    case "x":
      if (tests[at]) run([tests[at]]);
      return true;
    case "X":
      run(null);
      return true;
    case "b":
      view("baseline");
      return true;
    case "r":
      view("running");
      return true;
    case "d":
      view("draft");
      return true;
    case "1":
      go({ view: "map" });
      return true;
    case "2":
      go({ view: "lists" });
      return true;
    case "3":
      go({ view: "reach" });
      return true;
    case "4":
      go({ view: "findings" });
      return true;
    case "5":
      go({ view: "changes" });
      return true;
    case "6":
      go({ view: "log" });
      return true;
    case "p":
      return pickUpShown(workbench);
    case "m":
      return pickUpPlaced(workbench);
  }
  return false;
}

/** Press the button on screen that has a key. */
function press(key: string): boolean {
  const button = document.querySelector<HTMLButtonElement>(`[data-key="${key}"]`);
  button?.click();
  return button !== null;
}

const focusField = (name: string) =>
  setTimeout(() => document.querySelector<HTMLElement>(`[data-field='${name}'] .cm-content`)?.focus());

function pickUpShown({ place, network, pickUp }: Workbench): boolean {
  const name =
    place.view === "lists" ? place.list : place.chosen?.startsWith("list:") ? place.chosen.slice(5) : null;
  const list = network.draft.lists.find((each) => each.name === name);
  if (list) pickUp(list, null);
  return list !== undefined;
}

function pickUpPlaced({ place, network, pickUp }: Workbench): boolean {
  if (!place.chosen?.startsWith("point:")) return false;
  const key = place.chosen.slice(6);
  const placement = network.draft.placements.find((each) => pointKey(each) === key);
  const list = network.draft.lists.find((each) => each.name === placement?.list);
  if (!placement || !list) return false;
  pickUp(list, placement);
  return true;
}
