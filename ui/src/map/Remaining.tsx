import { usePolicy } from "../api/computed";
import { chosenOf, useLocation } from "../state/location";
import { requirementsOnScreen } from "../state/onScreen";
import { useOpened } from "../workbench/opened";
import type { Scene } from "./geometry";
import { contains, diamond } from "./plane";
import type { Viewed } from "./useViewport";

const RADIUS = 8;
const HOLE = 3.4;

/** A diamond with a hole on each device that does otherwise than the hosts the chosen requirement speaks of. */
export function Remaining({ scene, view }: { scene: Scene; view: Viewed }) {
  const { id, network, at } = useOpened();
  const chosen = chosenOf(useLocation(), "requirement");
  const { data } = usePolicy(id, network.version, at, chosen !== null, requirementsOnScreen);
  const report = chosen ? data?.requirements.find((each) => each.id === chosen)?.draft : undefined;
  if (!report?.remains) return null;
  const devices = new Set(report.themselves);
  return (
    <g>
      {scene.plates
        .filter(({ device, centre }) => devices.has(device.name) && contains(view.box, centre))
        .map(({ device, centre, width, height }) => {
          const { x, y } = { x: centre.x + width / 2, y: centre.y - height / 2 };
          return (
            <g key={device.name} data-remains={device.name}>
              <title>{`${report.remains}: the requirement speaks of hosts.`}</title>
              <path d={diamond(x, y, RADIUS + 2)} className="fill-fog" />
              <path
                d={diamond(x, y, RADIUS) + diamond(x, y, HOLE)}
                fillRule="evenodd"
                className="fill-tide"
              />
            </g>
          );
        })}
    </g>
  );
}
