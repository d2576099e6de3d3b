import type { ReachMatrix } from "../api/client";

/** A matrix of devices folded into lines: a line is one device, or a group of them. */

export interface Line {
  key: string;
  label: string;
  /** Places of devices in the matrix. */
  members: number[];
  /** The group that a device stands in, or that this line is. */
  group: string;
  kind: "device" | "segment" | "set" | "zone" | "kind";
  /** Of a group's own line: whether its devices follow. */
  open: boolean;
}

export const groupKey = (group: ReachMatrix["groups"][number]) => `${group.kind}:${group.name}`;

/** The lines of one axis. `folded` holds the keys of groups that are shown as one line. */
export function linesOf(matrix: ReachMatrix, folded: ReadonlySet<string>): Line[] {
  return matrix.groups.flatMap((group): Line[] => {
    const key = groupKey(group);
    const own = { key, label: group.name, members: group.members, group: key, kind: group.kind };
    if (!isHome(group) || (folded.has(key) && group.members.length > 1)) return [{ ...own, open: false }];
    const devices = group.members.map((place) => ({
      key: `${key}/${place}`,
      label: matrix.devices[place] ?? "",
      members: [place],
      group: key,
      kind: "device" as const,
      open: false,
    }));
    return devices.length === 1 ? devices : [{ ...own, open: true }, ...devices];
  });
}

/** Whether a group is the one that its devices stand in; sets and zones name them a second time. */
export const isHome = ({ kind }: { kind: Line["kind"] }) => kind === "segment" || kind === "kind";

export interface Folded {
  /** For each pair of lines the verdicts that occur, as in the matrix; 0 where nothing is asked. */
  bits: Uint8Array[];
  /** Whether anything in the cell differs between what is running and the draft. */
  changed: Uint8Array[];
}

/** A matrix as arrays: a row for each device, a byte for each cell. */
export interface Cells {
  bits: Uint8Array[];
  /** 1 where what is running and the draft differ. */
  changed: Uint8Array[];
  changedCount: number;
}

/** Taken apart once: of thousands of devices there are millions of cells. */
export function cellsOf(matrix: ReachMatrix): Cells {
  let changedCount = 0;
  const bits: Uint8Array[] = [];
  const changed: Uint8Array[] = [];
  for (const [number, row] of matrix.draft.entries()) {
    const running = matrix.running[number] ?? "";
    const own = new Uint8Array(row.length);
    const differs = new Uint8Array(row.length);
    for (let place = 0; place < row.length; place++) {
      const sign = row.charCodeAt(place);
      own[place] = sign - 48;
      if (sign === running.charCodeAt(place)) continue;
      differs[place] = 1;
      changedCount += 1;
    }
    bits.push(own);
    changed.push(differs);
  }
  return { bits, changed, changedCount };
}

/** The cells of `lines` by `lines`: what occurs in any of the devices' cells behind each. */
export function foldCells(cells: Cells, lines: Line[]): Folded {
  return { bits: gathered(cells.bits, lines), changed: gathered(cells.changed, lines) };
}

function gathered(cells: Uint8Array[], lines: Line[]): Uint8Array[] {
  return lines.map((line) => {
    const row = together(cells, line.members);
    const found = new Uint8Array(lines.length);
    for (let at = 0; at < lines.length; at++) {
      for (const member of lines[at]?.members ?? []) found[at] = (found[at] ?? 0) | (row[member] ?? 0);
    }
    return found;
  });
}

/** The rows of some devices as one. */
function together(cells: Uint8Array[], members: number[]): Uint8Array {
  const [first = 0, ...more] = members;
  if (!more.length) return cells[first] ?? new Uint8Array();
  const row = Uint8Array.from(cells[first] ?? []);
  for (const member of more) {
    const from = cells[member] ?? row;
    for (let place = 0; place < row.length; place++) row[place] = (row[place] ?? 0) | (from[place] ?? 0);
  }
  return row;
}

const WORDS = ["passes", "blocked", "unreachable", "refused", "mixed"] as const;

export const verdictsIn = (bits: number) => WORDS.filter((_, place) => (bits >> place) & 1);

export const cellWords = (bits: number) => (bits === 0 ? "nothing asked" : verdictsIn(bits).join(" and "));
