import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type DragEvent, useCallback, useEffect, useRef, useState } from "react";
import { makeBrought, mergeInto, offerOf, pasted, type useBringing } from "../api/bringing";
import { ApiError, type OpenNetwork } from "../api/client";
import { Failed } from "../kit/Failed";
import { Sheet } from "../kit/Sheet";
import { Stage } from "../kit/Stage";
import { keyOf, Merge } from "./Merge";
import { Preview } from "./Preview";

interface BringInProps {
  open: boolean;
  onClose: () => void;
  bringing: ReturnType<typeof useBringing>;
  /** The draft that it can be merged into, where one is open. */
  into?: { id: string; version: number; name: string; onMerged: (network: OpenNetwork) => void };
  onMade: (id: string) => void;
}

/** What exists is brought in: recognised, looked at, and only then made, or merged into the open draft. */
export function BringIn({ open, onClose, bringing, into, onMade }: BringInProps) {
  const { brought, reading, done, error } = bringing;
  const [merging, setMerging] = useState(into !== undefined);
  const [name, setName] = useState("");
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [busy, setBusy] = useState(false);
  const choose = useCallback((next: ReadonlySet<string>) => setChosen(next), []);
  const offer = useQuery({
    queryKey: ["offer", into?.id, into?.version, brought?.id],
    queryFn: () => offerOf(into?.id ?? "", brought?.id ?? ""),
    enabled: merging && into !== undefined && brought !== null,
  });
  useEffect(() => {
    setName(brought?.report.name ?? "");
  }, [brought]);
  const close = () => {
    bringing.leave();
    onClose();
  };
  const attempt = async (work: () => Promise<void>) => {
    bringing.setError(null);
    setBusy(true);
    try {
      await work();
      close();
    } catch (failed) {
      bringing.setError(failed as Error);
    } finally {
      setBusy(false);
    }
  };
  const make = () =>
    attempt(async () => {
      if (brought) onMade((await makeBrought(brought.id, name.trim() || brought.report.name)).id);
    });
  const merge = () =>
    attempt(async () => {
      if (!brought || !into) return;
      const items = offer.data?.items.filter((item) => chosen.has(keyOf(item))) ?? [];
      into.onMerged(await mergeInto(into.id, into.version, brought.id, items));
    });
  return (
    <Sheet
      open={open}
      onClose={close}
      className={`top-[5%] flex w-[66rem] max-w-[96vw] flex-col p-5 ${brought ? "h-[90vh]" : ""}`}
    >
      <Dialog.Title className="mb-2 text-head font-semibold">Bring in</Dialog.Title>
      {!brought && !reading && <Ways onFiles={bringing.begin} />}
      {reading && (
        <div className="flex items-end gap-4">
          <Stage words={`Reading ${reading}`} done={done} />
          <button type="button" className="button" onClick={bringing.leave}>
            Cancel
          </button>
        </div>
      )}
      {brought && into && (
        <fieldset className="mb-2 flex gap-4">
          <legend className="sr-only">What to do with it</legend>
          {([true, false] as const).map((merged) => (
            <label key={String(merged)} className="flex items-center gap-1.5">
              <input type="radio" checked={merging === merged} onChange={() => setMerging(merged)} />
              {merged ? `merge into the draft of ${into.name}` : "make a network of its own"}
            </label>
          ))}
        </fieldset>
      )}
      {brought && (
        <div className="grid min-h-0 flex-1">
          {merging && into ? (
            offer.data ? (
              <Merge items={offer.data.items} same={offer.data.same} chosen={chosen} onChoose={choose} />
            ) : (
              <Failed of={offer} className="" />
            )
          ) : (
            <Preview of={brought.report} />
          )}
        </div>
      )}
      {error && <Problems error={error} />}
      <div className="mt-3 flex items-center justify-end gap-2">
        {brought && !merging && (
          <label className="mr-auto flex items-center gap-2">
            Name
            <input
              className="field w-[18rem]"
              value={name}
              maxLength={80}
              onChange={(event) => setName(event.target.value)}
            />
          </label>
        )}
        <Dialog.Close className="button">{brought ? "Leave it" : "Close"}</Dialog.Close>
        {brought && !merging && (
          <button type="button" className="button button-strong" disabled={busy} onClick={make}>
            Make this network
          </button>
        )}
        {brought && merging && (
          <button
            type="button"
            className="button button-strong"
            disabled={busy || chosen.size === 0}
            onClick={merge}
          >
            Merge {chosen.size} into the draft
          </button>
        )}
      </div>
    </Sheet>
  );
}

/** Files are dropped, chosen or pasted. */
function Ways({ onFiles }: { onFiles: (files: readonly File[]) => void }) {
  const field = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  useEffect(() => {
    const paste = (event: ClipboardEvent) => {
      const files = pasted(event.clipboardData);
      if (files.length > 0) onFiles(files);
    };
    window.addEventListener("paste", paste);
    return () => window.removeEventListener("paste", paste);
  }, [onFiles]);
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    onFiles([...event.dataTransfer.files]);
  };
  return (
    <section
      aria-label="Files to bring in"
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
      className={`border border-dashed border-slate p-6 ${over ? "bg-tidewash" : "bg-fog"}`}
    >
      <p className="mb-3">
        Drop files here, paste them, or{" "}
        <button type="button" className="button mx-1" onClick={() => field.current?.click()}>
          Choose files…
        </button>
      </p>
      <p className="quiet">
        A workspace file; YANG instance data; or machines as they are, one file each from the script that{" "}
        <code className="font-mono">grey-heron collect</code> prints: all at once, or in a zip or tar archive.
        Nothing is made before you have looked at it.
      </p>
      <input
        ref={field}
        type="file"
        multiple
        aria-label="Files to bring in"
        className="hidden"
        onChange={(event) => {
          onFiles([...(event.target.files ?? [])]);
          event.target.value = "";
        }}
      />
    </section>
  );
}

function Problems({ error }: { error: Error }) {
  const problems = error instanceof ApiError && error.problems.length > 1 ? error.problems : [];
  return (
    <div role="alert" className="mt-3 max-h-40 overflow-y-auto border-l-2 border-clay pl-3">
      <p>{error.message}</p>
      <ul className="quiet mt-1">
        {problems.map((problem, index) => (
          <li key={index}>
            {problem.where}
            {problem.line ? `, line ${problem.line}` : ""}: {problem.message}
          </li>
        ))}
      </ul>
    </div>
  );
}
