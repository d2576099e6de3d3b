import { useState } from "react";
import { ActionButton } from "../actions/ActionButton";
import type { Intent } from "../api/client";
import { LineField } from "../editor/LineField";
import { DEVICE_LIKE } from "../state/examples";
import { go } from "../state/location";
import { useHandler } from "../workbench/handlers";
import { DeviceTable } from "./DeviceTable";

interface Props {
  /** The line to begin with, while one is being written; null while none is. */
  line: string | null;
  onLine: (line: string | null) => void;
}

/** Adding a device: one line, `router sluice 172.20.32.1/24`. The map finds room for it. */
export function AddDevice({ line, onLine }: Props) {
  const [table, setTable] = useState<string | null>(null);
  useHandler("device.add", line === null ? () => onLine("") : null);
  if (table !== null) {
    const leave = () => {
      setTable(null);
      onLine(null);
    };
    return <DeviceTable start={table} onDone={leave} />;
  }
  if (line === null) {
    return <ActionButton action="device.add">Add a device</ActionButton>;
  }
  return (
    <section
      key={line}
      aria-label="New device"
      onPasteCapture={(event) => {
        const text = event.clipboardData.getData("text");
        if (!text.trim().includes("\n")) return;
        event.preventDefault();
        setTable(text);
      }}
      className="absolute top-2 left-2 z-10 w-[22rem] max-w-[90%] rounded border border-slate bg-fog px-3 py-2"
    >
      <button type="button" className="quiet text-fine underline" onClick={() => setTable("")}>
        Several at once: paste a table…
      </button>
      <LineField
        label="New device"
        hint={DEVICE_LIKE}
        line={{ of: "device" }}
        start=""
        offered={line}
        edit="new device"
        also={({ change, to }) =>
          (to ?? []).map((other): Intent => ({ do: "link", one: change?.key ?? "", other }))
        }
        onDone={(name) => {
          onLine(null);
          if (name) go({ chosen: `device:${name}` });
        }}
      />
    </section>
  );
}
