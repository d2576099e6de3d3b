import { memo, type RefObject, useCallback, useEffect, useMemo, useRef } from "react";
import { rem } from "../kit/Split";
import { chosenOf, go, useLocation } from "../state/location";
import { pointKey } from "../state/points";
import { useCarrying } from "../workbench/carrying";
import { useOpened } from "../workbench/opened";
import { arranged } from "./arranging";
import { reaches, type Scene } from "./geometry";
import { LinkHandle } from "./LinkHandle";
import { PlateShape } from "./PlateShape";
import type { Point } from "./plane";
import { LINE_HEIGHT, type LineTab, type PutPlate } from "./plates";
import type { Tab } from "./ports";
import type { Level, Viewed } from "./useViewport";
import { namesWithRoom } from "./wording";

interface Props {
  scene: Scene;
  view: Viewed;
  scale: RefObject<number>;
  marked: string | null;
  /** Devices to look at; the others recede. */
  focus: ReadonlySet<string> | null;
  /** Whether plates stay where they are drawn: a drawing of its own is no map to arrange. */
  fixed: boolean;
  onDrag: (drag: { device: string; at: Point } | null) => void;
  /** The interface, `device:interface`, that is pointed at or has the focus. */
  onPoint: (end: string | null) => void;
}

/** Devices: flat plates that differ by silhouette and by a word, with a tab for every interface in use. */
export function Plates({ scene, view, scale, marked, focus, fixed, onDrag, onPoint }: Props) {
  const { make, network } = useOpened();
  const { carried } = useCarrying();
  const location = useLocation();
  const carrying = carried !== null;
  const placed = useMemo(() => {
    const found = new Map<string, string[]>();
    for (const { device, list, at, direction } of network.draft.placements) {
      const words = `${list} placed ${direction === "in" ? "inbound" : "outbound"} at ${at}`;
      found.set(device, [...(found.get(device) ?? []), words]);
    }
    return found;
  }, [network.draft.placements]);
  // What a plate does stays the same function, so that a plate is drawn anew only when it looks otherwise.
  const latest = useRef({ make, onDrag, network, scene });
  useEffect(() => {
    latest.current = { make, onDrag, network, scene };
  });
  const choose = useCallback((device: string) => go({ chosen: `device:${device}` }), []);
  const chooseLine = useCallback(
    (line: LineTab) =>
      go({
        chosen: `point:${pointKey({ device: line.device, at: line.name, direction: "in" })}`,
      }),
    [],
  );
  const settle = useCallback(async (device: string, to: Point) => {
    const { make, network, scene, onDrag } = latest.current;
    await make(arranged(network.draft, scene, { name: device, at: to }));
    onDrag(null);
  }, []);
  const drag = useCallback((device: string, at: Point) => latest.current.onDrag({ device, at }), []);
  const chosen = chosenOf(location, "device");
  const named = useMemo(
    () =>
      view.level === "middle"
        ? namesWithRoom(scene.plates, scene.links, view.unit * rem())
        : new Set<string>(),
    [scene, view.level, view.unit],
  );
  const grip = view.level !== "far" && !carrying && scene.plates.find(({ device }) => device.name === chosen);
  return (
    <g>
      {scene.plates
        .filter((plate) => reaches(plate, view.box))
        .map((plate) => (
          <PlateView
            key={plate.device.name}
            plate={view.level === "far" ? enlarged(plate, view.unit) : plate}
            tabs={view.level === "near" ? scene.tabsOf.get(plate.device.name) : undefined}
            lines={view.level === "near" ? scene.linesOf.get(plate.device.name) : undefined}
            label={scene.labels.get(plate.device.name)}
            placed={placed.get(plate.device.name)}
            level={view.level}
            scale={scale}
            chosen={chosen === plate.device.name}
            marked={marked === plate.device.name}
            receding={focus !== null && !focus.has(plate.device.name)}
            named={view.level === "near" || named.has(plate.device.name)}
            unit={view.level === "near" ? 1 : view.unit}
            fixed={fixed}
            carrying={carrying}
            onChoose={choose}
            onChooseLine={chooseLine}
            onSettle={settle}
            onDrag={drag}
            onPoint={onPoint}
          />
        ))}
      {grip && <LinkHandle key={grip.device.name} plate={grip} scale={scale} />}
    </g>
  );
}

