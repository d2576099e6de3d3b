import { Dialog } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { useTheme } from "../state/theme";
import { commandsOf, found } from "./commands";
import { useWorkbench } from "./context";
import { Sheet } from "./Sheet";
import { focusMap } from "./useShortcuts";

interface PaletteProps {
  open: boolean;
  onClose: () => void;
  openShortcuts: () => void;
}

/** One field for everything: type a few letters of a device, list, flow, place or command, then Enter. */
export function Palette({ open, onClose, openShortcuts }: PaletteProps) {
  return (
    <Sheet
      open={open}
      onClose={onClose}
      onClosed={focusMap}
      className="top-[12%] flex max-h-[66vh] w-[37.5rem] max-w-[94vw] flex-col"
    >
      <Dialog.Title className="sr-only">Commands</Dialog.Title>
      <Finder onClose={onClose} openShortcuts={openShortcuts} />
    </Sheet>
  );
}

function Finder({ onClose, openShortcuts }: Omit<PaletteProps, "open">) {
  const workbench = useWorkbench();
  const [theme, setTheme] = useTheme();
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  const list = useRef<HTMLDivElement>(null);
  const commands = useMemo(
    () => commandsOf(workbench, { theme, setTheme, openShortcuts }),
    [workbench, theme, setTheme, openShortcuts],
  );
  const shown = useMemo(() => found(commands, typed), [commands, typed]);
  const chosen = Math.min(at, shown.length - 1);

  useEffect(() => {
    list.current?.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" });
  });

  const run = (place: number) => {
    onClose();
    // Once the palette has given the focus back, so that what is opened can take it.
    setTimeout(() => {
      const command = shown[place];
      command?.run();
      if (command?.inspects)
        setTimeout(() => document.querySelector<HTMLElement>("[aria-label=Inspector]")?.focus());
    });
  };
  return (
    <>
      <input
        role="combobox"
        aria-label="Find anything"
        aria-expanded="true"
        aria-controls="commands"
        aria-activedescendant={shown[chosen] ? `command-${chosen}` : undefined}
        placeholder="A device, list, flow, place or command"
        className="border-b border-rule bg-transparent px-4 py-2.5 text-head outline-none"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
          setAt(0);
        }}
        onKeyDown={(event) => {
          const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
          if (by) setAt((chosen + by + shown.length) % Math.max(shown.length, 1));
          else if (event.key === "Enter") run(chosen);
          else return;
          event.preventDefault();
        }}
      />
      <div
        ref={list}
        id="commands"
        role="listbox"
        aria-label="Found"
        className="min-h-0 overflow-y-auto py-1"
      >
        {shown.map((command, place) => (
          <div
            tabIndex={-1}
            key={command.key}
            id={`command-${place}`}
            role="option"
            aria-selected={place === chosen}
            onPointerMove={() => setAt(place)}
            onClick={() => run(place)}
            onKeyDown={() => undefined}
            className="flex cursor-default items-baseline gap-3 px-4 py-1 aria-selected:bg-tidewash"
          >
            <span className="min-w-0 truncate">{command.label}</span>
            <span className="quiet ml-auto max-w-[45%] truncate text-fine">{command.detail}</span>
          </div>
        ))}
        {shown.length === 0 && <p className="quiet px-4 py-2">Nothing is called that.</p>}
      </div>
    </>
  );
}
