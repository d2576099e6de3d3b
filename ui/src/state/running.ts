import type { OpenNetwork } from "../api/client";

/** The devices that a flow or a requirement names and that are in the draft only: of them nothing runs yet. */
export function notRunningYet(
  { draft, running }: Pick<OpenNetwork, "draft" | "running">,
  text: string,
): string[] {
  const words = new Set(text.split(/[\s,:+]+/));
  const runs = new Set(running.devices.map(({ name }) => name));
  return draft.devices.map(({ name }) => name).filter((name) => words.has(name) && !runs.has(name));
}
