import { cellWords, type Folded, type Line } from "./fold";

/** The matrix as CSV (RFC 4180): a row for each source, a column for each destination, in words. */
export function tableOf(lines: Line[], { bits }: Folded): string {
  const rows = lines.map((line, row) => [
    line.label,
    ...lines.map((_, column) => cellWords(bits[row]?.[column] ?? 0)),
  ]);
  return [["from \\ to", ...lines.map((line) => line.label)], ...rows]
    .map((row) => `${row.map(quoted).join(",")}\r\n`)
    .join("");
}

/** A field; one that a spreadsheet would take for a formula is kept from being one. */
function quoted(text: string): string {
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}
