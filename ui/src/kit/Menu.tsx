import { DropdownMenu } from "radix-ui";
import { type ReactNode, useRef } from "react";

interface MenuProps {
  /** What opens it. */
  children: ReactNode;
  className: string;
  label?: string;
  items: [label: string, act: () => void][];
}

/** A few things to do, behind a button. */
export function Menu({ children, className, label, items }: MenuProps) {
  const trigger = useRef<HTMLButtonElement>(null);
  const chosen = useRef<(() => void) | null>(null);
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger ref={trigger} className={className} aria-label={label}>
        {children}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={5}
          onCloseAutoFocus={(event) => {
            // First the focus goes back, then it is done: what that opens may take the focus.
            if (!chosen.current) return;
            event.preventDefault();
            trigger.current?.focus();
            chosen.current();
            chosen.current = null;
          }}
          className="z-40 rounded border border-slate bg-plate py-1"
        >
          {items.map(([name, act]) => (
            <DropdownMenu.Item
              key={name}
              onSelect={() => {
                chosen.current = act;
              }}
              className="cursor-default px-3 py-1 outline-none data-[highlighted]:bg-tidewash"
            >
              {name}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
