import { useRef } from "react";
import { useWorkbench } from "../shell/context";
import { movePlate } from "../state/edits";
import {
  LINE_HEIGHT,
  type LineTab,
  type Plate,
  type Point,
  type Scene,
  TAB_HEIGHT,
  type Tab,
} from "./geometry";
import { PlateShape } from "./PlateShape";

interface Props {
  scene: Scene;
  scale: number;
  marked: string | null;
  onDrag: (drag: { device: string; at: Point } | null) => void;
}

/** Devices: flat plates that differ by silhouette and by a word, with a tab for every interface in use. */
export function Plates({ scene, scale, marked, onDrag }: Props) {
  return (
    <g>
      {scene.plates.map((plate) => (
        <PlateView
          key={plate.device.name}
          plate={plate}
          scene={scene}
          scale={scale}
          marked={marked}
          onDrag={onDrag}
        />
      ))}
    </g>
  );
}

function PlateView({ plate, scene, scale, marked, onDrag }: Props & { plate: Plate }) {
  const { go, place, make, network, carried } = useWorkbench();
  const { device, centre } = plate;
  const chosen = place.chosen === `device:${device.name}`;
  const moved = useRef<Point | null>(null);
  const choose = () => go({ chosen: `device:${device.name}` });

  const settle = async (to: Point) => {
    await make(movePlate(device.name, to.x, to.y));
    onDrag(null);
  };
  const onPointerDown = (down: React.PointerEvent) => {
    if (down.button !== 0 || carried) return;
    const start = { x: down.clientX, y: down.clientY };
    const onMove = (move: PointerEvent) => {
      const shift = { x: (move.clientX - start.x) / scale, y: (move.clientY - start.y) / scale };
      if (!moved.current && Math.hypot(shift.x, shift.y) * scale < 4) return;
      moved.current = { x: centre.x + shift.x, y: centre.y + shift.y };
      onDrag({ device: device.name, at: moved.current });
    };
    const onUp = () => {
      window.removeEventListener("pointermove", onMove);
      window.removeEventListener("pointerup", onUp);
      if (moved.current) settle(moved.current);
      else choose();
      moved.current = null;
    };
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", onUp);
  };
  const onKeyDown = (event: React.KeyboardEvent) => {
    const by = { ArrowLeft: [-10, 0], ArrowRight: [10, 0], ArrowUp: [0, -10], ArrowDown: [0, 10] }[event.key];
    if (event.altKey && by) {
      event.preventDefault();
      settle({ x: centre.x + (by[0] ?? 0), y: centre.y + (by[1] ?? 0) });
    } else if ((event.key === "Enter" || event.key === " ") && !carried) {
      event.preventDefault();
      choose();
    }
  };

  const isBar = device.kind === "switch";
  const outline = chosen ? "stroke-ink [stroke-width:2.2]" : "stroke-slate [stroke-width:1.2]";
  const fill = isBar ? "fill-slate" : marked === device.name ? "fill-tidewash" : "fill-plate";
  const lines = scene.lines.filter((line) => line.device === device.name);
  const top = centre.y - plate.height / 2;
  return (
    <g>
      <PlateShape
        plate={plate}
        role="button"
        tabIndex={0}
        data-plate={device.name}
        aria-pressed={chosen}
        aria-label={described(plate, network.draft.placements)}
        className={`${fill} ${outline} cursor-pointer focus-visible:stroke-tide focus-visible:[stroke-width:3]`}
        onPointerDown={onPointerDown}
        onKeyDown={onKeyDown}
      />
      <g pointerEvents="none">
        {isBar ? (
          <text x={centre.x - plate.width / 2} y={top - 6} className="halo fill-slate text-[11px]">
            {device.name} <tspan className="font-mono">{scene.labels.get(device.name)}</tspan>
          </text>
        ) : (
          <>
            <text
              x={centre.x}
              y={device.kind === "host" ? centre.y + 4.5 : top + 20}
              textAnchor="middle"
              className="fill-ink text-[13px] font-semibold"
            >
              {device.name}
            </text>
            {device.kind !== "host" && (
              <text x={centre.x} y={top + 34} textAnchor="middle" className="fill-slate text-[11px]">
                {device.kind}
              </text>
            )}
          </>
        )}
        {[...scene.tabs.values()]
          .filter((tab) => tab.device === device.name && !tab.hidden)
          .map((tab) => (
            <TabView key={tab.name} tab={tab} />
          ))}
      </g>
      {lines.map((line) => (
        <LineView key={line.name} line={line} />
      ))}
    </g>
  );
}

function TabView({ tab }: { tab: Tab }) {
  return (
    <g>
      <rect
        x={tab.centre.x - tab.width / 2}
        y={tab.centre.y - TAB_HEIGHT / 2}
        width={tab.width}
        height={TAB_HEIGHT}
        className="fill-sunk stroke-slate"
        strokeDasharray={tab.enabled ? undefined : "2 2"}
      />
      <text
        x={tab.centre.x}
        y={tab.centre.y + 4}
        textAnchor="middle"
        className="fill-ink font-mono text-[11px]"
      >
        {tab.name}
      </text>
    </g>
  );
}

function LineView({ line }: { line: LineTab }) {
  const { go } = useWorkbench();
  const top = line.centre.y - LINE_HEIGHT / 2;
  const choose = (event: React.PointerEvent) => {
    event.stopPropagation();
    go({ chosen: `point:${line.device}:${line.name}:in` });
  };
  return (
    <g data-tag onPointerDown={choose}>
      <rect
        x={line.centre.x - line.width / 2}
        y={top}
        width={line.width}
        height={LINE_HEIGHT}
        className="fill-ink"
      />
      <text
        x={line.centre.x}
        y={line.centre.y + 3.8}
        textAnchor="middle"
        className="fill-fog font-mono text-[10.5px]"
      >
        {line.name}
      </text>
      {line.lists.map((list) => (
        <g key={list.name}>
          <rect
            x={list.x}
            y={top}
            width={list.width}
            height={LINE_HEIGHT}
            className="fill-plate stroke-ink"
          />
          <text
            x={list.x + list.width / 2}
            y={line.centre.y + 3.8}
            textAnchor="middle"
            className="fill-ink font-mono text-[10.5px]"
          >
            {list.name}
          </text>
        </g>
      ))}
    </g>
  );
}

function described(
  plate: Plate,
  placements: { device: string; list: string; at: string; direction: string }[],
): string {
  const { device } = plate;
  const placed = placements
    .filter((each) => each.device === device.name)
    .map((each) => `${each.list} placed ${each.direction === "in" ? "inbound" : "outbound"} at ${each.at}`);
  const interfaces =
    device.interfaces.length === 1 ? "1 interface" : `${device.interfaces.length} interfaces`;
  return [`${device.name}, ${device.kind}`, interfaces, ...placed].join(", ");
}
