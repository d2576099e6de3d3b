import { type RefObject, useRef, useState } from "react";
import type { Change, Device } from "../api/client";
import { couldJoin } from "../api/reading";
import { fail, say } from "../kit/notices";
import { useFocusTaker } from "../state/focus";
import { go } from "../state/location";
import { useOpened } from "../workbench/opened";

/** What the device is linked to, and linking it with more. */
export function Links({ device }: { device: Device }) {
  const { network, make } = useOpened();
  const { links } = network.draft;
  const field = useRef<HTMLInputElement>(null);
  useFocusTaker("link", () => field.current?.focus());
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
                onClick={() =>
                  make({
                    do: "remove",
                    label: `remove the link ${link.ends.join(" – ")}`,
                    collection: "links",
                    key: link.ends.join(" "),
                  })
                }
              >
                remove
              </button>
            </li>
          );
        })}
      </ul>
      <LinkWith device={device} field={field} />
    </>
  );
}

/** What is asked before a link is made: the interfaces of each side that would do. */
interface Choice {
  other: string;
  near: string[];
  far: string[];
}

function LinkWith({ device, field }: { device: Device; field: RefObject<HTMLInputElement | null> }) {
  const { id, network, make } = useOpened();
  const [choice, setChoice] = useState<Choice | null>(null);
  const { devices } = network.draft;
  const link = async (near: string, far: string, other: string) => {
    const end = (name: string, port: string) => (port ? `${name}:${port}` : name);
    const made = await make({ do: "link", one: end(device.name, near), other: end(other, far) });
    if (!made) return;
    setChoice(null);
    if (field.current) {
      field.current.value = "";
      field.current.focus();
    }
    const added = newInterfaces(made, devices);
    if (added.length) say(`New for this link: ${added.join(", ")}.`);
  };
  const ask = async (written: string) => {
    // A device, or one of its interfaces: “ash:eth1”.
    const [name = "", port = ""] = written.trim().split(":");
    const other = devices.find((each) => each.name === name && each !== device);
    if (!other) {
      say(`There is no other device called “${name}”.`);
      return;
    }
    try {
      const found = await couldJoin(id, device.name, port ? `${name}:${port}` : name);
      if (found.one.length > 1 || found.other.length > 1)
        setChoice({ other: name, near: found.one, far: found.other });
      else await link("", port, name);
    } catch (error) {
      fail(error);
    }
  };
  return (
    <>
      <form
        className="mt-1 flex gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          ask(field.current?.value ?? "");
        }}
      >
        <input
          name="other"
          aria-label={`Link ${device.name} with`}
          ref={field}
          placeholder="another device, or one of its interfaces"
          list="other-devices"
          autoComplete="off"
          className="field min-w-0 flex-1"
          onChange={() => setChoice(null)}
        />
        <datalist id="other-devices">
          {devices
            .filter((each) => each.name !== device.name)
            .map((each) => (
              <option key={each.name} value={each.name} />
            ))}
        </datalist>
        <button type="submit" className="button">
          Link
        </button>
      </form>
      {choice && <WhichInterfaces device={device} choice={choice} onLink={link} />}
    </>
  );
}

function WhichInterfaces({
  device,
  choice,
  onLink,
}: {
  device: Device;
  choice: Choice;
  onLink: (near: string, far: string, other: string) => void;
}) {
  const { network } = useOpened();
  const [near, setNear] = useState(choice.near[0] ?? "");
  const [far, setFar] = useState(choice.far[0] ?? "");
  const other = network.draft.devices.find(({ name }) => name === choice.other);
  return (
    <form
      aria-label="Which interfaces"
      className="mt-2 grid gap-1 rounded border border-rule bg-plate px-2 py-1.5"
      onSubmit={(event) => {
        event.preventDefault();
        onLink(near, far, choice.other);
      }}
    >
      <p>More than one interface fits.</p>
      <Which device={device} names={choice.near} value={near} onChange={setNear} first />
      {other && <Which device={other} names={choice.far} value={far} onChange={setFar} />}
      <button type="submit" className="button justify-self-start">
        Link them there
      </button>
    </form>
  );
}

function Which({
  device,
  names,
  value,
  onChange,
  first,
}: {
  device: Device;
  names: string[];
  value: string;
  onChange: (name: string) => void;
  first?: boolean;
}) {
  const addresses = (name: string) =>
    device.interfaces.find((each) => each.name === name)?.addresses.join(", ") ?? "";
  return (
    <label className="flex items-baseline gap-2">
      <span className="quiet">{device.name}</span>
      <select
        // biome-ignore lint/a11y/noAutofocus: it appears because it was asked for
        autoFocus={first}
        className="field min-w-0 flex-1 font-mono"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      >
        {names.map((name) => (
          <option key={name} value={name}>
            {name} {addresses(name)}
          </option>
        ))}
        {names.length === 0 && <option value="">a new one</option>}
      </select>
    </label>
  );
}

/** The interfaces that an edit made, as `device eth2`. */
function newInterfaces(made: Change[], before: Device[]): string[] {
  return made.flatMap(({ collection, key, item }) => {
    const old = before.find(({ name }) => name === key);
    if (collection !== "devices" || !old) return [];
    const known = new Set(old.interfaces.map(({ name }) => name));
    const now = (item?.interfaces ?? []) as { name: string }[];
    return now.filter(({ name }) => !known.has(name)).map(({ name }) => `${key} ${name}`);
  });
}