interface PlateProps {
  plate: PutPlate;
  tabs: Tab[] | undefined;
  lines: LineTab[] | undefined;
  label: string | undefined;
  placed: string[] | undefined;
  level: Level;
  scale: RefObject<number>;
  chosen: boolean;
  marked: boolean;
  receding: boolean;
  /** Whether there is room for its name. */
  named: boolean;
  /** Map units to a pixel where names are drawn larger than the rest. */
  unit: number;
  fixed: boolean;
  carrying: boolean;
  onChoose: (device: string) => void;
  onChooseLine: (line: LineTab) => void;
  onSettle: (device: string, to: Point) => void;
  onDrag: (device: string, at: Point) => void;
  onPoint: (end: string | null) => void;
}

/** How a plate is chosen, and moved by hand or by keys. */
function useMoving(props: PlateProps) {
  const { plate, scale, carrying } = props;
  const { device } = plate;
  const moved = useRef<Point | null>(null);

  const onPointerDown = (down: React.PointerEvent) => {
    if (down.button !== 0 || carrying) return;
    const start = { x: down.clientX, y: down.clientY };
    const onMove = (move: PointerEvent) => {
      const far = Math.hypot(move.clientX - start.x, move.clientY - start.y);
      if (props.fixed || (!moved.current && far < 4)) return;
      const by = scale.current;
      moved.current = {
        x: plate.put.x + (move.clientX - start.x) / by,
        y: plate.put.y + (move.clientY - start.y) / by,
      };
      props.onDrag(device.name, moved.current);
    };
    const onUp = () => {
      window.removeEventListener("pointermove", onMove);
      window.removeEventListener("pointerup", onUp);
      if (moved.current) props.onSettle(device.name, moved.current);
      else props.onChoose(device.name);
      moved.current = null;
    };
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", onUp);
  };
  const onKeyDown = (event: React.KeyboardEvent) => {
    const by = { ArrowLeft: [-10, 0], ArrowRight: [10, 0], ArrowUp: [0, -10], ArrowDown: [0, 10] }[event.key];
    if (event.altKey && by && !props.fixed) {
      event.preventDefault();
      props.onSettle(device.name, { x: plate.put.x + (by[0] ?? 0), y: plate.put.y + (by[1] ?? 0) });
    } else if ((event.key === "Enter" || event.key === " ") && !carrying) {
      event.preventDefault();
      props.onChoose(device.name);
    }
  };
  return { onPointerDown, onKeyDown };
}

/** The name of a device, and below it what it is or its address. */
function PlateWords({ plate, label, level, named, unit }: PlateProps) {
  const { device, centre } = plate;
  const top = centre.y - plate.height / 2;
  return (
    <g pointerEvents="none">
      {plate.device.kind === "switch" ? (
        named && (
          <text
            x={centre.x}
            y={centre.y + 4.2}
            textAnchor="middle"
            fontSize={level === "middle" ? 11 * unit * rem() : 12}
            className="fill-fog"
          >
            {device.name} {level === "near" && <tspan className="font-mono">{label}</tspan>}
          </text>
        )
      ) : (
        <>
          {named && (
            <text
              x={centre.x}
              y={nameLine(plate, level, label)}
              textAnchor="middle"
              fontSize={level === "middle" ? 11.5 * unit * rem() : 14}
              className={`fill-ink font-semibold ${level === "middle" ? "halo" : ""}`}
            >
              {device.name}
            </text>
          )}
          {level === "near" && (device.kind !== "host" || label) && (
            <text
              x={centre.x}
              y={top + (device.kind === "host" ? 35 : 34)}
              textAnchor="middle"
              className={`fill-slate text-[12px] ${device.kind === "host" ? "font-mono" : ""}`}
            >
              {device.kind === "host" ? label : device.kind}
            </text>
          )}
        </>
      )}
    </g>
  );
}

