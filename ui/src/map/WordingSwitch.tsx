import { ToggleGroup } from "radix-ui";
import { useState } from "react";
import type { Wording } from "./wording";

const CHOICES: [Wording, string][] = [
  ["names", "Names"],
  ["addresses", "Addresses"],
  ["both", "Both"],
];
const KEPT = "grey-heron:wording";

/** What interfaces, hosts and links say of themselves on the map, as this browser remembers it. */
export function useWording(): [Wording, (wording: Wording) => void] {
  const [wording, setWording] = useState<Wording>(() => {
    const kept = localStorage.getItem(KEPT);
    return CHOICES.find(([each]) => each === kept)?.[0] ?? "names";
  });
  return [
    wording,
    (next) => {
      localStorage.setItem(KEPT, next);
      setWording(next);
    },
  ];
}

/** The switch for it, in a corner of the map. */
export function WordingSwitch({ wording, onChange }: { wording: Wording; onChange: (to: Wording) => void }) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label="Interfaces say"
      value={wording}
      onValueChange={(next) => next && onChange(next as Wording)}
      className="flex"
    >
      {CHOICES.map(([value, words]) => (
        <ToggleGroup.Item
          key={value}
          value={value}
          className="button -ml-px rounded-none first:ml-0 first:rounded-l last:rounded-r data-[state=on]:border-ink data-[state=on]:font-semibold"
        >
          {words}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}
