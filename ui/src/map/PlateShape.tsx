import type { SVGAttributes } from "react";
import type { Plate } from "./plates";

type Props = { plate: Plate } & SVGAttributes<SVGElement>;

/** The silhouette of a device kind; further attributes go to the shape itself. */
export function PlateShape({ plate, ...rest }: Props) {
  const { width: w, height: h } = plate;
  const { x, y } = plate.centre;
  const left = x - w / 2;
  const top = y - h / 2;
  switch (plate.device.kind) {
    case "router": {
      const cut = 11;
      const corners = [
        [left + cut, top],
        [left + w - cut, top],
        [left + w, top + cut],
        [left + w, top + h - cut],
        [left + w - cut, top + h],
        [left + cut, top + h],
        [left, top + h - cut],
        [left, top + cut],
      ];
      return <polygon points={corners.map((corner) => corner.join(",")).join(" ")} {...rest} />;
    }
    case "firewall":
      return (
        <>
          <rect x={left - 3} y={top - 3} width={w + 6} height={h + 6} className="fill-none stroke-slate" />
          <rect x={left} y={top} width={w} height={h} {...rest} />
        </>
      );
    case "outside":
      return <rect x={left} y={top} width={w} height={h} strokeDasharray="5 4" {...rest} />;
    case "switch":
      return <rect x={left} y={top} width={w} height={h} rx={3} {...rest} />;
    default:
      return <rect x={left} y={top} width={w} height={h} rx={11} {...rest} />;
  }
}
