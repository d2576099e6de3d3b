// @vitest-environment happy-dom
import { act } from "react";
import { createRoot } from "react-dom/client";
import { describe, expect, it } from "vitest";
import type { ChangedList, ChangedPlace } from "../src/api/client";
import { ListPackets } from "../src/marks/PacketChanges";

const CHANGED = [{ when: "", packets: ["permits 8 more: tcp from hides to any"], more: 0 }];
const PLACE: ChangedPlace = {
  device: "weir",
  at: "wan0",
  direction: "in",
  where: "entering weir by wan0",
  before: "outer",
  after: "outer",
  changed: CHANGED,
  left: "",
};

function shown(of: ChangedList): string {
  const host = document.createElement("div");
  act(() => createRoot(host).render(<ListPackets of={of} />));
  return host.textContent ?? "";
}

const list = (more: Partial<ChangedList>): ChangedList => ({
  name: "outer",
  changed: CHANGED,
  places: [],
  left: "",
  ...more,
});

describe("packets that are decided otherwise", () => {
  it("says that nothing is, and why it is not told", () => {
    expect(shown(list({ changed: [] }))).toBe("Every packet is decided as before.");
    expect(shown(list({ left: "frames are not counted" }))).toContain("not known: frames are not counted");
  });

  it("says what is permitted with a sign, the time, and how much is not told", () => {
    const said = shown(list({ changed: [{ ...CHANGED[0]!, when: "outside by-day", more: 3 }] }));
    expect(said).toContain("Outside by-day:");
    expect(said).toContain("+ permits 8 more: tcp from hides to any");
    expect(said).toContain("and 3 smaller parts");
    const denied = { when: "", packets: ["denies 2 more: udp from any to any"], more: 0 };
    expect(shown(list({ changed: [denied] }))).toContain("− denies 2 more");
  });

  it("says once what all comes by a place, and what does not", () => {
    expect(shown(list({ places: [PLACE] }))).toContain("all of that, entering weir by wan0");
    expect(shown(list({ places: [{ ...PLACE, changed: [] }] }))).toContain("None of it arrives");
    const left = "who sends by there is not known";
    expect(shown(list({ places: [{ ...PLACE, left, changed: [] }] }))).toContain(`: ${left}.`);
    const part = [{ when: "", packets: ["permits 2 more: tcp from heron-cam to any"], more: 0 }];
    const said = shown(list({ places: [{ ...PLACE, changed: part }] }));
    expect(said).toContain("Among packets that devices and hosts send each other, entering weir by wan0:");
    expect(said).toContain("heron-cam");
  });
});
