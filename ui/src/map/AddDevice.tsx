import { useState } from "react";
import { LineField } from "../inspector/Parts";
import { useWorkbench } from "../shell/context";
import { keepPlates } from "../state/edits";
import { freeSpot, type Point, type Scene } from "./geometry";

interface Props {
  scene: Scene;
  /** The middle of the window, in map units. */
  middle: () => Point;
}

/** Adding a device: one line, `router sluice 172.20.32.1/24`. It lies in the middle of what is seen. */
export function AddDevice({ scene, middle }: Props) {
  const { network, go } = useWorkbench();
  const [open, setOpen] = useState(false);
  if (!open) {
    return (
      <button
        type="button"
        className="button absolute top-2 left-2"
        data-key="+"
        title="+"
        onClick={() => setOpen(true)}
      >
        Add a device
      </button>
    );
  }
  return (
    <section
      aria-label="New device"
      className="absolute top-2 left-2 z-10 w-[350px] rounded border border-slate bg-fog px-3 py-2"
    >
      <LineField
        label="New device"
        hint="host kiosk 172.20.16.21/24 gateway 172.20.16.1"
        asked={{ of: "device" }}
        start=""
        path="devices/read"
        about={{}}
        edit="new device"
        also={(reading) => {
          const name = reading.change?.key ?? "";
          return keepPlates(network.draft, scene.plates, { name, at: freeSpot(scene.plates, middle()) });
        }}
        onDone={(name) => {
          setOpen(false);
          if (name) go({ chosen: `device:${name}` });
        }}
      />
    </section>
  );
}
