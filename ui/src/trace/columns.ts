import type { ExchangeReport, HopReport } from "../api/client";

/** One device along the path, with its hop on the way out and on the way home. */
export interface Column {
  device: string;
  out: { hop: HopReport; index: number } | null;
  home: { hop: HopReport; index: number } | null;
}

/** The devices of both ways side by side: the way out from left to right, the way home right to left. */
export function columnsOf(exchange: ExchangeReport, goal: string | null): Column[] {
  const columns: Column[] = exchange.out.hops.map((hop, index) => ({
    device: hop.device,
    out: { hop, index },
    home: null,
  }));
  if (goal && !columns.some((column) => column.device === goal)) {
    columns.push({ device: goal, out: null, home: null });
  }
  let before = columns.length;
  exchange.home?.hops.forEach((hop, index) => {
    const known = columns.findLastIndex(
      (column, at) => at < before && column.device === hop.device && !column.home,
    );
    if (known >= 0) {
      const column = columns[known];
      if (column) column.home = { hop, index };
      before = known;
    } else {
      columns.splice(before, 0, { device: hop.device, out: null, home: { hop, index } });
    }
  });
  return columns;
}
