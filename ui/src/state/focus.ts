import { useEffect, useRef } from "react";

/** Who takes the focus: a field, a list that is written, the map. What is not there yet takes it when it appears. */

const takers = new Map<string, () => void>();
let wanted: string | null = null;

/** Give the focus to `what`, if it is on screen. */
export function giveFocus(what: string): boolean {
  const take = takers.get(what);
  take?.();
  return take !== undefined;
}

/** Give the focus to `what`, now or as soon as it appears. */
export function wantFocus(what: string): void {
  wanted = giveFocus(what) ? null : what;
}

/** Call `take` when `what` is to take the focus: now, if it is wanted already. Returns how to stop. */
export function offerFocus(what: string, take: () => void): () => void {
  takers.set(what, take);
  if (wanted === what) {
    wanted = null;
    take();
  }
  return () => {
    if (takers.get(what) === take) takers.delete(what);
  };
}

/** Be what takes the focus under a name, while on screen. */
export function useFocusTaker(what: string, take: () => void): void {
  const latest = useRef(take);
  useEffect(() => {
    latest.current = take;
  });
  useEffect(() => offerFocus(what, () => latest.current()), [what]);
}
