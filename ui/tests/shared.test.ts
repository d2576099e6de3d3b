import { beforeEach, describe, expect, it, vi } from "vitest";
import { share, shareNothing, useShared } from "../src/workbench/store";
import type { Trial } from "../src/workbench/store";
import { showTrial, view } from "../src/workbench/trial";

vi.mock("../src/state/location", () => ({ go: vi.fn(), useLocation: vi.fn() }));

const trial = (list: string, label = "edit"): Trial => ({
  list,
  label,
  intent: { do: "changes", label, made: [] },
  kind: "typed",
});
const { getState } = useShared;

describe("what somebody is at", () => {
  beforeEach(shareNothing);

  it("shows another trial even where a state was looked at, and not the same one typed on", () => {
    showTrial(trial("visitors"));
    expect(getState().aside).toBe(false);
    view("running");
    expect(getState().aside).toBe(true);
    showTrial(trial("visitors", "typed on"));
    expect(getState()).toMatchObject({ aside: true, trial: { label: "typed on" } });
    showTrial(trial("wardens"));
    expect(getState().aside).toBe(false);
    view("trial");
    expect(getState().aside).toBe(false);
  });

  it("tells only those who read what changes", () => {
    const told = vi.fn();
    const stop = useShared.subscribe((now, before) => now.hop !== before.hop && told());
    share({ exchange: 2 });
    expect(told).not.toHaveBeenCalled();
    share({ hop: { way: "out", index: 1 } });
    expect(told).toHaveBeenCalledTimes(1);
    stop();
  });

  it("is nothing once another network is opened", () => {
    showTrial(trial("visitors"));
    share({ exchange: 3, choices: [{}] as never, hop: { way: "home", index: 0 } });
    shareNothing();
    expect(getState()).toMatchObject({ trial: null, exchange: 0, choices: [], hop: null, picked: null });
  });
});
