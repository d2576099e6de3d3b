import { useMemo } from "react";
import type { BroughtReport } from "../api/bringing";
import type { Device } from "../api/client";
import { Failed } from "../kit/Failed";
import { Stage } from "../kit/Stage";
import { PlateShape } from "../map/PlateShape";
import type { Point } from "../map/plane";
import { useLayout } from "../map/useLayout";

const WIDTH = 118;
const HEIGHT = 40;
const MARGIN = 24;

/** What a map of it would look like: devices and how they are joined. */
export function Sketch({ of }: { of: BroughtReport }) {
  const drawn = useMemo(
    () => ({
      devices: of.devices.map(({ name, kind }) => ({ name, kind: kind as Device["kind"] })),
      links: of.links.map((ends) => ({ ends: ends.map((device) => `${device}:`) })),
    }),
    [of],
  );
  const laidOut = useLayout(drawn);
  const places = laidOut.isPlaceholderData ? undefined : laidOut.data;
  if (!places)
    return (
      <div className="p-4">
        {laidOut.isFetching && <Stage words="Laying out the map" done={laidOut.done} />}
        <Failed of={laidOut} className="" again="Lay it out again" />
      </div>
    );
  const points = [...places.values()];
  const left = Math.min(...points.map((point) => point.x)) - WIDTH / 2 - MARGIN;
  const top = Math.min(...points.map((point) => point.y)) - HEIGHT / 2 - MARGIN;
  const right = Math.max(...points.map((point) => point.x)) + WIDTH / 2 + MARGIN;
  const bottom = Math.max(...points.map((point) => point.y)) + HEIGHT / 2 + MARGIN;
  return (
    <svg
      role="img"
      aria-label={`A map of ${of.devices.length} devices`}
      viewBox={`${left} ${top} ${right - left} ${bottom - top}`}
      className="h-full w-full"
    >
      {of.links.map(([one, other], index) => {
        const from = places.get(one);
        const to = places.get(other);
        return (
          from &&
          to && <line key={index} x1={from.x} y1={from.y} x2={to.x} y2={to.y} className="stroke-slate" />
        );
      })}
      {of.devices.map((device) => {
        const centre = places.get(device.name);
        return centre && <Plate key={device.name} device={device} centre={centre} />;
      })}
    </svg>
  );
}

function Plate({ device, centre }: { device: BroughtReport["devices"][number]; centre: Point }) {
  const plate = { device: device as unknown as Device, centre, width: WIDTH, height: HEIGHT };
  return (
    <g>
      <PlateShape plate={plate} className="fill-plate stroke-slate" strokeWidth={1.3} />
      <text x={centre.x} y={centre.y + 1} textAnchor="middle" className="fill-ink text-[13px] font-semibold">
        {device.name}
      </text>
      <text x={centre.x} y={centre.y + 14} textAnchor="middle" className="fill-slate text-[11px]">
        {device.lists.length ? `${device.lists.length} placed` : device.kind}
      </text>
    </g>
  );
}
