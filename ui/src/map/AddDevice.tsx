import { LineField } from "../inspector/Parts";
import { useWorkbench } from "../shell/context";
import { keepPlates } from "../state/edits";
import { asPut, freeSpot, type Point, type Scene } from "./geometry";

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
  const { network, go } = useWorkbench();
  if (line === null) {
    return (
      <button
        type="button"
        className="button absolute top-2 left-2"
        data-key="+"
        title="+"
        onClick={() => onLine("")}
      >
        Add a device
      </button>
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
        asked={{ of: "device" }}
        start=""
        offered={line}
        path="devices/read"
        about={{}}
        edit="new device"
        also={(reading) => {
          const name = reading.change?.key ?? "";
          const plates = scene.plates.map((plate) => ({ ...plate, centre: asPut(scene, plate.centre) }));
          const at = asPut(scene, freeSpot(scene.plates, middle()));
          return keepPlates(network.draft, plates, { name, at });
        }}
        onDone={(name) => {
          onLine(null);
          if (name) go({ chosen: `device:${name}` });
        }}
      />
    </section>
  );
}
