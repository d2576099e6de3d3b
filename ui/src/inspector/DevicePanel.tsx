import { Fragment, useState } from "react";
import type { Device, Intent, PartLines, Section } from "../api/client";
import { traitsOf } from "../api/kinds";
import { useDeviceFacts, useParts } from "../api/queries";
import { ExistingItemEditor } from "../editor/ItemEditor";
import { Failed } from "../kit/Failed";
import { go, useLocation } from "../state/location";
import { lineAt, pointKey } from "../state/points";
import { useOpened } from "../workbench/opened";
import { Links } from "./Links";
import { Name } from "./Name";
import { PartField, Parts, SECTIONS } from "./Parts";

const DIRECTIONS = [
  ["in", "entering"],
  ["out", "leaving"],
] as const;

/** A device: interfaces with what stands in their lanes, routes, lines, services. */
export function DevicePanel({ device }: { device: Device }) {
  const { id, network, at, make } = useOpened();
  const location = useLocation();
  const [editing, setEditing] = useState(false);
  const read = useDeviceFacts(id, network.version, at, device.name, location.state);
  const facts = read.data;
  const written = useParts(id, network.version, device.name);
  const parts = written.data ?? [];
  const traits = traitsOf(device);
  const takesLists = traits.takes_lists || traits.takes_frame_lists;
  /** Something stands there once more, and is what is looked at next. */
  const again = async (intent: Intent) => {
    const made = await make(intent);
    const copy = made?.find(({ collection }) => collection === "devices");
    if (copy) go({ chosen: `device:${copy.key}` });
  };
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
      <div className="flex items-baseline gap-2">
        <Name collection="devices" name={device.name} onRenamed={(name) => go({ chosen: `device:${name}` })}>
          <h2 className="font-semibold">
            {device.name}{" "}
            <span className="quiet font-normal">
              {traitsOf(device).open_ended ? "outside network" : device.kind}
            </span>
          </h2>
        </Name>
      </div>
      {device.note && <p className="quiet">{device.note}</p>}
      <Failed of={written} className="py-2" />
      {parts
        .filter(({ lines }) => lines.length > 0)
        .map(({ section, lines }) => (
          <Parts
            key={section}
            device={device.name}
            section={section}
            lines={lines}
            beneath={
              takesLists ? (place) => <Crossing device={device} section={section} place={place} /> : undefined
            }
          />
        ))}
      <AddPart device={device.name} sections={parts} />
      <Links device={device} />
      <Failed of={read} className="py-2" />
      <Lines title="OSPF neighbours" lines={facts?.neighbours ?? []} />
      <Lines title="Cut off by lists" lines={facts?.cut ?? []} wrong />
      <Lines title="Routes in use" lines={facts?.routes ?? []} mono />
      <Lines title="Routes not used" lines={facts?.unused ?? []} mono />
      <div className="mt-4 flex flex-wrap gap-2">
        <button type="button" className="button" onClick={() => setEditing(true)}>
          Edit as text…
        </button>
        <button
          type="button"
          className="button"
          title="A copy with new prefixes, linked like this one"
          onClick={() => again({ do: "duplicate", devices: [device.name], site: "" })}
        >
          Duplicate
        </button>
        {device.site && (
          <button
            type="button"
            className="button"
            title={`Everything at ${device.site} copied, with new prefixes`}
            onClick={() => again({ do: "duplicate", devices: [], site: device.site ?? "" })}
          >
            Duplicate the site
          </button>
        )}
        <button
          type="button"
          className="button"
          onClick={async () => {
            if (await make({ do: "remove", collection: "devices", key: device.name })) go({ chosen: null });
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

/** A part of a section that the device has nothing in yet. */
function AddPart({ device, sections }: { device: string; sections: PartLines[] }) {
  const [section, setSection] = useState<Section | null>(null);
  const empty = sections.filter(({ lines }) => lines.length === 0);
  if (section) {
    return (
      <div className="mt-3">
        <h3 className="quiet">{SECTIONS[section][0]}</h3>
        <PartField {...{ device, section, place: null, start: "" }} onDone={() => setSection(null)} />
      </div>
    );
  }
  if (!empty.length) return null;
  return (
    <p className="quiet mt-3">
      Add:{" "}
      {empty.map((each, number) => (
        <Fragment key={each.section}>
          {number > 0 && ", "}
          <button
            type="button"
            className="underline decoration-rule underline-offset-2"
            onClick={() => setSection(each.section)}
          >
            {SECTIONS[each.section][1]}
          </button>
        </Fragment>
      ))}
    </p>
  );
}

/** What stands in the lanes of an interface, or at a management line. */
function Crossing({ device, section, place }: { device: Device; section: Section; place: number }) {
  const part = section === "interfaces" ? device.interfaces[place] : undefined;
  const line = section === "lines" ? device.lines[place] : undefined;
  if (part) {
    return (
      <div className="flex gap-4">
        {DIRECTIONS.map(([way, verb]) => (
          <Point key={way} device={device.name} at={part.name} direction={way} verb={verb} />
        ))}
      </div>
    );
  }
  return line ? <Point device={device.name} at={lineAt(line)} direction="in" verb="logins" /> : null;
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
  const { network } = useOpened();
  const key = pointKey({ device, at, direction });
  const placed = network.draft.placements.filter((each) => pointKey(each) === key).map((each) => each.list);
  return (
    <button
      type="button"
      className="block text-left text-fine hover:underline"
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
