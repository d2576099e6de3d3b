import type { Network, NetworkPatch, OpenNetwork } from "./client";

/** The parts of a network that are collections, as far as a patch is concerned: lists of whatever. */
type Parts = Record<string, unknown>;

/**
 * A network as a patch leaves it, or null where the patch is for another version of it. What the patch does not
 * speak of stays the same object.
 */
export function patched(held: OpenNetwork, patch: NetworkPatch): OpenNetwork | null {
  if (held.id !== patch.id || held.version !== patch.base) return null;
  const before = held.draft as unknown as Parts;
  const collections = Object.entries(patch.collections).map(([name, runs]) => {
    const items = before[name] as unknown[];
    const after = runs.flatMap((run) => (isKept(run) ? items.slice(run[0], run[1]) : [run]));
    return [name, after] as const;
  });
  const draft = { ...before, ...patch.fields, ...Object.fromEntries(collections) } as unknown as Network;
  const { version, changes, made, undo, redo, applied } = patch;
  const running = applied ? draft : held.running;
  return { id: held.id, version, running, draft, changes, made, undo, redo };
}

const isKept = (run: NetworkPatch["collections"][string][number]): run is [number, number] =>
  Array.isArray(run);

export const isPatch = (answer: OpenNetwork | NetworkPatch): answer is NetworkPatch => "base" in answer;
