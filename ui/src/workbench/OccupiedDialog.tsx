import { AlertDialog } from "radix-ui";
import type { PointReport } from "../api/client";

interface Props {
  point: PointReport;
  other: string;
  list: string;
  onCancel: () => void;
  onReplace: () => void;
}

/** Asked before a list takes the place of another one of its family. */
export function OccupiedDialog({ point, other, list, onCancel, onReplace }: Props) {
  return (
    <AlertDialog.Root open onOpenChange={(open) => !open && onCancel()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-black/35" />
        <AlertDialog.Content className="fixed top-1/3 left-1/2 z-50 w-[420px] -translate-x-1/2 rounded border border-slate bg-plate p-5">
          <AlertDialog.Title className="mb-2 text-head font-semibold">
            {other} stands there already
          </AlertDialog.Title>
          <AlertDialog.Description className="mb-4">
            One list of a family can be placed {point.words}. Replacing takes {other} off that place; the list
            itself is kept.
          </AlertDialog.Description>
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel className="button">Cancel</AlertDialog.Cancel>
            <AlertDialog.Action className="button button-strong" onClick={onReplace}>
              Replace by {list}
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
