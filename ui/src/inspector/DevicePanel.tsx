import type { Device } from "../api/client";
import { useWorkbench } from "../shell/context";
import { pointKey } from "../state/edits";

const DIRECTIONS = [
  ["in", "entering"],
  ["out", "leaving"],
] as const;

/** A device: interfaces with what stands in their lanes, routes, lines, services. */
export function DevicePanel({ device }: { device: Device }) {
  const takesLists = device.kind === "router" || device.kind === "host";
  return (
    <div className="px-4 py-3">
      <h2 className="font-semibold">
        {device.name}{" "}
        <span className="quiet font-normal">
          {device.kind === "outside" ? "outside network" : device.kind}
        </span>
      </h2>
      {device.note && <p className="quiet">{device.note}</p>}
      {device.kind !== "switch" && <h3 className="quiet mt-3">Interfaces</h3>}
      <table className="w-full">
        <tbody>
          {device.interfaces.map((item) => (
            <tr key={item.name} className="border-t border-rule align-top">
              <td className="py-1 pr-2 font-mono text-fine">{item.name}</td>
              <td className="py-1 font-mono text-fine">
                {item.addresses.map((address) => (
                  <div key={address}>{address}</div>
                ))}
                {!item.enabled && <span className="font-sans text-ochre">disabled</span>}
              </td>
              <td className="py-1 text-right">
                {takesLists &&
                  DIRECTIONS.map(([way, verb]) => (
                    <Point key={way} device={device.name} at={item.name} direction={way} verb={verb} />
                  ))}
              </td>
            </tr>
          ))}
          {device.lines.map((line) => (
            <tr key={line.name} className="border-t border-rule align-top">
              <td className="py-1 pr-2 font-mono text-fine">{line.name}</td>
              <td className="py-1 text-fine">{line.transports.join(", ") || "no network login"}</td>
              <td className="py-1 text-right">
                <Point device={device.name} at={line.name} direction="in" verb="logins" />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {device.services.length > 0 && (
        <>
          <h3 className="quiet mt-3">Listens on</h3>
          <p>{device.services.map((each) => `${each.name} ${each.protocol}/${each.port}`).join(", ")}</p>
        </>
      )}
      {device.prefixes.length > 0 && (
        <>
          <h3 className="quiet mt-3">Stands for</h3>
          <p className="font-mono text-fine">{device.prefixes.join(", ")}</p>
        </>
      )}
      {device.gateway && (
        <p className="mt-3">
          <span className="quiet">Gateway</span> <span className="font-mono text-fine">{device.gateway}</span>
        </p>
      )}
      {device.routes.length > 0 && (
        <>
          <h3 className="quiet mt-3">Static routes</h3>
          <table className="w-full font-mono text-fine">
            <tbody>
              {device.routes.map((route) => (
                <tr key={`${route.to}${route.via}${route.interface}`} className="border-t border-rule">
                  <td className="py-0.5">{route.to}</td>
                  <td className="py-0.5">
                    {route.discard ? "discards" : [route.via, route.interface].filter(Boolean).join(" ")}
                  </td>
                  <td className="quiet py-0.5 text-right">
                    {route.preference === 5 ? "" : route.preference}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </div>
  );
}

function Point({
  device,
  at,
  direction,
  verb,
}: {
  device: string;
  at: string;
  direction: "in" | "out";
  verb: string;
}) {
  const { network, go } = useWorkbench();
  const key = pointKey({ device, at, direction });
  const placed = network.draft.placements.filter((each) => pointKey(each) === key).map((each) => each.list);
  return (
    <button
      type="button"
      className="block w-full text-right text-fine hover:underline"
      onClick={() => go({ chosen: `point:${key}` })}
    >
      <span className="quiet">{verb}:</span>{" "}
      {placed.length ? (
        <span className="font-mono">{placed.join(", ")}</span>
      ) : (
        <span className="quiet">no list</span>
      )}
    </button>
  );
}
