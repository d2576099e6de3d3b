import { Dialog } from "radix-ui";
import { SHORTCUTS } from "./useShortcuts";

export function ShortcutsDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/35" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[15%] left-1/2 z-50 w-[560px] -translate-x-1/2 rounded border border-slate bg-plate p-6"
        >
          <Dialog.Title className="mb-4 text-[15px] font-semibold">Shortcuts</Dialog.Title>
          <dl className="grid grid-cols-[160px_1fr] gap-y-2">
            {SHORTCUTS.map(([keys, does]) => (
              <div key={keys} className="contents">
                <dt className="font-mono text-fine">{keys}</dt>
                <dd>{does}</dd>
              </div>
            ))}
          </dl>
          <div className="mt-5 text-right">
            <Dialog.Close className="button">Close</Dialog.Close>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
