import { useMemo, useSyncExternalStore } from "react";
import type { State } from "../api/client";

/** The views, in the order of the bar above them and of the digits that open them. */
export const VIEWS = {
  map: "Map",
  lists: "Lists",
  reach: "Reach",
  findings: "Findings",
  changes: "Changes",
  log: "Log",
  traffic: "Traffic",
} as const;
export type View = keyof typeof VIEWS;
export const EVERY_VIEW = Object.keys(VIEWS) as View[];

/** What the address bar holds: every view, test, list and place can be linked to. */
export interface Location {
  network: string | null;
  view: View;
  test: string | null;
  state: State;
  /** What the inspector shows: `device:lagoon`, `point:lagoon:eth2:out`, `list:visitors-in`, `test:t1`, `requirement:r1`, `policy`. */
  chosen: string | null;
  list: string | null;
  /** A second list, to compare with. */
  beside: string | null;
  /** The moment that is looked at: `tue 14:00`, or a date and an hour; null for all times. */
  at: string | null;
  /** What the reach matrix asks: services with commas, a semicolon, the family. */
  reach: string | null;
}

const STATES: readonly string[] = ["baseline", "running", "draft"];

export function readLocation(href: string): Location {
  const url = new URL(href);
  const [, marker, network, view] = url.pathname.split("/");
  const query = url.searchParams;
  const state = query.get("state") ?? "draft";
  return {
    network: marker === "n" && network ? network : null,
    view: EVERY_VIEW.find((each) => each === view) ?? "map",
    test: query.get("test"),
    state: (STATES.includes(state) ? state : "draft") as State,
    chosen: query.get("show"),
    list: query.get("list"),
    beside: query.get("beside"),
    at: query.get("at"),
    reach: query.get("reach"),
  };
}

export function writeLocation(location: Location): string {
  if (!location.network) return "/";
  const query = new URLSearchParams();
  if (location.test) query.set("test", location.test);
  if (location.state !== "draft") query.set("state", location.state);
  if (location.chosen) query.set("show", location.chosen);
  if (location.list) query.set("list", location.list);
  if (location.beside) query.set("beside", location.beside);
  if (location.at) query.set("at", location.at);
  if (location.reach) query.set("reach", location.reach);
  const text = query.toString();
  return `/n/${location.network}/${location.view}${text ? `?${text}` : ""}`;
}

const listeners = new Set<() => void>();
const subscribe = (listener: () => void) => {
  listeners.add(listener);
  window.addEventListener("popstate", listener);
  return () => {
    listeners.delete(listener);
    window.removeEventListener("popstate", listener);
  };
};

/** Go elsewhere: what is not said stays. */
export function go(change: Partial<Location>): void {
  const next = writeLocation({ ...readLocation(window.location.href), ...change });
  if (next === window.location.pathname + window.location.search) return;
  window.history.pushState(null, "", next);
  for (const listener of listeners) listener();
}

/** Where one is, as the address bar says. */
export function useLocation(): Location {
  const href = useSyncExternalStore(subscribe, () => window.location.href);
  return useMemo(() => readLocation(href), [href]);
}

/** The name behind a kind in what is chosen: `lagoon` of `device:lagoon`. */
export const chosenOf = ({ chosen }: Pick<Location, "chosen">, kind: string): string | null =>
  chosen?.startsWith(`${kind}:`) ? chosen.slice(kind.length + 1) : null;

/** Show a test flow: its trace below the map, and itself in the inspector. */
export const goToTest = (id: string, change: Partial<Location> = {}) =>
  go({ view: "map", test: id, chosen: `test:${id}`, ...change });
