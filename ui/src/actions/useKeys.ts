import { useEffect, useRef } from "react";
import { tinykeys } from "tinykeys";
import { giveFocus } from "../state/focus";
import { pointKey } from "../state/points";
import { hover, putDown } from "../workbench/picking";
import { useShared } from "../workbench/store";
import type { Action, Here } from "./action";
import { useHere } from "./here";
import { ACTIONS } from "./registry";

const FIELDS = "input, textarea, select, .cm-editor";
const PANELS = "[data-keys]";
const OVERLAYS = "[role=dialog], [role=alertdialog], [role=menu]";
/** Found from everywhere, also while one writes. */
const EVERYWHERE = new Set(["palette"]);

/** Keys for the actions: single letters act only where the map, the book or the trace has the focus. */
export function useKeys(): void {
  const here = useHere();
  const latest = useRef(here);
  useEffect(() => {
    latest.current = here;
  });
  // Whether the focus was last in one of those panels: what had it may have gone from the page since.
  const within = useRef(true);

  useEffect(() => {
    const look = ({ target }: Event) => {
      if (target instanceof Element && !target.closest(OVERLAYS)) within.current = takesLetters(target);
    };
    const press = (action: Action) => (event: KeyboardEvent) => {
      const here = latest.current;
      const target = event.target as Element;
      if (!EVERYWHERE.has(action.id)) {
        if (event.defaultPrevented || target.closest(OVERLAYS) || target.closest(FIELDS)) return;
        if (here.carrying.carried) return;
        const home = target === document.body ? within.current : takesLetters(target);
        if (isLetter(event) && !home) return;
      }
      if (action.when?.(here) ?? true) {
        event.preventDefault();
        action.run(here);
      }
    };
    const beside = (event: KeyboardEvent) => {
      const target = event.target as Element;
      if (event.defaultPrevented || target.closest(OVERLAYS)) return;
      if (target.closest(FIELDS)) inField(event, target as HTMLElement, latest.current);
      else if (whileCarrying(event, latest.current)) event.preventDefault();
    };
    const bindings = Object.fromEntries(
      ACTIONS.flatMap((action) => (action.keys ?? []).map((key) => [key, press(action)])),
    );
    window.addEventListener("focusin", look);
    // A click on what takes no focus leaves it on the page: then letters mean nothing there.
    window.addEventListener("pointerdown", look);
    window.addEventListener("keydown", beside);
    const stop = tinykeys(window, bindings);
    return () => {
      window.removeEventListener("focusin", look);
      window.removeEventListener("pointerdown", look);
      window.removeEventListener("keydown", beside);
      stop();
    };
  }, []);

  // Where one comes to work, the keys work at once.
  const { view } = here.location;
  useEffect(() => {
    const { activeElement } = document;
    if (view === "map" && (activeElement === document.body || activeElement?.closest("header")))
      giveFocus("map");
  }, [view]);
}

/** Whether letters are keys there: in the map, the book or the trace, or where the inspector itself, and nothing in it, has the focus. */
const takesLetters = (target: Element) =>
  Boolean(target.closest(PANELS)) || target.getAttribute("aria-label") === "Inspector";

const isLetter = (event: KeyboardEvent) =>
  /^[a-z]$/i.test(event.key) && !event.ctrlKey && !event.metaKey && !event.altKey;

/** In a field Escape leads back to the map; a key that is typed puts down what is carried. */
function inField(event: KeyboardEvent, target: HTMLElement, { carrying }: Here): void {
  if (carrying.carried) putDown();
  // Of a line with something in it Esc closes what is offered, and keeps what was written at hand.
  const line = target.closest("[data-field]");
  if (event.key !== "Escape" || !(line ? isEmpty(target) : !target.closest(".cm-editor"))) return;
  event.preventDefault();
  target.blur();
  giveFocus("map");
}

/** Whether a line of notation shows nothing but its hint. */
const isEmpty = (line: HTMLElement) => line.querySelector(".cm-placeholder") !== null;

function whileCarrying(event: KeyboardEvent, { carrying }: Here): boolean {
  const { carried, drop } = carrying;
  const { over } = useShared.getState();
  if (!carried || event.ctrlKey || event.metaKey || event.altKey) return false;
  const { targets } = carried;
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
