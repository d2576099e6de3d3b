import { useMemo } from "react";
import type { PointReport } from "../api/client";
import { pointKey } from "../state/points";
import { takenAs, useCarrying, useOver } from "../workbench/carrying";
import { hover } from "../workbench/picking";
import type { Scene } from "./geometry";
import { contains, lengthOf, type Point } from "./plane";
import { LINE_HEIGHT } from "./plates";
import { OUTWARDS } from "./ports";
import { makeRoom } from "./room";
import type { Viewed } from "./useViewport";

const WIDTH = 27;
const HEIGHT = 16;

/** The places that could take the list being carried. */
export function Targets({ scene, view }: { scene: Scene; view: Viewed }) {
  const { carried, usual, drop } = useCarrying();
  const over = useOver();
  const centres = useMemo(() => padCentres(scene, carried?.targets ?? []), [scene, carried?.targets]);
  if (!carried) return null;
  return (
    <g>
      {carried.targets.map((point) => {
        const centre = centres.get(pointKey(point));
        if (!centre || !contains(view.box, centre)) return null;
        const under = over !== null && pointKey(over) === pointKey(point);
        const taken = !point.takes.includes(takenAs(carried.list));
        const belongs = usual(point)?.here ?? false;
        return (
          <g
            key={pointKey(point)}
            data-target={pointKey(point)}
            role="button"
            aria-label={`${point.words}${taken ? ", taken already" : ""}${belongs ? ", the usual place" : ""}`}
            tabIndex={-1}
            className="cursor-copy"
            onPointerMove={(move) => {
              // A place that opens under a resting pointer is not chosen by that: the arrow keys may be in use.
              if (!under && (move.movementX || move.movementY)) hover(point);
            }}
            onPointerUp={() => drop(point)}
          >
            <rect
              x={centre.x - WIDTH / 2}
              y={centre.y - HEIGHT / 2}
              width={WIDTH}
              height={HEIGHT}
              rx={2}
              strokeWidth={under ? 2 : 1.2}
              strokeDasharray={taken ? "3 2" : undefined}
              className={
                under
                  ? "fill-ink stroke-ink"
                  : taken
                    ? "fill-plate stroke-ochre"
                    : "fill-tidewash stroke-tide"
              }
            />
            {belongs && (
              <path
                data-usual
                d={`M${centre.x - WIDTH / 2} ${centre.y + HEIGHT / 2 + 3}h${WIDTH}`}
                strokeWidth="2.4"
                className="stroke-ink"
              />
            )}
            <text
              x={centre.x}
              y={centre.y + 4}
              textAnchor="middle"
              className={`text-[11px] ${under ? "fill-fog" : taken ? "fill-ochre" : "fill-tide"}`}
            >
              {point.direction}
            </text>
          </g>
        );
      })}
    </g>
  );
}

const APART = 2;

/** Where the place of each point is drawn: near its interface, and over no other place. */
export function padCentres(scene: Scene, points: PointReport[]): Map<string, Point> {
  const near = points.flatMap((point) => {
    const centre = padCentre(scene, point);
    return centre ? [{ key: pointKey(point), centre }] : [];
  });
  const moved = makeRoom(
    near.map(({ centre }) => ({
      box: { x: centre.x - WIDTH / 2, y: centre.y - HEIGHT / 2, width: WIDTH, height: HEIGHT },
      weight: 1,
    })),
    APART,
  );
  return new Map(
    near.map(({ key, centre }, at) => [
      key,
      { x: centre.x + (moved[at]?.x ?? 0), y: centre.y + (moved[at]?.y ?? 0) },
    ]),
  );
}

/**
 * Before its interface, what enters first and what leaves behind that; lines on their own tab. Where two ends
 * are near each other the places of one lie aside, so that both can be read.
 */
export function padCentre(scene: Scene, point: PointReport): Point | null {
  const line = scene.linesOf.get(point.device)?.find((tab) => tab.name === point.at);
  if (line)
    return {
      x: line.centre.x - line.width / 2 - WIDTH / 2 + 4,
      y: line.centre.y + (HEIGHT - LINE_HEIGHT) / 2,
    };
  const end = `${point.device}:${point.at}`;
  const parent = scene.parents.get(end);
  const tab = scene.tabs.get(parent ?? end);
  const link = scene.linkOf.get(parent ?? end);
  if (!tab || !link) return null;
  const siblings = parent ? [...scene.parents].filter((each) => each[1] === parent).map(([sub]) => sub) : [];
  const row = 2 * (1 + siblings.indexOf(end)) + (point.direction === "out" ? 1 : 0);
  const out = OUTWARDS[tab.side];
  const [first, step] = out.x ? [WIDTH / 2 + 3, WIDTH + 3] : [HEIGHT / 2 + 4, HEIGHT + 2];
  const distance = first + row * step;
  const far = scene.tabs.get(link.a === (parent ?? end) ? link.b : link.a);
  const short =
    far !== undefined && lengthOf(tab.root, far.root) < 4 * step + 8 && link.b === (parent ?? end);
  // Aside is away from the other end.
  const away = far && (out.x ? tab.root.y < far.root.y : tab.root.x < far.root.x) ? -1 : 1;
  const aside = short ? away * (out.x ? HEIGHT + 3 : WIDTH + 4) : 0;
  return {
    x: tab.root.x + out.x * distance + (out.x ? 0 : aside),
    y: tab.root.y + out.y * distance + (out.x ? aside : 0),
  };
}
