import { describe, expect, it } from "vitest";
import type { Line } from "../src/reach/fold";
import { tableOf } from "../src/reach/table";

const line = (label: string): Line => ({
  key: label,
  label,
  members: [0],
  group: "",
  kind: "device",
  open: false,
});

describe("the matrix as a table", () => {
  it("says every cell in words, quoted where it must be", () => {
    const lines = [line("kiosk"), line('the "old", ledger'), line("@inner")];
    const bits = [Uint8Array.of(0, 1, 3), Uint8Array.of(2, 0, 4), Uint8Array.of(8, 16, 0)];
    const rows = tableOf(lines, { bits, changed: [] }).split("\r\n");
    expect(rows).toEqual([
      'from \\ to,kiosk,"the ""old"", ledger",\'@inner',
      "kiosk,nothing asked,passes,passes and blocked",
      '"the ""old"", ledger",blocked,nothing asked,unreachable',
      "'@inner,refused,mixed,nothing asked",
      "",
    ]);
  });
});
