import { useEffect, useRef } from "react";

/** What the part of the screen that is there does for an action, by the action's id. */
const handlers = new Map<string, (() => void)[]>();

/** Do `act` for an action while this is on screen; null does nothing for it. */
export function useHandler(action: string, act: (() => void) | null): void {
  const latest = useRef(act);
  useEffect(() => {
    latest.current = act;
  });
  const offered = act !== null;
  useEffect(() => {
    if (!offered) return;
    const own = () => latest.current?.();
    handlers.set(action, [...(handlers.get(action) ?? []), own]);
    return () => {
      handlers.set(
        action,
        (handlers.get(action) ?? []).filter((each) => each !== own),
      );
    };
  }, [action, offered]);
}

/** Who would do it, of all that offer to: whoever came last. */
export const handlerOf = (action: string): (() => void) | undefined => handlers.get(action)?.at(-1);
