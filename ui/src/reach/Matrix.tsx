import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type MouseEvent, memo, useEffect, useRef, useState } from "react";
import { CellShape } from "./CellShape";
import { cellWords, type Folded, isHome, type Line, verdictsIn } from "./fold";

const SIZE = 24;
const LABEL = 172;
const HEAD = 118;

export interface Chosen {
  row: string;
  column: string;
}

interface MatrixProps {
  lines: Line[];
  folded: Folded;
  chosen: Chosen | null;
  onChoose: (chosen: Chosen) => void;
  onFold: (group: string) => void;
}

/** The matrix, of which only what is in the window is drawn. One cell has the focus; arrow keys move it. */
export function Matrix({ lines, folded, chosen, onChoose, onFold }: MatrixProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState({ row: 0, column: 0 });
  const options = {
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => SIZE,
    overscan: 4,
    useFlushSync: false,
  };
  const rows = useVirtualizer({ ...options, paddingStart: HEAD, scrollPaddingStart: HEAD });
  const columns = useVirtualizer({
    ...options,
    horizontal: true,
    paddingStart: LABEL,
    scrollPaddingStart: LABEL,
  });
  const here = { row: Math.min(at.row, lines.length - 1), column: Math.min(at.column, lines.length - 1) };

  const focused = useRef(false); // also while the cell that had the focus is folded away
  useEffect(() => {
    if (focused.current) scroller.current?.querySelector<HTMLElement>("[tabindex='0']")?.focus();
  });

  const move = (row: number, column: number) => {
    const to = {
      row: Math.max(0, Math.min(lines.length - 1, row)),
      column: Math.max(0, Math.min(lines.length - 1, column)),
    };
    rows.scrollToIndex(to.row);
    columns.scrollToIndex(to.column);
    setAt(to);
  };
  const choose = (row: number, column: number) => {
    setAt({ row, column });
    const [from, to] = [lines[row], lines[column]];
    if (from && to) onChoose({ row: from.key, column: to.key });
  };
  const onClick = (event: MouseEvent) => {
    const cell = (event.target as HTMLElement).closest<HTMLElement>("[data-cell]");
    const [row, column] = cell?.dataset.cell?.split(" ").map(Number) ?? [];
    if (row !== undefined && column !== undefined) choose(row, column);
  };
  const foldAt = (row: number) => {
    const group = lines[row]?.group ?? "";
    onFold(group);
    setAt({ row: lines.findIndex((line) => line.group === group), column: here.column });
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const steps: Record<string, [number, number]> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      PageUp: [-12, 0],
      PageDown: [12, 0],
      Home: [0, -lines.length],
      End: [0, lines.length],
    };
    const step = steps[event.key];
    if (step) move(here.row + step[0], here.column + step[1]);
    else if (event.key === "Enter") choose(here.row, here.column);
    else if (event.key === " ") foldAt(here.row);
    else return;
    event.preventDefault();
    event.stopPropagation();
  };

  return (
    <div
      ref={scroller}
      role="grid"
      aria-label="Reach, from rows to columns"
      aria-rowcount={lines.length + 1}
      aria-colcount={lines.length + 1}
      className="min-h-0 flex-1 overflow-auto"
      onKeyDown={onKeyDown}
      onClick={onClick}
      onFocus={() => {
        focused.current = true;
      }}
      onBlur={(event) => {
        focused.current = event.relatedTarget === null && !document.hasFocus();
      }}
    >
      <div className="relative" style={{ height: rows.getTotalSize(), width: columns.getTotalSize() }}>
        <div
          role="row"
          aria-rowindex={1}
          className="sticky top-0 z-20 border-b border-rule bg-fog"
          style={{ height: HEAD }}
        >
          <div
            role="columnheader"
            aria-colindex={1}
            className="quiet sticky left-0 z-10 flex items-end bg-fog pb-1 pl-6 text-fine"
            style={{ width: LABEL, height: HEAD }}
          >
            from ↓ to →
          </div>
          {columns.getVirtualItems().map((column) => {
            const line = lines[column.index];
            return (
              line && (
                <div
                  key={line.key}
                  role="columnheader"
                  aria-colindex={column.index + 2}
                  className={`absolute bottom-1 flex items-center justify-start text-fine ${line.kind === "device" ? "" : "font-semibold"} ${here.column === column.index ? "text-ink" : "quiet"}`}
                  style={{ left: column.start, width: SIZE, height: HEAD - 6, writingMode: "sideways-lr" }}
                >
                  <span className="truncate" style={{ maxHeight: HEAD - 10 }}>
                    {line.label}
                  </span>
                </div>
              )
            );
          })}
        </div>
        {rows.getVirtualItems().map((row) => {
          const line = lines[row.index];
          return (
            line && (
              <Row
                key={line.key}
                line={line}
                lines={lines}
                index={row.index}
                top={row.start}
                columns={columns.getVirtualItems().map((column) => column.index)}
                starts={columns.getVirtualItems()[0]?.start ?? 0}
                bits={folded.bits[row.index]}
                changed={folded.changed[row.index]}
                focus={here.row === row.index ? here.column : -1}
                chosen={chosen?.row === line.key ? chosen.column : null}
                onFold={onFold}
              />
            )
          );
        })}
      </div>
    </div>
  );
}

