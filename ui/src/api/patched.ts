import type { Differing, Network, NetworkPatch, OpenNetwork, ToldNetwork } from "./client";

/** The parts of a network that are collections, as far as a difference is concerned: lists of whatever. */
type Parts = Record<string, unknown>;

/** A network by what of it is not as in one that is there. What that does not speak of stays the same object. */
export function differing(held: Network, { collections, fields }: Differing): Network {
  const before = held as unknown as Parts;
  const changed = Object.entries(collections).map(([name, runs]) => {
    const items = before[name] as unknown[];
    const after = runs.flatMap((run) => (isKept(run) ? items.slice(run[0], run[1]) : [run]));
    return [name, after] as const;
  });
  return { ...before, ...fields, ...Object.fromEntries(changed) } as unknown as Network;
}

/** A network as it is told: what is running by what of it is not as in the draft. */
export const opened = (told: ToldNetwork): OpenNetwork => ({
  ...told,
  running: differing(told.draft, told.running),
});

/** A network as a patch leaves it, or null where the patch is for another version of it. */
export function patched(held: OpenNetwork, patch: NetworkPatch): OpenNetwork | null {
  if (held.id !== patch.id || held.version !== patch.base) return null;
  const { version, applied, changes, made, undo, redo } = patch;
  const draft = differing(held.draft, patch.draft);
  return { id: held.id, version, running: applied ? draft : held.running, draft, changes, made, undo, redo };
}

const isKept = (run: Differing["collections"][string][number]): run is [number, number] => Array.isArray(run);

export const isPatch = (answer: ToldNetwork | NetworkPatch): answer is NetworkPatch => "base" in answer;
