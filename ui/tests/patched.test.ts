import { describe, expect, it } from "vitest";
import type { Differing, NetworkPatch, OpenNetwork, ToldNetwork } from "../src/api/client";
import { isPatch, opened, patched } from "../src/api/patched";
import { reserve } from "./networks";

const open = (version = 4): OpenNetwork => {
  const draft = reserve();
  return { id: "n", version, running: reserve(), draft, changes: [], made: [], undo: null, redo: null };
};

const differing = (more: Partial<Differing> = {}): Differing => ({ collections: {}, fields: {}, ...more });

const told = (running = differing()): ToldNetwork => ({ ...open(), running });

const patch = (more: Partial<NetworkPatch> = {}): NetworkPatch => ({
  id: "n",
  version: 5,
  base: 4,
  draft: differing(),
  applied: false,
  changes: [],
  made: [],
  undo: "an edit",
  redo: null,
  ...more,
});

describe("a patch of a network", () => {
  it("puts items in, takes others out, and leaves the rest the same objects", () => {
    const held = open();
    const [kiosk, , , sluice, ledger] = held.draft.devices;
    const till = { ...held.draft.devices[1], note: "moved" };
    const after = patched(
      held,
      patch({ draft: differing({ collections: { devices: [[3, 4], till, [0, 1], [4, 5]] } }) }),
    );
    expect(after?.draft.devices).toEqual([sluice, till, kiosk, ledger]);
    expect(after?.draft.devices[2]).toBe(kiosk);
    expect(after?.draft.links).toBe(held.draft.links);
    expect(after?.running).toBe(held.running);
    expect(after).toMatchObject({ version: 5, undo: "an edit" });
    expect(held.draft.devices[0]).toBe(kiosk);
  });
  it("empties a collection", () => {
    const emptied = patch({ draft: differing({ collections: { links: [] } }) });
    expect(patched(open(), emptied)?.draft.links).toEqual([]);
  });
  it("makes the draft what is running when it was applied", () => {
    const after = patched(open(), patch({ applied: true, draft: differing({ fields: { note: "in force" } }) }));
    expect(after?.running).toBe(after?.draft);
    expect(after?.draft.note).toBe("in force");
  });
  it("is refused for another version or network", () => {
    expect(patched(open(3), patch())).toBeNull();
    expect(patched({ ...open(), id: "other" }, patch())).toBeNull();
  });
  it("is told from a whole network", () => {
    expect(isPatch(patch())).toBe(true);
    expect(isPatch(told())).toBe(false);
  });
});

describe("a network as it is told", () => {
  it("has what is running by what of it is not as in the draft", () => {
    const { draft, running } = opened(told(differing({ collections: { links: [] }, fields: { note: "live" } })));
    expect(running).toMatchObject({ links: [], note: "live" });
    expect(running.devices).toBe(draft.devices);
    expect(draft.links).not.toEqual([]);
  });
});
