import { Dialog } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { useHere } from "../actions/here";
import { matching, targetsOf } from "../actions/targets";
import { Sheet } from "../kit/Sheet";
import { giveFocus, wantFocus } from "../state/focus";

interface PaletteProps {
  open: boolean;
  onClose: () => void;
}

/** One field for everything: type a few letters of a device, list, flow, place or action, then Enter. */
export function Palette({ open, onClose }: PaletteProps) {
  return (
    <Sheet
      open={open}
      onClose={onClose}
      onClosed={() => giveFocus("map")}
      className="top-[12%] flex max-h-[66vh] w-[37.5rem] max-w-[94vw] flex-col"
    >
      <Dialog.Title className="sr-only">Find anything</Dialog.Title>
      <Finder onClose={onClose} />
    </Sheet>
  );
}

function Finder({ onClose }: Omit<PaletteProps, "open">) {
  const here = useHere();
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  const list = useRef<HTMLDivElement>(null);
  const targets = useMemo(() => targetsOf(here), [here]);
  const shown = useMemo(() => matching(targets, typed), [targets, typed]);
  const chosen = Math.min(at, shown.length - 1);

  useEffect(() => {
    list.current?.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" });
  });

  const run = (place: number) => {
    onClose();
    // Once the palette has given the focus back, so that what is opened can take it.
    setTimeout(() => {
      const target = shown[place];
      target?.run();
      if (target?.inspects) setTimeout(() => wantFocus("inspector"));
    });
  };
  return (
    <>
      <input
        role="combobox"
        aria-label="Find anything"
        aria-expanded="true"
        aria-controls="targets"
        aria-activedescendant={shown[chosen] ? `target-${chosen}` : undefined}
        placeholder="A device, list, flow, place or action"
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
      <div ref={list} id="targets" role="listbox" aria-label="Found" className="min-h-0 overflow-y-auto py-1">
        {shown.map((target, place) => (
          <div
            tabIndex={-1}
            key={target.key}
            id={`target-${place}`}
            role="option"
            aria-selected={place === chosen}
            onPointerMove={() => setAt(place)}
            onClick={() => run(place)}
            onKeyDown={() => undefined}
            className="flex cursor-default items-baseline gap-3 px-4 py-1 aria-selected:bg-tidewash"
          >
            <span className="min-w-0 truncate">{target.label}</span>
            <span className="quiet ml-auto max-w-[45%] truncate text-fine">{target.detail}</span>
          </div>
        ))}
        {shown.length === 0 && <p className="quiet px-4 py-2">Nothing has that name.</p>}
      </div>
    </>
  );
}