interface MatrixRowProps {
  line: Line;
  lines: Line[];
  index: number;
  top: number;
  columns: number[];
  starts: number;
  bits: Uint8Array | undefined;
  changed: Uint8Array | undefined;
  focus: number;
  chosen: string | null;
  onFold: (group: string) => void;
}

const Row = memo(
  function Row({
    line,
    lines,
    index,
    top,
    columns,
    starts,
    bits,
    changed,
    focus,
    chosen,
    onFold,
  }: MatrixRowProps) {
    const group = isHome(line);
    return (
      <div
        role="row"
        aria-rowindex={index + 2}
        className={`absolute left-0 ${line.open ? "border-t border-rule" : ""}`}
        style={{ top, height: SIZE, width: "100%" }}
      >
        <div
          role="rowheader"
          aria-colindex={1}
          className={`sticky left-0 z-10 flex items-center gap-1 bg-fog pr-2 ${line.kind === "device" ? "pl-6" : "pl-2 font-semibold"} ${focus >= 0 ? "text-ink" : ""}`}
          style={{ width: LABEL, height: SIZE }}
        >
          {group && (
            <button
              type="button"
              tabIndex={-1}
              aria-expanded={line.open}
              aria-label={`${line.open ? "Fold" : "Unfold"} ${line.label}`}
              onClick={() => onFold(line.group)}
              className="quiet w-4"
            >
              {line.open ? "−" : "+"}
            </button>
          )}
          <span className="truncate">{line.label}</span>
          {line.kind !== "device" && <span className="quiet font-normal">{line.members.length}</span>}
        </div>
        {columns.map((column, place) => {
          const to = lines[column];
          if (!to) return null;
          const found = bits?.[column] ?? 0;
          const differs = changed?.[column] === 1;
          return (
            <Cell
              key={to.key}
              row={index}
              column={column}
              left={starts + place * SIZE}
              from={line.label}
              to={to.label}
              bits={found}
              differs={differs}
              focused={focus === column}
              chosen={chosen === to.key}
            />
          );
        })}
      </div>
    );
  },
  (before, after) =>
    before.line === after.line &&
    before.top === after.top &&
    before.focus === after.focus &&
    before.chosen === after.chosen &&
    before.bits === after.bits &&
    before.changed === after.changed &&
    before.columns[0] === after.columns[0] &&
    before.columns.length === after.columns.length &&
    before.starts === after.starts &&
    before.onFold === after.onFold,
);

/** How a cell looks by its bits: one verdict is drawn by the style alone, several as a small picture. */
const LOOKS = Array.from({ length: 32 }, (_, bits) => {
  const [only, ...more] = verdictsIn(bits);
  return only && more.length === 0 ? `cell cell-${only}` : "cell";
});
const SHAPES = LOOKS.map((look, bits) => (look === "cell" ? <CellShape key={look} bits={bits} /> : null));
const WORDS = LOOKS.map((_, bits) => cellWords(bits));

interface CellProps {
  row: number;
  column: number;
  left: number;
  from: string;
  to: string;
  bits: number;
  differs: boolean;
  focused: boolean;
  chosen: boolean;
}

/** A cell is drawn once: scrolling brings new ones in and leaves the others as they are. */
const Cell = memo(function Cell(props: CellProps) {
  const { row, column, left, from, to, bits, differs, focused, chosen } = props;
  return (
    <div
      role="gridcell"
      tabIndex={focused ? 0 : -1}
      aria-colindex={column + 2}
      aria-selected={chosen}
      aria-label={`${from} to ${to}: ${WORDS[bits]}${differs ? ", changed on the draft" : ""}`}
      data-cell={`${row} ${column}`}
      className={`${LOOKS[bits]} ${differs ? "cell-changed" : ""} ${chosen ? "cell-chosen" : ""}`}
      style={{ left }}
    >
      {SHAPES[bits]}
    </div>
  );
});
