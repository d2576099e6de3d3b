import type { ReactNode } from "react";
import { keyWords } from "./action";
import { useHere } from "./here";
import { actionOf } from "./registry";

interface Props {
  action: string;
  children: ReactNode;
  className?: string;
  title?: string;
  disabled?: boolean;
  pressed?: boolean;
  label?: string;
}

/** A button for an action; unless it says more, it says the key that does the same. */
export function ActionButton({
  action,
  children,
  title,
  pressed,
  label,
  className = "button",
  ...rest
}: Props) {
  const here = useHere();
  const found = actionOf(action);
  const key = keyWords(found);
  return (
    <button
      type="button"
      className={className}
      title={title ?? (key || undefined)}
      aria-pressed={pressed}
      aria-label={label}
      onClick={() => found.run(here)}
      {...rest}
    >
      {children}
    </button>
  );
}
