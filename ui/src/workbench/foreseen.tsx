import { createContext, type ReactNode, useContext, useMemo } from "react";
import type { AccessList, Intent, Placement, TestMarks } from "../api/client";
import { useForeseenOf } from "../api/queries";
import { pointOf } from "../state/points";
import { useCarrying, useOver } from "./carrying";
import { useOpened } from "./opened";
import { useTrial } from "./trial";

/** What would be if the place hovered over took the list, or the trial were carried out. */
interface WhatIf {
  /** The book as it would be; null while it is not known, or nothing is asked. */
  tests: TestMarks[] | null;
  /** Lists that the trial would write, as they would be. */
  lists: AccessList[];
  /** Where lists would stand in the trial; null while it is not known. */
  placements: Placement[] | null;
  error: Error | null;
}

const NOTHING: WhatIf = { tests: null, lists: [], placements: null, error: null };
const ForeseenContext = createContext<WhatIf>(NOTHING);

export const useForeseen = () => useContext(ForeseenContext);

/** Placing the carried list where it hovers, instead of what stands there. */
export function useHovered(): Intent | null {
  const { carried } = useCarrying();
  const over = useOver();
  return useMemo(() => {
    if (!carried || !over) return null;
    const { list, from } = carried;
    return {
      do: "place",
      list: list.name,
      to: pointOf(over),
      moved_from: from && pointOf(from),
      instead: true,
    };
  }, [carried, over]);
}

export function ForeseenProvider({ children }: { children: ReactNode }) {
  const { id, network, at } = useOpened();
  const { trial } = useTrial();
  const hovered = useHovered();
  const intent = hovered ?? trial?.intent ?? null;
  const { data, isPlaceholderData, error } = useForeseenOf(id, network.version, at, intent);
  const asked = intent !== null;
  const tried = hovered === null;
  const foreseen = useMemo<WhatIf>(() => {
    if (!asked) return NOTHING;
    const known = tried && !isPlaceholderData ? data : undefined;
    return {
      tests: data?.tests ?? null,
      lists: known?.lists ?? [],
      placements: known?.placements ?? null,
      error,
    };
  }, [asked, tried, data, isPlaceholderData, error]);
  return <ForeseenContext value={foreseen}>{children}</ForeseenContext>;
}
