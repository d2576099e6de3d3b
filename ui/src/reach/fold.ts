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

/** The cells of `lines` by `lines`: what occurs in any of the devices' cells behind each. */
export function foldCells(matrix: ReachMatrix, lines: Line[]): Folded {
  const count = matrix.devices.length;
  const rows = matrix.draft.map((row) => Uint8Array.from(row, (sign) => sign.charCodeAt(0) - 48));
  const differs = matrix.draft.map((row, number) => {
    const running = matrix.running[number] ?? "";
    return Uint8Array.from(row, (sign, place) => (sign === running[place] ? 0 : 1));
  });
  return { bits: gathered(rows, lines, count), changed: gathered(differs, lines, count) };
}

function gathered(cells: Uint8Array[], lines: Line[], count: number): Uint8Array[] {
  return lines.map((line) => {
    const row = new Uint8Array(count);
    for (const member of line.members) {
      const from = cells[member];
      if (from)
        for (let place = 0; place < count; place++) row[place] = (row[place] ?? 0) | (from[place] ?? 0);
    }
    return Uint8Array.from(lines, (column) =>
      column.members.reduce((bits, place) => bits | (row[place] ?? 0), 0),
    );
  });
}

const WORDS = ["passes", "blocked", "unreachable", "refused", "mixed"] as const;

export const verdictsIn = (bits: number) => WORDS.filter((_, place) => (bits >> place) & 1);

export const cellWords = (bits: number) => (bits === 0 ? "nothing asked" : verdictsIn(bits).join(" and "));
