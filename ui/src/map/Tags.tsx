import type { Placement } from "../api/client";
import { go, useLocation } from "../state/location";
import { pointKey } from "../state/points";
import { useCarrying } from "../workbench/carrying";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";
import { useDragList } from "../workbench/useDragList";
import { bridgesOf, contains, labelBox, laneOf, type Scene, type Spot, spotAt, TAG_HEIGHT } from "./geometry";
import { useShownPlacements } from "./useShown";
import type { Viewed } from "./useViewport";

/** What stands behind the name of a list that is not the usual one. */
const MARKS: Record<string, string> = { ipv6: " v6", frame: " frames" };

interface TagsProps {
  scene: Scene;
  view: Viewed;
  /** Devices to look at; the tags of others recede. */
  focus: ReadonlySet<string> | null;
}

/** Placed lists: a bar across the lane that each filters, and its name beside it. */
export function Tags({ scene, view, focus }: TagsProps) {
  const { network } = useOpened();
  const { viewing } = useTrial();
  const placements = useShownPlacements();
  const key = (placed: Placement) => `${pointKey(placed)}:${placed.list}`;
  const running = new Set(network.running.placements.map(key));
  const drafted = new Set(network.draft.placements.map(key));
  const now = new Set(placements.map(key));
  const gone = [...network.running.placements, ...network.draft.placements].filter(
    (placed, place, every) =>
      !now.has(key(placed)) &&
      every.findIndex((other) => key(other) === key(placed)) === place &&
      !placements.some((other) => pointKey(other) === pointKey(placed)),
  );
  const statusOf = (placed: Placement) => {
    if (viewing === "trial" && !drafted.has(key(placed))) return "trial";
    return running.has(key(placed)) ? "running" : "new";
  };
  const recedes = (placed: Placement) => focus !== null && !focus.has(placed.device);
  const bridges = bridgesOf(network.draft);
  const crossing = new Map<string, number>();
  const order = (placed: Placement) => {
    // On a switch, whose ports lie side by side, names would lie over each other.
    const lane = bridges.has(placed.device) ? placed.device : laneOf(scene, placed);
    const before = crossing.get(lane) ?? 0;
    crossing.set(lane, before + 1);
    return before;
  };
  return (
    <g>
      {gone.map((placed) => (
        <Tag
          key={`gone ${key(placed)}`}
          scene={scene}
          view={view}
          receding={recedes(placed)}
          framed={bridges.has(placed.device)}
          placed={placed}
          order={order(placed)}
          status="gone"
        />
      ))}
      {placements.map((placed) => (
        <Tag
          key={key(placed)}
          order={order(placed)}
          scene={scene}
          view={view}
          receding={recedes(placed)}
          framed={bridges.has(placed.device)}
          placed={placed}
          status={statusOf(placed)}
        />
      ))}
    </g>
  );
}

interface TagProps {
  scene: Scene;
  view: Viewed;
  receding: boolean;
  /** Whether it stands on a bridge, where lists of frames are the usual ones. */
  framed: boolean;
  placed: Placement;
  order: number;
  status: "running" | "new" | "gone" | "trial";
}

function Tag({ scene, view, receding, framed, placed, order, status }: TagProps) {
  const { network } = useOpened();
  const { carried } = useCarrying();
  const location = useLocation();
  const startDrag = useDragList();
  const spot = spotAt(scene, placed, order);
  if (!spot || !contains(view.box, spot.centre)) return null;
  const list = network.draft.lists.find((each) => each.name === placed.list);
  const chosen = location.chosen === `point:${pointKey(placed)}`;
  const choose = () => go({ chosen: `point:${pointKey(placed)}` });
  const sub = scene.parents.has(`${placed.device}:${placed.at}`) ? ` ${placed.at.split(".").pop()}` : "";
  const trial = status === "trial" ? "trial: " : "";
  const mark = framed ? "" : MARKS[list?.family ?? list?.kind ?? ""];
  const name = `${trial}${placed.list}${mark ?? ""}${sub}`;
  const label = labelBox(spot, name);
  const fresh = status === "new" || status === "trial";
  const text = chosen ? "fill-fog" : fresh ? "fill-ochre" : "fill-ink";
  const border = fresh ? "stroke-ochre" : "stroke-ink";
  const words = placed.direction === "in" ? "entering" : "leaving";
  const note = {
    running: "",
    new: ", in the draft only",
    gone: ", taken off in the draft",
    trial: ", tried and not in the draft",
  }[status];
  const drag = status === "gone" || status === "trial" ? undefined : startDrag(list, placed);
  return (
    <g
      role="button"
      tabIndex={0}
      data-tag={`${placed.list} ${pointKey(placed)}`}
      aria-label={`${name}, ${words} ${placed.device} by ${placed.at}${note}`}
      className={`group cursor-grab ${receding ? "opacity-30" : status === "gone" ? "opacity-60" : ""}`}
      onPointerDown={(down) => {
        if (carried) return;
        down.stopPropagation();
        drag?.(down);
      }}
      onClick={choose}
      onKeyDown={(event) => {
        if (event.key !== "Enter" && event.key !== " ") return;
        event.preventDefault();
        if (!carried) choose();
      }}
    >
      <path
        d={bar(spot, 7)}
        className={fresh ? "stroke-ochre" : "stroke-ink"}
        strokeWidth={status === "gone" ? 1.5 : 4}
      />
      {view.level === "near" && (
        <>
          <rect
            {...label}
            height={TAG_HEIGHT}
            className={`${chosen ? "fill-ink" : "fill-plate"} ${border} group-focus-visible:[stroke-width:3]`}
            strokeDasharray={status === "running" ? undefined : "4 2"}
          />
          <text
            x={label.x + label.width / 2}
            y={label.y + 12.5}
            textAnchor="middle"
            textDecoration={status === "gone" ? "line-through" : undefined}
            className={`${text} font-mono text-[12px]`}
          >
            {name}
          </text>
        </>
      )}
    </g>
  );
}

function bar(spot: Spot, half: number): string {
  const { centre, way } = spot;
  const across = { x: -way.y * half, y: way.x * half };
  return `M${centre.x - across.x} ${centre.y - across.y}L${centre.x + across.x} ${centre.y + across.y}`;
}
