import { pointKey } from "../state/points";
import { useCarrying } from "../workbench/carrying";
import { usePoints } from "../workbench/opened";
import { share, useShared } from "../workbench/store";
import type { Scene } from "./geometry";
import { contains, diamond } from "./plane";
import { padCentre } from "./Targets";
import type { Viewed } from "./useViewport";

const RADIUS = 7;

/** The places that advice speaks of: a full diamond where a list is enough, an open one where it is not. */
export function Lens({ scene, view }: { scene: Scene; view: Viewed }) {
  const { places } = usePoints();
  const { carried } = useCarrying();
  const choices = useShared((shared) => shared.choices);
  const looked = useShared((shared) => shared.choice);
  if (carried || choices.length === 0) return null;
  const best = new Map<string, (typeof choices)[number]>();
  for (const choice of choices) {
    if (choice.points.length > 1) continue;
    const [point] = choice.points;
    if (point && !best.has(pointKey(point))) best.set(pointKey(point), choice);
  }
  const together = new Set(looked?.points.map(pointKey));
  const points = places?.points.filter((point) => best.has(pointKey(point)) || together.has(pointKey(point)));
  return (
    <g aria-label="Where it could go">
      {points?.map((point) => {
        const centre = padCentre(scene, point);
        const choice = best.get(pointKey(point));
        if (!centre || !contains(view.box, centre)) return null;
        const shown = together.has(pointKey(point));
        const { x, y } = centre;
        return (
          <g
            key={pointKey(point)}
            data-lens={pointKey(point)}
            role="button"
            tabIndex={-1}
            aria-label={choice?.text ?? point.words}
            className="cursor-pointer"
            onClick={() => choice && share({ choice })}
            onKeyDown={() => undefined}
          >
            <title>{choice?.text ?? point.words}</title>
            <path
              d={diamond(x, y, RADIUS)}
              strokeWidth={shown ? 2.6 : 1.5}
              className={`${choice?.holds || (shown && looked?.holds) ? "fill-tide" : "fill-plate"} ${shown ? "stroke-ink" : choice?.holds ? "stroke-tide" : "stroke-ochre"}`}
            />
          </g>
        );
      })}
    </g>
  );
}
