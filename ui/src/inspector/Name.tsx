import { type ReactNode, useState } from "react";
import { rename as renaming } from "../api/reading";
import { fail } from "../kit/notices";
import { useOpened } from "../workbench/opened";

interface NameProps {
  collection: "devices" | "lists";
  name: string;
  /** The heading, while it is not being written. */
  children: ReactNode;
  onRenamed: (name: string) => void;
}

/** A heading that can be written anew: everything that speaks of the item then says the other name. */
export function Name({ collection, name, children, onRenamed }: NameProps) {
  const { id, make } = useOpened();
  const [written, setWritten] = useState<string | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const leave = () => {
    setWritten(null);
    setProblem(null);
  };
  const rename = async (other: string) => {
    if (other === name) return leave();
    try {
      const found = await renaming(id, collection, name, other);
      const [wrong] = found.problems;
      if (wrong) setProblem(wrong.message);
      else if (await make({ do: "changes", label: `rename ${name} to ${other}`, made: found.changes })) {
        leave();
        onRenamed(other);
      }
    } catch (error) {
      fail(error);
    }
  };
  if (written === null) {
    return (
      <>
        {children}
        <button
          type="button"
          className="quiet text-fine underline decoration-rule underline-offset-2"
          onClick={() => setWritten(name)}
        >
          rename
        </button>
      </>
    );
  }
  return (
    <form
      className="min-w-0 flex-1"
      onSubmit={(event) => {
        event.preventDefault();
        rename(written.trim());
      }}
    >
      <input
        // biome-ignore lint/a11y/noAutofocus: it appears because it was asked for
        autoFocus
        aria-label={`Another name for ${name}`}
        aria-invalid={problem !== null}
        className="field w-full font-mono"
        value={written}
        onChange={(event) => {
          setWritten(event.target.value);
          setProblem(null);
        }}
        onKeyDown={(event) => {
          if (event.key !== "Escape") return;
          event.stopPropagation();
          leave();
        }}
      />
      {problem && (
        <p role="alert" className="text-fine text-clay">
          {problem}
        </p>
      )}
    </form>
  );
}
