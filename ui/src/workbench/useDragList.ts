import type { PointerEvent as ReactPointerEvent } from "react";
import type { AccessList, Placement } from "../api/client";
import { pickUp, putDown } from "./picking";

const FAR_ENOUGH = 4;

/** Picking a list up with the pointer: returns the handler for whatever stands for the list. */
export function useDragList() {
  return (list: AccessList | undefined, from: Placement | null) => (down: ReactPointerEvent) => {
    if (!list || down.button !== 0) return;
    const start = { x: down.clientX, y: down.clientY };
    let dragging = false;
    const onMove = (move: PointerEvent) => {
      if (dragging || Math.hypot(move.clientX - start.x, move.clientY - start.y) < FAR_ENOUGH) return;
      dragging = true;
      pickUp(list, from);
    };
    const onUp = (up: PointerEvent) => {
      window.removeEventListener("pointermove", onMove);
      window.removeEventListener("pointerup", onUp);
      if (dragging && !(up.target as Element).closest("[data-target]")) putDown();
    };
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", onUp);
    down.preventDefault();
  };
}
