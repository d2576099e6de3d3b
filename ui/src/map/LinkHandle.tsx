import { type PointerEvent as ReactPointerEvent, type RefObject, useState } from "react";
import { say } from "../kit/notices";
import { useOpened } from "../workbench/opened";
import type { Point } from "./plane";
import type { Plate } from "./plates";

interface Props {
  plate: Plate;
  scale: RefObject<number>;
}

/** A grip on the chosen plate: drawn to another plate it becomes a link. By keyboard the inspector does that. */
export function LinkHandle({ plate, scale }: Props) {
  const { network, make } = useOpened();
  const [end, setEnd] = useState<Point | null>(null);
  const grip = { x: plate.centre.x + plate.width / 2 + 2, y: plate.centre.y - plate.height / 2 - 2 };

  const onPointerDown = (down: ReactPointerEvent) => {
    down.stopPropagation();
    const start = { x: down.clientX, y: down.clientY };
    const onMove = (move: PointerEvent) =>
      setEnd({
        x: grip.x + (move.clientX - start.x) / scale.current,
        y: grip.y + (move.clientY - start.y) / scale.current,
      });
    const onUp = (up: PointerEvent) => {
      window.removeEventListener("pointermove", onMove);
      window.removeEventListener("pointerup", onUp);
      setEnd(null);
      const hit = document.elementFromPoint(up.clientX, up.clientY)?.closest<SVGElement>("[data-plate]");
      const other = network.draft.devices.find((each) => each.name === hit?.dataset.plate);
      if (other && other.name !== plate.device.name)
        make({ do: "link", one: plate.device.name, other: other.name });
      else if (!other) say(`Draw it to another device to link ${plate.device.name} with it.`);
    };
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", onUp);
  };

  return (
    <g>
      {end && (
        <path
          d={`M${grip.x} ${grip.y}L${end.x} ${end.y}`}
          strokeDasharray="5 4"
          strokeWidth="1.6"
          className="pointer-events-none stroke-ochre"
        />
      )}
      <g
        data-tag
        data-link-grip={plate.device.name}
        className="cursor-crosshair"
        onPointerDown={onPointerDown}
      >
        <title>Draw a link to another device</title>
        <circle cx={grip.x} cy={grip.y} r="8" strokeWidth="1.4" className="fill-plate stroke-ochre" />
        <path
          d={`M${grip.x - 4} ${grip.y}H${grip.x + 4}M${grip.x} ${grip.y - 4}V${grip.y + 4}`}
          strokeWidth="1.6"
          className="stroke-ochre"
        />
      </g>
    </g>
  );
}
