// @vitest-environment happy-dom
import { act } from "react";
import { createRoot } from "react-dom/client";
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { FindingItem } from "../src/api/client";
import { FindingsView } from "../src/views/FindingsView";
import { useShared } from "../src/workbench/store";

const made = vi.fn(async () => []);
const OPENED = { id: "n1", network: { version: 1, draft: { placements: [] } }, at: null, make: made };
let search: Record<string, unknown>;
vi.mock("../src/workbench/opened", () => ({ useOpened: () => OPENED }));
vi.mock("../src/policy/useAsTest", () => ({ useAsTest: () => vi.fn() }));
vi.mock("../src/api/computed", () => ({ useFindings: () => search }));

const finding = (kind: string, device: string, more: Partial<FindingItem> = {}): FindingItem => ({
  kind,
  severity: "note",
  key: `${kind}: ${device}`,
  digest: "d",
  text: `${kind} at ${device}`,
  evidence: [],
  devices: [device],
  lists: [],
  flow: null,
  repair: null,
  unrepaired: "Whether it stays is yours to decide.",
  accepted: null,
  ...more,
});

function shown(...findings: FindingItem[]): HTMLElement {
  search = { data: { version: 1, findings }, isFetching: false, isPlaceholderData: false, error: null, done: 1 };
  const host = document.createElement("div");
  document.body.append(host);
  act(() => createRoot(host).render(<FindingsView />));
  return host;
}

const rows = (host: HTMLElement) => [...host.querySelectorAll("[data-finding]")].map((row) => row.getAttribute("data-finding"));
const press = (button: Element | null | undefined) => act(() => (button as HTMLElement).click());

const CLEAR = ["jetty", "ledger", "sluice", "weir"].map((device) => finding("clear-text service", device));

describe("findings", () => {
  beforeEach(() => {
    document.body.replaceChildren();
    vi.clearAllMocks();
  });

  it("folds many of a kind into one row with its devices, and unfolds it", () => {
    const host = shown(...CLEAR);
    const group = host.querySelector("button[aria-expanded]");
    expect(group?.textContent).toContain("clear-text service, 4: jetty, ledger, sluice, weir");
    expect(rows(host)).toEqual([]);
    press(group);
    expect(rows(host)).toHaveLength(4);
    expect(host.textContent).toContain("No repair is offered: whether it stays is yours to decide.");
  });

  it("shows few of a weight at once, and one of a kind without a heading", () => {
    const host = shown(...CLEAR.slice(0, 2), finding("unknown address", "weir", { severity: "warning" }));
    expect(rows(host)).toHaveLength(3);
    expect(host.querySelectorAll("button[aria-expanded]")).toHaveLength(1);
  });

  it("leaves only those that have all the words, unfolded", () => {
    const host = shown(...CLEAR, finding("unknown address", "jetty"));
    const field = host.querySelector("input") as HTMLInputElement;
    const type = (words: string) =>
      act(() => {
        Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value")?.set?.call(field, words);
        field.dispatchEvent(new Event("input", { bubbles: true }));
      });
    type("Clear jetty");
    expect(rows(host)).toEqual(["clear-text service: jetty"]);
    type("nothing like that");
    expect(host.textContent).toContain("None of the 5 findings speaks of that.");
  });

  it("carries a repair out, or tries it first", () => {
    const repair = { label: "let replies through", changes: [] };
    const host = shown(finding("reply blocked", "weir", { repair, unrepaired: "" }));
    const button = (words: string) =>
      [...host.querySelectorAll("button")].find((each) => each.textContent === words);
    press(button("Let replies through"));
    expect(made).toHaveBeenCalledWith({ do: "changes", label: "let replies through", made: [] });
    press(button("try it first"));
    expect(useShared.getState().trial).toMatchObject({ label: repair.label, kind: "tried" });
    expect(host.textContent).not.toContain("No repair");
  });
});
