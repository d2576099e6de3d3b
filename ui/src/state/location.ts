import { useCallback, useSyncExternalStore } from "react";
import type { State } from "../api/client";

export type View = "map" | "lists" | "reach" | "findings" | "changes" | "log";

/** What the address bar holds: every view, test, list and place can be linked to. */
export interface Place {
  network: string | null;
  view: View;
  test: string | null;
  state: State;
  /** What the inspector shows: `device:lagoon`, `point:lagoon:eth2:out`, `list:visitors-in`, `test:t1`, `requirement:r1`. */
  chosen: string | null;
  list: string | null;
  /** A second list, to compare with. */
  beside: string | null;
  /** What the reach matrix asks: services with commas, a semicolon, the family. */
  reach: string | null;
}

const VIEWS: readonly string[] = ["map", "lists", "reach", "findings", "changes", "log"];
const STATES: readonly string[] = ["baseline", "running", "draft"];

export function readPlace(href: string): Place {
  const url = new URL(href);
  const [, marker, network, view] = url.pathname.split("/");
  const query = url.searchParams;
  const state = query.get("state") ?? "draft";
  return {
    network: marker === "n" && network ? network : null,
    view: (view && VIEWS.includes(view) ? view : "map") as View,
    test: query.get("test"),
    state: (STATES.includes(state) ? state : "draft") as State,
    chosen: query.get("show"),
    list: query.get("list"),
    beside: query.get("beside"),
    reach: query.get("reach"),
  };
}

export function writePlace(place: Place): string {
  if (!place.network) return "/";
  const query = new URLSearchParams();
  if (place.test) query.set("test", place.test);
  if (place.state !== "draft") query.set("state", place.state);
  if (place.chosen) query.set("show", place.chosen);
  if (place.list) query.set("list", place.list);
  if (place.beside) query.set("beside", place.beside);
  if (place.reach) query.set("reach", place.reach);
  const text = query.toString();
  return `/n/${place.network}/${place.view}${text ? `?${text}` : ""}`;
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

/** The place in the address bar, and a way to go elsewhere. */
export function usePlace(): [Place, (change: Partial<Place>) => void] {
  const href = useSyncExternalStore(subscribe, () => window.location.href);
  const go = useCallback((change: Partial<Place>) => {
    const next = writePlace({ ...readPlace(window.location.href), ...change });
    if (next === window.location.pathname + window.location.search) return;
    window.history.pushState(null, "", next);
    for (const listener of listeners) listener();
  }, []);
  return [readPlace(href), go];
}
