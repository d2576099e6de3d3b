import { useState } from "react";
import type { AccessList } from "../api/client";
import { wantFocus } from "../state/focus";
import { useOpened } from "../workbench/opened";

const KINDS = [
  ["ipv4 extended", "IPv4 extended"],
  ["ipv4 standard", "IPv4 standard, source only"],
  ["ipv6 extended", "IPv6 extended"],
  ["frame", "Frames, for switch ports"],
] as const;

/** A new list: its name and kind; the entries are written in the editor. */
export function NewList({ onMade }: { onMade: (name: string) => void }) {
  const { make } = useOpened();
  const [written, setName] = useState("");
  const [kind, setKind] = useState<string>(KINDS[0][0]);
  const submit = async () => {
    const [family, ofFamily] = kind.split(" ") as [AccessList["family"], AccessList["kind"]?];
    const list = ofFamily ? { family, kind: ofFamily } : { kind: "frame" as const };
    const [made] = (await make({ do: "new-list", name: written.trim(), ...list })) ?? [];
    if (!made) return;
    setName("");
    wantFocus(`list:${made.key}`);
    onMade(made.key);
  };
  return (
    <form
      className="flex flex-wrap gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        submit();
      }}
    >
      <input
        className="field min-w-[6rem] flex-1 basis-full"
        aria-label="Name of a new list"
        placeholder="New list"
        value={written}
        onChange={(event) => setName(event.target.value)}
      />
      <select
        className="field flex-1"
        aria-label="Kind of list"
        value={kind}
        onChange={(event) => setKind(event.target.value)}
      >
        {KINDS.map(([value, label]) => (
          <option key={value} value={value}>
            {label}
          </option>
        ))}
      </select>
      <button type="submit" className="button">
        Make
      </button>
    </form>
  );
}
