import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useLayoutEffect, useRef, useState } from "react";

interface Props<T> {
  items: readonly T[];
  keyOf: (item: T) => string;
  row: (item: T) => ReactNode;
  /** The row that is chosen: it is brought into the window. */
  current?: number;
  className?: string;
  rowClassName?: string;
}

/** About how high a row is, in pixels, until it has been looked at. */
const HEIGHT = 29;
const BEYOND = 12;

const panelOf = (list: HTMLElement | null) => list?.closest("aside") ?? null;

/** Rows in a side panel, of which only those are made that are in its window or near it. */
export function Rows<T>({ items, keyOf, row, current = -1, className, rowClassName }: Props<T>) {
  const list = useRef<HTMLUListElement>(null);
  const [above, setAbove] = useState(0);
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => panelOf(list.current),
    estimateSize: () => HEIGHT,
    overscan: BEYOND,
    scrollMargin: above,
    getItemKey: (at) => keyOf(items[at] as T),
    useFlushSync: false,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: what stands above is other words where there are no rows
  useLayoutEffect(() => {
    const around = panelOf(list.current);
    if (!list.current || !around) return;
    const top = list.current.getBoundingClientRect().top - around.getBoundingClientRect().top;
    setAbove(top + around.scrollTop);
  }, [items.length === 0]);
  useLayoutEffect(() => {
    if (current >= 0) rows.scrollToIndex(current);
  }, [rows, current]);
  const made = rows.getVirtualItems();
  const before = (made[0]?.start ?? above) - above;
  const after = rows.getTotalSize() - ((made.at(-1)?.end ?? above) - above);
  return (
    <ul ref={list} className={className} style={{ paddingTop: before, paddingBottom: after }}>
      {made.map(({ key, index }) => (
        <li
          key={key}
          ref={rows.measureElement}
          data-index={index}
          aria-setsize={items.length}
          aria-posinset={index + 1}
          className={rowClassName}
        >
          {row(items[index] as T)}
        </li>
      ))}
    </ul>
  );
}
