import { ActionButton } from "../actions/ActionButton";
import { LineField } from "../editor/LineField";
import { go } from "../state/location";
import { useHandler } from "../workbench/handlers";
import { useOpened } from "../workbench/opened";
import { arranged } from "./arranging";
import { freeSpot, type Scene } from "./geometry";
import type { Point } from "./plane";

interface Props {
  scene: Scene;
  /** The middle of the window, in map units. */
  middle: () => Point;
  /** The line to begin with, while one is being written; null while none is. */
  line: string | null;
  onLine: (line: string | null) => void;
}

/** Adding a device: one line, `router sluice 172.20.32.1/24`. It lies in the middle of what is seen. */
export function AddDevice({ scene, middle, line, onLine }: Props) {
  const { network } = useOpened();
  useHandler("device.add", line === null ? () => onLine("") : null);
  if (line === null) {
    return (
      <ActionButton action="device.add" className="button absolute top-2 left-2">
        Add a device
      </ActionButton>
    );
  }
  return (
    <section
      key={line}
      aria-label="New device"
      className="absolute top-2 left-2 z-10 w-[22rem] max-w-[90%] rounded border border-slate bg-fog px-3 py-2"
    >
      <LineField
        label="New device"
        hint="host kiosk 172.20.16.21/24 gateway 172.20.16.1"
        line={{ of: "device" }}
        start=""
        offered={line}
        edit="new device"
        also={({ key }) =>
          arranged(network.draft, scene, { name: key, at: freeSpot(scene.plates, middle()) })
        }
        onDone={(name) => {
          onLine(null);
          if (name) go({ chosen: `device:${name}` });
        }}
      />
    </section>
  );
}
