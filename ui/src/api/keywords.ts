/** The fixed words of the notation. Made by `make contracts` from model/notation. */
export const KEYWORDS: ReadonlySet<string> = new Set([
  "->",
  "any",
  "at",
  "block",
  "dscp",
  "during",
  "established",
  "flags",
  "fragment",
  "from",
  "log",
  "maybe",
  "pass",
  "port",
  "silently",
  "source-port",
  "to",
  "→"
]);
