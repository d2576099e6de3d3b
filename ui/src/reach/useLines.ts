import { useCallback, useMemo, useState } from "react";
import type { ReachMatrix } from "../api/client";
import { cellsOf, foldCells, groupKey, isHome, linesOf } from "./fold";

/** Of more devices the groups are folded unless they are opened. */
const MANY = 60;

/** The lines of a matrix, folded as they are now, and their cells. `pair`: both of two devices in the open. */
export function useLines(matrix: ReachMatrix | undefined, onlyChanged: boolean) {
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set());
  const usual = (matrix?.devices.length ?? 0) > MANY;
  const folded = useMemo(() => {
    const groups = matrix?.groups.map(groupKey) ?? [];
    return new Set(groups.filter((key) => turned.has(key) !== usual));
  }, [matrix, turned, usual]);
  const every = useMemo(() => (matrix ? linesOf(matrix, folded) : []), [matrix, folded]);
  const single = useMemo(() => (matrix ? cellsOf(matrix) : null), [matrix]);
  const { lines, cells } = useMemo(() => {
    if (!single) return { lines: [], cells: { bits: [], changed: [] } };
    const whole = foldCells(single, every);
    if (!onlyChanged) return { lines: every, cells: whole };
    const lines = every.filter(
      (_, place) => whole.changed[place]?.includes(1) || whole.changed.some((row) => row[place] === 1),
    );
    return { lines, cells: foldCells(single, lines) };
  }, [single, every, onlyChanged]);

  const fold = useCallback((group: string) => {
    setTurned((before) => {
      const after = new Set(before);
      if (!after.delete(group)) after.add(group);
      return after;
    });
  }, []);
  /** Every group with its devices, or every group as one line. */
  const unfold = (open: boolean) => setTurned(new Set(open === usual ? matrix?.groups.map(groupKey) : []));
  const pair = (source: number, destination: number) => {
    const homeOf = (place: number) =>
      (matrix?.groups ?? [])
        .filter((group) => isHome(group) && group.members.includes(place))
        .map(groupKey)
        .join();
    setTurned((before) => {
      const after = new Set(before);
      for (const home of [homeOf(source), homeOf(destination)]) {
        if (usual) after.add(home);
        else after.delete(home);
      }
      return after;
    });
    const key = (place: number) => `${homeOf(place)}/${place}`;
    return { row: key(source), column: key(destination) };
  };
  return { lines, cells, changed: single?.changedCount ?? 0, fold, unfold, pair };
}
