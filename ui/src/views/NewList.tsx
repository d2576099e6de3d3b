import { useState } from "react";
import type { AccessList } from "../api/client";
import { useWorkbench } from "../shell/context";
import { wantCursor } from "../state/cursor";
import { putList } from "../state/edits";

const KINDS = [
  ["ipv4 extended", "IPv4 extended"],
  ["ipv4 standard", "IPv4 standard, source only"],
  ["ipv6 extended", "IPv6 extended"],
] as const;

function freeName(taken: string[]): string {
  let number = taken.length + 1;
  while (taken.includes(`list${number}`)) number += 1;
  return `list${number}`;
}

/** A new list: its name and kind; the entries are written in the editor. */
export function NewList({ onMade }: { onMade: (name: string) => void }) {
  const { network, make, notices } = useWorkbench();
  const [written, setName] = useState("");
  const [kind, setKind] = useState<string>(KINDS[0][0]);
  const submit = async () => {
    const name = written.trim() || freeName(network.draft.lists.map((list) => list.name));
    if (network.draft.lists.some((list) => list.name === name)) {
      notices.fail(new Error(`There is a list named ${name} already: choose another name.`));
      return;
    }
    const [family, listKind] = kind.split(" ") as [AccessList["family"], AccessList["kind"]];
    const list: AccessList = { name, family, kind: listKind, note: "", entries: "" };
    if (await make(putList(list, `new list ${name}`))) {
      setName("");
      wantCursor(`list:${name}`);
      onMade(name);
    }
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
