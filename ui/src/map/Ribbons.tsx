import type { Ribbon } from "./ways";

/** The chosen conversation: its way out solid, its way home dotted, each in the lanes it really uses. */
export function Ribbons({ ribbons, verdict }: { ribbons: Ribbon[]; verdict: string }) {
  return (
    <g pointerEvents="none">
      {ribbons.map((ribbon) => (
        <RibbonView key={ribbon.way} ribbon={ribbon} verdict={verdict} />
      ))}
    </g>
  );
}

function RibbonView({ ribbon, verdict }: { ribbon: Ribbon; verdict: string }) {
  const out = ribbon.way === "out";
  const lost = ribbon.ending === "ring";
  const points = ribbon.points.map((point) => `${point.x},${point.y}`).join(" ");
  return (
    <g data-ribbon={ribbon.way} data-ending={ribbon.ending} data-verdict={verdict}>
      {ribbon.points.length > 1 && (
        <polyline
          points={points}
          fill="none"
          strokeLinejoin="round"
          strokeLinecap="round"
          strokeWidth={out ? 5 : 3.6}
          strokeDasharray={out && !lost ? undefined : lost && out ? "1 9" : "0.5 7"}
          className={out && !lost ? "stroke-tide" : out ? "stroke-slate" : "ribbon-home stroke-slate"}
        />
      )}
    </g>
  );
}

/** Where each way really ends: drawn above the placed lists, one of which may have ended it. */
export function Endings({ ribbons }: { ribbons: Ribbon[] }) {
  return (
    <g pointerEvents="none">
      {ribbons.map((ribbon) => (
        <Ending key={ribbon.way} ribbon={ribbon} />
      ))}
    </g>
  );
}

function Ending({ ribbon }: { ribbon: Ribbon }) {
  const { end, heading, ending } = ribbon;
  const across = { x: -heading.y, y: heading.x };
  switch (ending) {
    case "bar":
      return (
        <path
          d={`M${end.x - across.x * 10} ${end.y - across.y * 10}L${end.x + across.x * 10} ${end.y + across.y * 10}`}
          className="stroke-clay"
          strokeWidth="6"
        />
      );
    case "ring":
      return <circle cx={end.x} cy={end.y} r="7" className="fill-fog stroke-slate" strokeWidth="2.6" />;
    case "square":
      return (
        <rect
          x={end.x - 6}
          y={end.y - 6}
          width="12"
          height="12"
          className="fill-fog stroke-slate"
          strokeWidth="2.6"
        />
      );
    default: {
      const tip = { x: end.x + heading.x * 2, y: end.y + heading.y * 2 };
      const back = { x: end.x - heading.x * 8, y: end.y - heading.y * 8 };
      const wings = [1, -1].map((side) => `${back.x + across.x * 6 * side} ${back.y + across.y * 6 * side}`);
      return (
        <path
          d={`M${wings[0]}L${tip.x} ${tip.y}L${wings[1]}`}
          fill="none"
          strokeWidth="2.6"
          className={ribbon.way === "out" ? "stroke-tide" : "stroke-slate"}
        />
      );
    }
  }
}
