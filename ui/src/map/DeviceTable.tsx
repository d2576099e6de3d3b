import { Dialog } from "radix-ui";
import { useState } from "react";
import { useDeviceTable } from "../api/reading";
import { Failed } from "../kit/Failed";
import { Sheet } from "../kit/Sheet";
import { useSettled } from "../state/useSettled";
import { useOpened } from "../workbench/opened";

const EXAMPLE = `device   interface   address   neighbour
reed     eth0   172.21.1.1/24   floor
reed     eth1   172.21.9.1/30   sedge
sedge    eth0   172.21.9.2/30   reed
desk     eth0   172.21.1.10/24  floor`;

/** How long nobody has typed before a table is read, in milliseconds. */
const SETTLED = 300;

/** Devices and links from a table, as somebody has it in a spreadsheet or in a mail. */
export function DeviceTable({ start, onDone }: { start: string; onDone: () => void }) {
  const { id, network, make } = useOpened();
  const [text, setText] = useState(start);
  const settled = useSettled(text, SETTLED);
  const reading = useDeviceTable(id, network.version, settled);
  const read = text.trim() && settled === text && !reading.isPlaceholderData ? reading.data : undefined;
  const changes = read?.changes ?? [];
  const devices = changes.filter(({ collection }) => collection === "devices");
  const links = changes.filter(({ collection }) => collection === "links");
  const known = new Set(network.draft.devices.map(({ name }) => name));
  const bring = async () => {
    if (!changes.length) return;
    if (await make({ do: "changes", label: `${devices.length} devices from a table`, made: changes }))
      onDone();
  };
  return (
    <Sheet open onClose={onDone} className="top-16 w-[720px] max-w-[94vw] px-5 py-4">
      <Dialog.Title className="text-head font-semibold">Devices from a table</Dialog.Title>
      <p className="quiet mb-2">
        A line for each interface: device, interface, address, neighbour. A first line may name the columns,
        in any order, including kind. What is missing is worked out.
      </p>
      <textarea
        // biome-ignore lint/a11y/noAutofocus: it appears because it was asked for
        autoFocus
        aria-label="Table of devices"
        rows={12}
        spellCheck={false}
        placeholder={EXAMPLE}
        className="field h-auto w-full resize-y font-mono text-code whitespace-pre"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => {
          if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) bring();
        }}
      />
      <Failed of={reading} className="mt-1" />
      <ul className="max-h-[140px] overflow-y-auto">
        {read?.problems.map((problem) => (
          <li key={`${problem.line}${problem.message}`} role="alert" className="text-clay">
            {problem.line ? `Line ${problem.line}: ` : problem.where === "text" ? "" : `${problem.where}: `}
            {problem.message}
          </li>
        ))}
      </ul>
      <p className="quiet mt-1" aria-live="polite">
        {changes.length > 0 &&
          `${devices.map(({ key, item }) => `${item?.kind ?? ""} ${key}${known.has(key) ? " (there already)" : ""}`).join(", ")}; ${links.length} ${links.length === 1 ? "link" : "links"}`}
      </p>
      <div className="mt-3 flex gap-2">
        <button type="button" className="button button-strong" disabled={!changes.length} onClick={bring}>
          Add them to the draft
        </button>
        <button type="button" className="button" onClick={onDone}>
          Cancel
        </button>
      </div>
    </Sheet>
  );
}
