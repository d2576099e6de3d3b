import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

interface SheetProps {
  open: boolean;
  onClose: () => void;
  className: string;
  /** What takes the focus when it is closed; what had it before, unless given. */
  onClosed?: () => void;
  children: ReactNode;
}

/** A sheet over the window, which holds its own `Dialog.Title`. */
export function Sheet({ open, onClose, className, onClosed, children }: SheetProps) {
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/35" />
        <Dialog.Content
          aria-describedby={undefined}
          onCloseAutoFocus={(event) => {
            if (!onClosed) return;
            event.preventDefault();
            onClosed();
          }}
          className={`fixed left-1/2 z-50 -translate-x-1/2 rounded border border-slate bg-plate ${className}`}
        >
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
