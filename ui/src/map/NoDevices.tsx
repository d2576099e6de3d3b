import type { Intent } from "../api/client";
import { useOpened } from "../workbench/opened";

const GATE = {
  name: "gate",
  kind: "router",
  interfaces: [
    { name: "eth0", addresses: ["172.20.1.1/24"] },
    { name: "eth1", addresses: ["172.20.2.1/24"] },
  ],
  lines: [{ name: "remote", transports: ["ssh"] }, { name: "console" }],
};

/** What to do where there is nothing yet. */
export function NoDevices({ onLine }: { onLine: (line: string) => void }) {
  const { make } = useOpened();
  return (
    <div className="absolute inset-x-0 top-1/4 mx-auto max-w-[460px] px-4">
      <p className="mb-2">This network has no devices yet. Press + and type, for example:</p>
      <ul className="font-mono text-code">
        {FIRST_LINES.map((line) => (
          <li key={line}>
            <button
              type="button"
              className="underline decoration-rule underline-offset-2 hover:decoration-ink"
              onClick={() => onLine(line)}
            >
              {line}
            </button>
          </li>
        ))}
      </ul>
      <p className="quiet mt-2">Then choose a device and press l to link it with another one.</p>
      <button type="button" className="button mt-3" onClick={() => make(FIRST_NETWORK)}>
        Take a first network: a router between two hosts
      </button>
    </div>
  );
}

const host = (name: string, net: string) => ({
  name,
  kind: "host",
  interfaces: [{ name: "eth0", addresses: [`${net}.10/24`] }],
  gateway: `${net}.1`,
  services: [
    { name: "web", protocol: "tcp", port: 80 },
    { name: "login", protocol: "tcp", port: 23 },
  ],
});

const putting = (item: object): Intent => ({ do: "put", collection: "devices", item: { ...item } });

const FIRST_NETWORK: Intent = {
  do: "together",
  label: "a first network",
  intents: [
    putting(GATE),
    putting(host("desk", "172.20.1")),
    putting(host("store", "172.20.2")),
    { do: "link", one: "gate", other: "desk" },
    { do: "link", one: "gate", other: "store" },
  ],
};

const FIRST_LINES = [
  "router gate 172.20.1.1/24",
  "host desk 172.20.1.10/24 gateway 172.20.1.1",
  "switch floor",
  "outside beyond 203.0.113.1/24",
];