const PlateView = memo(function PlateView(props: PlateProps) {
  const { plate, tabs, lines, level, chosen, marked, receding } = props;
  const { device } = plate;
  const { onPointerDown, onKeyDown } = useMoving(props);
  // An only interface is drawn as no tab: its device says it.
  const only = device.interfaces.length === 1 ? `${device.name}:${device.interfaces[0]?.name}` : null;
  const isBar = device.kind === "switch";
  const outline = chosen ? "stroke-ink [stroke-width:2.2]" : "stroke-slate [stroke-width:1.2]";
  const far = level === "far";
  const fill = isBar ? "fill-slate" : marked ? "fill-tidewash" : far ? "fill-lane" : "fill-plate";
  return (
    <g className={receding ? "opacity-30" : undefined}>
      <PlateShape
        plate={plate}
        role="button"
        tabIndex={0}
        data-plate={device.name}
        aria-pressed={chosen}
        aria-label={described(plate, props.placed ?? [])}
        vectorEffect={level === "far" ? "non-scaling-stroke" : undefined}
        className={`${fill} ${outline} cursor-pointer focus-visible:stroke-tide focus-visible:[stroke-width:3]`}
        onPointerDown={onPointerDown}
        onKeyDown={onKeyDown}
        onPointerEnter={() => only && props.onPoint(only)}
        onPointerLeave={() => props.onPoint(null)}
        onFocus={() => only && props.onPoint(only)}
        onBlur={() => props.onPoint(null)}
      />
      {level !== "far" && <PlateWords {...props} />}
      {level !== "far" &&
        tabs
          ?.filter((tab) => !tab.hidden)
          .map((tab) => <TabView key={tab.name} tab={tab} onPoint={props.onPoint} />)}
      {lines?.map((line) => (
        <LineView key={line.name} line={line} onChoose={props.onChooseLine} />
      ))}
    </g>
  );
});

function TabView({ tab, onPoint }: { tab: Tab; onPoint: (end: string | null) => void }) {
  const { box } = tab;
  const end = `${tab.device}:${tab.name}`;
  const open = () => go({ chosen: `point:${end}:in` });
  return (
    <g
      role="button"
      tabIndex={0}
      data-tab={end}
      aria-label={`Interface ${tab.name} of ${tab.device}`}
      className="group cursor-pointer"
      onPointerEnter={() => onPoint(end)}
      onPointerLeave={() => onPoint(null)}
      onFocus={() => onPoint(end)}
      onBlur={() => onPoint(null)}
      onClick={open}
      onKeyDown={(event) => {
        if (event.key !== "Enter" && event.key !== " ") return;
        event.preventDefault();
        open();
      }}
    >
      <rect
        {...box}
        className="fill-sunk stroke-slate group-hover:stroke-ink group-focus-visible:[stroke-width:3]"
        strokeDasharray={tab.enabled ? undefined : "2 2"}
      />
      {tab.words.map((line, row) => (
        <text
          key={line}
          x={box.x + box.width / 2}
          y={box.y + 13 + 14 * row}
          textAnchor="middle"
          className={`font-mono text-[12px] ${row ? "fill-slate" : "fill-ink"}`}
        >
          {line}
        </text>
      ))}
    </g>
  );
}

function LineView({ line, onChoose }: { line: LineTab; onChoose: (line: LineTab) => void }) {
  const top = line.centre.y - LINE_HEIGHT / 2;
  const choose = (event: React.PointerEvent) => {
    event.stopPropagation();
    onChoose(line);
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
        className="fill-fog font-mono text-[12px]"
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
            className="fill-ink font-mono text-[12px]"
          >
            {list.name}
          </text>
        </g>
      ))}
    </g>
  );
}

/** Where the name of a plate stands: in its middle where nothing else is written. */
function nameLine({ device, centre, height }: PutPlate, level: Level, label: string | undefined): number {
  const alone = device.kind === "host" && !label && device.lines.length === 0;
  if (level === "middle" || alone) return centre.y + 4.5;
  return centre.y - height / 2 + 20;
}

/** From afar a plate is never smaller than can be seen and hit. */
function enlarged(plate: PutPlate, unit: number): PutPlate {
  const least = plate.device.kind === "host" ? 5 : 9;
  return {
    ...plate,
    width: Math.max(plate.width, least * unit * 1.4),
    height: Math.max(plate.height, least * unit),
  };
}

function described({ device }: PutPlate, placed: string[]): string {
  const count = device.interfaces.length;
  return [
    `${device.name}, ${device.kind}`,
    count === 1 ? "1 interface" : `${count} interfaces`,
    ...placed,
  ].join(", ");
}
