import { useState } from "react";
import type { Device } from "../api/client";
import { useDeviceFacts } from "../api/queries";
import { ExistingItemEditor } from "../editor/ItemEditor";
import { useWorkbench } from "../shell/context";
import { joinDevices, pointKey, removeDevice, removeLink } from "../state/edits";

const DIRECTIONS = [
  ["in", "entering"],
  ["out", "leaving"],
] as const;

/** A device: interfaces with what stands in their lanes, routes, lines, services. */
export function DevicePanel({ device }: { device: Device }) {
  const { id, network, place, make, go } = useWorkbench();
  const [editing, setEditing] = useState(false);
  const facts = useDeviceFacts(id, network.version, device.name, place.state).data;
  const takesLists = ["router", "firewall", "host"].includes(device.kind);
  if (editing) {
    return (
      <div className="pt-3">
        <h2 className="px-4 pb-2 font-semibold">{device.name}</h2>
        <ExistingItemEditor
          collection="devices"
          itemKey={device.name}
          onDone={(name) => {
            setEditing(false);
            if (name) go({ chosen: `device:${name}` });
          }}
        />
      </div>
    );
  }
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
                {item.parent && (
                  <div className="quiet font-sans">
                    VLAN {item.vlan} of {item.parent}
                  </div>
                )}
                {item.access && <div className="quiet font-sans">VLAN {item.access}</div>}
                {item.trunk.length > 0 && (
                  <div className="quiet font-sans">trunk {item.trunk.join(", ")}</div>
                )}
                {item.untagged && <div className="quiet font-sans">untagged {item.untagged}</div>}
                {item.ospf && (
                  <div className="quiet font-sans">
                    OSPF {item.ospf.passive ? "passive" : `cost ${item.ospf.cost}`}
                  </div>
                )}
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
      {device.zones.length > 0 && (
        <>
          <h3 className="quiet mt-3">Zones, the most trusted first</h3>
          <p>{device.zones.map((zone) => `${zone.name} (${zone.interfaces.join(", ")})`).join(", ")}</p>
        </>
      )}
      <Lines title="Translation" lines={device.translations.map(translationWords)} />
      <Links device={device} />
      <Lines title="OSPF neighbours" lines={facts?.neighbours ?? []} />
      <Lines title="Cut off by lists" lines={facts?.cut ?? []} wrong />
      <Lines title="Routes" lines={facts?.routes ?? []} mono />
      <div className="mt-4 flex gap-2">
        <button type="button" className="button" onClick={() => setEditing(true)}>
          Edit as text…
        </button>
        <button
          type="button"
          className="button"
          onClick={async () => {
            if (await make(removeDevice(network.draft, device.name))) go({ chosen: null });
          }}
        >
          Remove
        </button>
      </div>
    </div>
  );
}

function Lines({
  title,
  lines,
  mono,
  wrong,
}: {
  title: string;
  lines: string[];
  mono?: boolean;
  wrong?: boolean;
}) {
  if (!lines.length) return null;
  return (
    <>
      <h3 className={`mt-3 ${wrong ? "font-medium text-clay" : "quiet"}`}>{title}</h3>
      <ul className={mono ? "font-mono text-fine" : ""}>
        {lines.map((line) => (
          <li key={line} className="border-t border-rule py-0.5">
            {line}
          </li>
        ))}
      </ul>
    </>
  );
}

/** What the device is linked to, and joining it with more. */
function Links({ device }: { device: Device }) {
  const { network, make, go, notices } = useWorkbench();
  const { links, devices } = network.draft;
  const own = links.filter((link) => link.ends.some((end) => end.startsWith(`${device.name}:`)));
  return (
    <>
      <h3 className="quiet mt-3">Links</h3>
      <ul>
        {own.map((link) => {
          const [near, far] = link.ends[0]?.startsWith(`${device.name}:`)
            ? link.ends
            : [...link.ends].reverse();
          return (
            <li
              key={link.ends.join(" ")}
              className="flex items-baseline gap-2 border-t border-rule py-0.5 text-fine"
            >
              <span className="font-mono">{near?.slice(device.name.length + 1)}</span>
              <button
                type="button"
                className="font-mono underline decoration-rule underline-offset-2"
                onClick={() => go({ chosen: `device:${far?.split(":")[0]}` })}
              >
                {far}
              </button>
              {!link.enabled && <span className="text-ochre">disabled</span>}
              <button
                type="button"
                className="quiet ml-auto underline"
                aria-label={`Remove the link to ${far}`}
                onClick={() => make(removeLink(link.ends))}
              >
                remove
              </button>
            </li>
          );
        })}
      </ul>
      <form
        className="mt-1 flex gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          const field = event.currentTarget.elements.namedItem("other") as HTMLInputElement;
          const other = devices.find((each) => each.name === field.value && each !== device);
          if (!other) {
            notices.say(`There is no other device called “${field.value}”.`);
            return;
          }
          make(joinDevices(network.draft, device, other));
          field.value = "";
        }}
      >
        <input
          name="other"
          aria-label={`Join ${device.name} with`}
          placeholder="another device"
          list="other-devices"
          autoComplete="off"
          className="field min-w-0 flex-1"
        />
        <datalist id="other-devices">
          {devices
            .filter((each) => each.name !== device.name)
            .map((each) => (
              <option key={each.name} value={each.name} />
            ))}
        </datalist>
        <button type="submit" className="button">
          Join
        </button>
      </form>
    </>
  );
}

function translationWords(rule: Device["translations"][number]): string {
  const service = rule.protocol ? ` ${rule.protocol}/${rule.port}` : "";
  const to = rule.to ?? `the address of ${rule.outside}`;
  const toPort = rule.to_port ? ` port ${rule.to_port}` : "";
  return `${rule.kind}: ${rule.source}${service} is ${to}${toPort}, from ${rule.inside.join(", ")} to ${rule.outside}`;
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
