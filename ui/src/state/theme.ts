import { useSyncExternalStore } from "react";

/** Light or dark: as the system says until it is chosen here, then as chosen, in this browser. */

export type Theme = "light" | "dark";

const KEY = "grey-heron:theme";
const dark = window.matchMedia("(prefers-color-scheme: dark)");
const listeners = new Set<() => void>();

function current(): Theme {
  const kept = localStorage.getItem(KEY);
  if (kept === "light" || kept === "dark") return kept;
  return dark.matches ? "dark" : "light";
}

export function showTheme(): void {
  document.documentElement.dataset.theme = current();
  for (const listener of listeners) listener();
}

dark.addEventListener("change", showTheme);

function choose(theme: Theme): void {
  localStorage.setItem(KEY, theme);
  showTheme();
}

const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

export function useTheme(): [Theme, (theme: Theme) => void] {
  return [useSyncExternalStore(subscribe, current), choose];
}
