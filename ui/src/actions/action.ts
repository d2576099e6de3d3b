import type { Places } from "../api/client";
import type { Location } from "../state/location";
import type { Theme } from "../state/theme";
import type { useCarrying } from "../workbench/carrying";
import { handlerOf } from "../workbench/handlers";
import type { Opened } from "../workbench/opened";
import type { Trial } from "../workbench/store";

/** What an action can see and do where it is asked for. */
export interface Here extends Opened {
  location: Location;
  places: Places | undefined;
  trial: Trial | null;
  carrying: ReturnType<typeof useCarrying>;
  theme: Theme;
  setTheme: (theme: Theme) => void;
}

/** Something that can be done, from wherever it is offered: by key, in the palette, a menu or a button. */
export interface Action {
  id: string;
  label: string | ((here: Here) => string);
  /** Keys that do it, as tinykeys writes them; the first one is shown. Letters act in the map, the book and the trace. */
  keys?: string[];
  /** What the palette says beside it. */
  detail?: (here: Here) => string;
  /** Whether it can be done here; always, unless said. */
  when?: (here: Here) => boolean;
  /** Whether the palette leaves it out: it means something only where one is. */
  byKeyOnly?: true;
  run: (here: Here) => void;
}

/** An action that a part of the screen does, while it is there. */
export const doneBy = (id: string): Pick<Action, "id" | "when" | "run"> => ({
  id,
  when: () => handlerOf(id) !== undefined,
  run: () => handlerOf(id)?.(),
});

/** A sign that some keyboards write with Shift. */
export const sign = (key: string): string[] => [key, `Shift+${key}`];

export const labelOf = (action: Action, here: Here) =>
  typeof action.label === "string" ? action.label : action.label(here);

const SIGNS: Record<string, string> = { $mod: "Ctrl", Escape: "Esc", ArrowUp: "↑", ArrowDown: "↓" };

/** How the keys of an action are written for people: `Ctrl+Shift+Z`. */
export function keyWords({ keys }: Pick<Action, "keys">): string {
  const [first = ""] = keys ?? [];
  const pressed = first === "+" ? ["+"] : first.split("+");
  const shown = pressed.map((key) => SIGNS[key] ?? key);
  return shown.length > 1 ? [...shown.slice(0, -1), shown.at(-1)?.toUpperCase()].join("+") : shown.join("");
}
