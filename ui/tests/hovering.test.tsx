// @vitest-environment happy-dom
import { act, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { PointReport } from "../src/api/client";
import { CarryingProvider, useCarrying, useOver } from "../src/workbench/carrying";
import { hover, pickUp } from "../src/workbench/picking";
import { ForeseenProvider, useForeseen } from "../src/workbench/foreseen";
import { useTrial } from "../src/workbench/trial";
import { reserve } from "./networks";

const point = (at: string): PointReport =>
  ({ device: "sluice", at, direction: "in", words: at, placed: [], takes: ["ipv4"], line: false }) as unknown as PointReport;
const POINTS = [point("eth0"), point("eth1")];
const OPENED = {
  id: "n1",
  network: { version: 1, draft: reserve() },
  places: { points: POINTS, segments: [] },
  make: async () => [],
};
const FORESEEN = { data: undefined, isPlaceholderData: false, error: null };
vi.mock("../src/workbench/opened", () => ({ useOpened: () => OPENED, usePoints: () => OPENED }));
vi.mock("../src/api/queries", () => ({ useForeseenOf: () => FORESEEN, useCustomary: () => FORESEEN }));

const drawn = { book: 0, inspector: 0, map: 0 };
let carrying: ReturnType<typeof useCarrying>;

/** What the book reads: the trial, and what would be. */
function Book() {
  useTrial();
  useForeseen();
  drawn.book += 1;
  return null;
}

/** What the inspector and the buttons read. */
function Inspector() {
  carrying = useCarrying();
  drawn.inspector += 1;
  return null;
}

function Map() {
  useOver();
  drawn.map += 1;
  return null;
}

async function shown(children: ReactNode): Promise<void> {
  const root = createRoot(document.body.appendChild(document.createElement("div")));
  await act(async () =>
    root.render(
          <CarryingProvider>
            <ForeseenProvider>{children}</ForeseenProvider>
          </CarryingProvider>
    ),
  );
}

describe("hovering over the map with a list", () => {
  beforeEach(() => {
    vi.stubGlobal("IS_REACT_ACT_ENVIRONMENT", true);
    Object.assign(drawn, { book: 0, inspector: 0, map: 0 });
  });
  it("draws the map anew, and neither the inspector nor a book that would stay as it is", async () => {
    await shown(
      <>
        <Book />
        <Inspector />
        <Map />
      </>,
    );
    const list = { name: "visitors", family: "ipv4", kind: "extended", note: "", entries: "" } as const;
    await act(async () => pickUp(list, null));
    expect(carrying.carried?.targets.map(({ at }) => at)).toEqual(["eth0", "eth1"]);
    await act(async () => hover(POINTS[0] ?? null));
    const before = { ...drawn };
    for (const at of [1, 0, 1, 0]) await act(async () => hover(POINTS[at] ?? null));
    expect(drawn).toEqual({ ...before, map: before.map + 4 });
  });
});
