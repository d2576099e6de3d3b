import { ActionButton } from "../actions/ActionButton";
import { Menu } from "../kit/Menu";
import { AddDevice } from "./AddDevice";
import { type useWording, WordingMenu } from "./WordingMenu";

type Pictures = { svg: () => void; png: () => void };

interface Props {
  /** The line of a device that is being added, and the words of the map. */
  adding: string | null;
  onAdding: (line: string | null) => void;
  wording: ReturnType<typeof useWording>;
  /** Whether only the way of what is looked at is drawn; null where there is none. */
  way: boolean | null;
  onWay: () => void;
  focused: boolean;
  chosen: string | null;
  onZoom: (factor: number) => void;
  save: Pictures;
}

/** The buttons of the map. */
export function MapBar({ adding, onAdding, wording, way, onWay, focused, chosen, onZoom, save }: Props) {
  const [said, setSaid] = wording;
  return (
    <div className="pointer-events-none absolute inset-x-2 top-2 flex flex-wrap gap-1 *:pointer-events-auto">
      <AddDevice line={adding} onLine={onAdding} />
      <WordingMenu wording={said} onChange={setSaid} />
      <span className="grow" />
      {way !== null && (
        <button
          type="button"
          className="button aria-pressed:border-ink aria-pressed:font-semibold"
          aria-pressed={way}
          title="Only the devices on its path, in order"
          onClick={onWay}
        >
          Its path only
        </button>
      )}
      <button type="button" className="button" aria-label="Zoom in" onClick={() => onZoom(1.3)}>
        +
      </button>
      <button type="button" className="button" aria-label="Zoom out" onClick={() => onZoom(1 / 1.3)}>
        −
      </button>
      <ActionButton
        action="map.neighbours"
        className="button aria-pressed:border-ink aria-pressed:font-semibold"
        pressed={focused}
        title="Only the device that is chosen and its neighbours (n)"
      >
        Neighbours
      </ActionButton>
      <ActionButton
        action="map.layout"
        title={chosen ? `Lay out ${chosen} and its neighbours anew (F)` : "Lay out all devices anew (F)"}
      >
        Lay out
      </ActionButton>
      <ActionButton action="map.fit">Fit</ActionButton>
      <Menu
        className="button"
        items={[
          ["Save as SVG", save.svg],
          ["Save as PNG", save.png],
        ]}
      >
        Picture ▾
      </Menu>
    </div>
  );
}
