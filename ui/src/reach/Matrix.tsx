import { useVirtualizer } from "@tanstack/react-virtual";
import {
  type KeyboardEvent,
  type MouseEvent,
  memo,
  type RefObject,
  useEffect,
  useRef,
  useState,
} from "react";
import { drawCells, looksOf, SIZE } from "./cellCanvas";
import { cellWords, type Folded, isHome, type Line } from "./fold";

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

/**
 * The matrix, of which only what is in the window is drawn: on a canvas, which keeps up with scrolling. The
 * cells that are read aloud and clicked stand over it; they are made where the scrolling stops. One cell has
 * the focus; arrow keys move it.
 */
export function Matrix({ lines, folded, chosen, onChoose, onFold }: MatrixProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState({ row: 0, column: 0 });
  const { rows, columns, settled } = useWindowed(lines.length, scroller);
  const here = { row: Math.min(at.row, lines.length - 1), column: Math.min(at.column, lines.length - 1) };

  const { focused, onClick, onKeyDown } = useCells({
    lines,
    here,
    onMove: (to) => {
      rows.scrollToIndex(to.row);
      columns.scrollToIndex(to.column);
      setAt(to);
    },
    onTo: setAt,
    onChoose,
    onFold,
  });
  useEffect(() => {
    if (focused.current) scroller.current?.querySelector<HTMLElement>("[tabindex='0']")?.focus();
  });

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
        <CellCanvas scroller={scroller} folded={folded} />
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
          {columns.getVirtualItems().map(({ index, start }) => (
            <ColumnHead
              key={lines[index]?.key ?? index}
              line={lines[index]}
              index={index}
              start={start}
              here={here.column}
            />
          ))}
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
                columns={inside(settled.rows, row.index) ? settled.columns : NOTHING}
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

/** The rows and columns that are in the window, and which of them there were when the scrolling stopped last. */
function useWindowed(count: number, scroller: RefObject<HTMLDivElement | null>) {
  const options = {
    count,
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
  const [lastRow, lastColumn] = [rows.getVirtualItems(), columns.getVirtualItems()].map((items) => ({
    first: items[0]?.index ?? 0,
    end: (items.at(-1)?.index ?? -1) + 1,
  }));
  const seen = { rows: lastRow ?? NOTHING, columns: lastColumn ?? NOTHING };
  const settled = useSettled(seen, rows.isScrolling || columns.isScrolling);
  return { rows, columns, settled };
}

interface HeadProps {
  line: Line | undefined;
  index: number;
  start: number;
  /** The column that has the focus. */
  here: number;
}

function ColumnHead({ line, index, start, here }: HeadProps) {
  if (!line) return null;
  return (
    <div
      role="columnheader"
      aria-colindex={index + 2}
      className={`absolute bottom-1 flex items-center justify-start text-fine ${line.kind === "device" ? "" : "font-semibold"} ${here === index ? "text-ink" : "quiet"}`}
      style={{ left: start, width: SIZE, height: HEAD - 6, writingMode: "sideways-lr" }}
    >
      <span className="truncate" style={{ maxHeight: HEAD - 10 }}>
        {line.label}
      </span>
    </div>
  );
}

interface Cell {
  row: number;
  column: number;
}

interface CellsProps {
  lines: Line[];
  here: Cell;
  /** Another cell has the focus, and is to be in the window; `onTo`: it is there already. */
  onMove: (to: Cell) => void;
  onTo: (to: Cell) => void;
  onChoose: (chosen: Chosen) => void;
  onFold: (group: string) => void;
}

/** How cells are moved to, chosen and folded, by keys and by clicks. */
function useCells({ lines, here, onMove, onTo, onChoose, onFold }: CellsProps) {
  const focused = useRef(false); // also while the cell that had the focus is folded away
  const move = (row: number, column: number) => {
    const inRange = (index: number) => Math.max(0, Math.min(lines.length - 1, index));
    onMove({ row: inRange(row), column: inRange(column) });
  };
  const choose = (row: number, column: number) => {
    onTo({ row, column });
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
    onTo({ row: lines.findIndex((line) => line.group === group), column: here.column });
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
  return { focused, onClick, onKeyDown };
}

interface MatrixRowProps {
  line: Line;
  lines: Line[];
  index: number;
  top: number;
  columns: Run;
  bits: Uint8Array | undefined;
  changed: Uint8Array | undefined;
  focus: number;
  chosen: string | null;
  onFold: (group: string) => void;
}

const Row = memo(
  function Row({ line, lines, index, top, columns, bits, changed, focus, chosen, onFold }: MatrixRowProps) {
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
        {made(columns, focus).map((column) => {
          const to = lines[column];
          if (!to) return null;
          const found = bits?.[column] ?? 0;
          const differs = changed?.[column] === 1;
          return (
            <Cell
              key={to.key}
              row={index}
              column={column}
              left={LABEL + column * SIZE}
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
    before.columns.first === after.columns.first &&
    before.columns.end === after.columns.end &&
    before.onFold === after.onFold,
);

const WORDS = Array.from({ length: 32 }, (_, bits) => cellWords(bits));

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
      className={`cell ${chosen ? "cell-chosen" : ""}`}
      style={{ left }}
    />
  );
});

/** Indices from `first` on, before `end`. */
interface Run {
  first: number;
  end: number;
}

const NOTHING: Run = { first: 0, end: 0 };
const inside = (run: Run, index: number) => index >= run.first && index < run.end;

/** The columns whose cells are made in a row; the one that has the focus is there in any case. */
function made(run: Run, focus: number): number[] {
  const columns = Array.from({ length: run.end - run.first }, (_, place) => run.first + place);
  return focus < 0 || inside(run, focus) ? columns : [...columns, focus];
}

interface Runs {
  rows: Run;
  columns: Run;
}

/** What is in the window, as it was before the scrolling that is under way. */
function useSettled(seen: Runs, scrolling: boolean): Runs {
  const [settled, setSettled] = useState(seen);
  const same = (["rows", "columns"] as const).every(
    (way) => settled[way].first === seen[way].first && settled[way].end === seen[way].end,
  );
  if (!same && !scrolling) setSettled(seen);
  return settled;
}

/** The looks of all cells in the window. It stays where the window is. */
function CellCanvas({ scroller, folded }: { scroller: RefObject<HTMLElement | null>; folded: Folded }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const [window_, drawn] = [scroller.current, canvas.current];
    if (!window_ || !drawn) return;
    let looks = looksOf(window_);
    let dots = window.devicePixelRatio;
    const draw = () => {
      if (dots !== window.devicePixelRatio) anew();
      const width = Math.max(0, window_.clientWidth - LABEL);
      const height = Math.max(0, window_.clientHeight - HEAD);
      drawn.style.width = `${width}px`;
      drawn.style.height = `${height}px`;
      drawCells(drawn, looks, folded, { left: window_.scrollLeft, top: window_.scrollTop, width, height });
    };
    const anew = () => {
      looks = looksOf(window_);
      dots = window.devicePixelRatio;
    };
    draw();
    window_.addEventListener("scroll", draw, { passive: true });
    const resized = new ResizeObserver(draw);
    resized.observe(window_);
    const themed = new MutationObserver(() => {
      anew();
      draw();
    });
    themed.observe(document.documentElement, { attributeFilter: ["data-theme"] });
    return () => {
      window_.removeEventListener("scroll", draw);
      resized.disconnect();
      themed.disconnect();
    };
  }, [scroller, folded]);
  return (
    <div
      aria-hidden="true"
      className="pointer-events-none sticky h-0"
      style={{ top: HEAD, left: LABEL, width: 0 }}
    >
      <canvas ref={canvas} className="absolute top-0 left-0 max-w-none" />
    </div>
  );
}
