import { deviceOf, type Scene } from "./geometry";
import type { Cloud } from "./wayScene";

/** The prefix of links that no switch names, beside their lanes. */
export function Prefixes({ scene, focus }: { scene: Scene; focus: ReadonlySet<string> | null }) {
  return (
    <g pointerEvents="none">
      {scene.prefixes.map(({ link, text, box }) => (
        <text
          key={link}
          data-word
          x={box.x + box.width / 2}
          y={box.y + 11.5}
          textAnchor="middle"
          className={`fill-slate font-mono text-[12px] ${focus && !link.split(" ").every((end) => focus.has(deviceOf(end))) ? "opacity-30" : ""}`}
        >
          {text}
        </text>
      ))}
    </g>
  );
}

/** The size of a cloud's words, and the least that they have on the screen, in pixels. */
const WORDS = 12;
const LEAST = 11.2;
/** Where a cloud lies, seen from its device. */
const CLOUD = { x: 24, y: -60 };

/** What hangs on the devices of a way, folded: how many devices, at the edge. */
export function Clouds({
  clouds,
  scene,
  unit,
  onOpen,
}: {
  clouds: Cloud[];
  scene: Scene;
  unit: number;
  onOpen: () => void;
}) {
  return (
    <g>
      {clouds.map(({ device, at, count }) => {
        const plate = scene.plates.find((each) => each.device.name === device);
        const [x, y] = [(plate?.centre.x ?? at.x) + CLOUD.x, (plate?.centre.y ?? at.y) + CLOUD.y];
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
            <g transform={`translate(${x},${y}) scale(${Math.max(1, (LEAST / WORDS) * unit)})`}>
              <rect
                x="-34"
                y="-12"
                width="68"
                height="24"
                rx="12"
                strokeDasharray="3 4"
                className="fill-fog stroke-slate group-hover:stroke-ink"
              />
              <text y="4" textAnchor="middle" className="fill-slate text-[12px]">
                {count} more
              </text>
            </g>
          </g>
        );
      })}
    </g>
  );
}
