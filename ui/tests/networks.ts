import type { Device, Network, Placement } from "../src/api/client";

/** Small networks for tests: devices with interfaces by name, links between them. */

export const device = (name: string, kind: Device["kind"], interfaces: string[], more: object = {}): Device =>
  ({
    name,
    kind,
    note: "",
    site: "",
    interfaces: interfaces.map((each) => ({ name: each, enabled: true, addresses: [], parent: null })),
    lines: [],
    services: [],
    ...more,
  }) as unknown as Device;

export const network = (devices: Device[], links: string[], more: Partial<Network> = {}): Network =>
  ({
    name: "small",
    devices,
    links: links.map((each) => ({ ends: each.split(" "), enabled: true })),
    lists: [],
    placements: [],
    positions: [],
    tests: [],
    requirements: [],
    ...more,
  }) as unknown as Network;

/** Two hosts behind a switch, a router, and a host beyond it. */
export const reserve = (more: Partial<Network> = {}) =>
  network(
    [
      device("kiosk", "host", ["eth0"]),
      device("till", "host", ["eth0"]),
      device("floor", "switch", ["p1", "p2", "p3"]),
      device("sluice", "router", ["eth0", "eth1"], { lines: [{ name: "remote" }] }),
      device("ledger", "host", ["eth0"]),
    ],
    ["kiosk:eth0 floor:p1", "till:eth0 floor:p2", "floor:p3 sluice:eth0", "sluice:eth1 ledger:eth0"],
    more,
  );

export const positions = new Map([
  ["kiosk", { x: 0, y: 0 }],
  ["till", { x: 200, y: 0 }],
  ["floor", { x: 100, y: 140 }],
  ["sluice", { x: 100, y: 280 }],
  ["ledger", { x: 100, y: 460 }],
]);

export const placed = (list: string, point: string): Placement => {
  const [device = "", at = "", direction = "in"] = point.split(" ");
  return { list, device, at, direction } as Placement;
};
