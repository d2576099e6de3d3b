import { deviceOf, type Link, type Scene } from "./geometry";
import { aroundPoints, beside, overlap, type Point } from "./plane";
import { LANE } from "./ports";
import type { Viewed } from "./useViewport";

interface Props {
  scene: Scene;
  view: Viewed;
  focus: ReadonlySet<string> | null;
}

/** From afar every link is one thin line; near, two lanes. */
export function MapLinks({ scene, view, focus }: Props) {
  if (view.level === "far") {
    const path = scene.links.map((link) => drawnAs(link.path)).join("");
    return (
      <path d={path} vectorEffect="non-scaling-stroke" className="fill-none stroke-lane" strokeWidth="0.9" />
    );
  }
  return (
    <>
      {scene.links
        .filter(({ path }) => overlap(aroundPoints(path), view.box))
        .map((link) => (
          <g
            key={`${link.a} ${link.b}`}
            className={
              focus && !(focus.has(deviceOf(link.a)) && focus.has(deviceOf(link.b)))
                ? "opacity-30"
                : undefined
            }
          >
            <Lanes link={link} />
          </g>
        ))}
    </>
  );
}

const drawnAs = (path: Point[]) => `M${path.map(({ x, y }) => `${x} ${y}`).join("L")}`;

/** A link is two lanes, one for each way. */
function Lanes({ link }: { link: Link }) {
  return (
    <g
      data-link={`${link.a} ${link.b}`}
      className="stroke-lane"
      strokeDasharray={link.enabled ? undefined : "2 4"}
    >
      {[LANE, -LANE].map((aside) => (
        <path key={aside} d={drawnAs(beside(link.path, aside))} className="fill-none" strokeWidth="1.2" />
      ))}
    </g>
  );
}
