import type { AccessList, Run, State } from "../api/client";

/** A test flow without its expectation. */
export const bareFlow = (flow: string) => flow.replace(/ (pass|block)$/, "");

/** The names of the address families. */
export const FAMILY_WORDS = { ipv4: "IPv4", ipv6: "IPv6" } as const;

/** What a list is: “IPv4, extended”, “frames”. */
export const listWords = ({ family, kind }: Pick<AccessList, "family" | "kind">) =>
  family ? `${FAMILY_WORDS[family]}, ${kind}` : "frames";

/** With a capital at its beginning. */
export const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

/** What came of a run of test flows. */
export function runWords({ ran, surprises, untried, counted, logged }: Run, state: State): string {
  const how = state === "baseline" ? "with no lists" : state === "draft" ? "on the draft" : "as running";
  const many = (count: number) => `${count} ${count === 1 ? "flow" : "flows"}`;
  const outcome = surprises.length ? `${surprises.length} not as expected` : "all as expected";
  const left = untried.length ? ` ${many(untried.length)} could not be tried.` : "";
  return `Ran ${many(ran)} ${how}: ${outcome}.${left} ${counted} packets counted at lists, ${logged} logged.`;
}

/** “1 device”, “2 devices”. */
export const counted = (count: number, word: string, words = `${word}s`) =>
  `${count.toLocaleString()} ${count === 1 ? word : words}`;
