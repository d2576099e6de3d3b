import { useState } from "react";
import { Menu } from "../kit/Menu";
import type { Wording } from "./wording";

const CHOICES: [Wording, string][] = [
  ["names", "Names"],
  ["addresses", "Addresses"],
  ["both", "Names and addresses"],
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

/** The switch for it, beside the map's other buttons. */
export function WordingMenu({ wording, onChange }: { wording: Wording; onChange: (to: Wording) => void }) {
  const now = CHOICES.find(([value]) => value === wording)?.[1] ?? "";
  return (
    <Menu
      className="button"
      label={`Interfaces show: ${now.toLowerCase()}`}
      items={CHOICES.map(([value, words]) => [words, () => onChange(value)])}
    >
      {now} ▾
    </Menu>
  );
}
