import { Dialog } from "radix-ui";
import { Sheet } from "./Sheet";
import { SHORTCUTS } from "./useShortcuts";

export function ShortcutsDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Sheet open={open} onClose={onClose} className="top-[15%] w-[560px] p-6">
      <Dialog.Title className="mb-4 text-head font-semibold">Shortcuts</Dialog.Title>
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
    </Sheet>
  );
}
