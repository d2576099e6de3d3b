import { useOpened } from "../workbench/opened";
import type { Scene } from "./geometry";
import type { Cloud } from "./wayScene";

/** The prefix of each link that no switch names, beside its lanes. */
export function SegmentNames({ scene }: { scene: Scene }) {
  const { places } = useOpened();
  const named = new Map(
    places?.segments.flatMap((segment) => segment.members.map((member) => [member, segment] as const)),
  );
  return (
    <g pointerEvents="none">
      {scene.links.map(({ a, b, from, to }) => {
        const segment = named.get(a) ?? named.get(b);
        const prefix = segment?.prefixes.find((each) => !each.includes(":")) ?? segment?.prefixes[0];
        if (!prefix || segment?.switches.length) return null;
        const level = Math.abs(to.y - from.y) < Math.abs(to.x - from.x);
        return (
          <text
            key={a}
            x={(from.x + to.x) / 2 - (level ? 0 : 12)}
            y={(from.y + to.y) / 2 + (level ? 40 : 4)}
            textAnchor={level ? "middle" : "end"}
            className="halo fill-slate font-mono text-[12px]"
          >
            {prefix}
          </text>
        );
      })}
    </g>
  );
}

/** Where a cloud lies, seen from its device. */
const CLOUD = { x: 24, y: -60 };

/** What hangs on the devices of a way, folded: how many devices, at the edge. */
export function Clouds({ clouds, closer, onOpen }: { clouds: Cloud[]; closer: number; onOpen: () => void }) {
  return (
    <g>
      {clouds.map(({ device, at, count }) => {
        const [x, y] = [at.x / closer + CLOUD.x, at.y / closer + CLOUD.y];
        return (
          <g
            key={device}
            role="button"
            tabIndex={0}
            aria-label={`${count} more behind ${device}: show the whole map`}
            className="group cursor-pointer"
            onClick={onOpen}
            onKeyDown={(event) => {
              if (event.key !== "Enter") return;
              event.preventDefault();
              onOpen();
            }}
          >
            <path
              d={`M${x} ${y}L${x - CLOUD.x * 0.7} ${y - CLOUD.y}`}
              className="stroke-lane"
              strokeDasharray="3 4"
            />
            <rect
              x={x - 34}
              y={y - 12}
              width="68"
              height="24"
              rx="12"
              strokeDasharray="3 4"
              className="fill-fog stroke-slate group-hover:stroke-ink"
            />
            <text x={x} y={y + 4} textAnchor="middle" className="fill-slate text-[12px]">
              {count} more
            </text>
          </g>
        );
      })}
    </g>
  );
}
