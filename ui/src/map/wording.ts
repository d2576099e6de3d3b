import type { Device, Network, Places } from "../api/client";
import { type Box, cuts, grown, overlap, type Point } from "./plane";
import { boxOf, isBar, type Plate } from "./plates";

/** What interfaces, hosts and links say of themselves. */
export type Wording = "names" | "addresses" | "both";

/** What stands on an interface: its name, its first address, or both. An only interface needs no name. */
export function wordsAt(device: Device, name: string, wording: Wording): string[] {
  if (isBar(device)) return [];
  const found = device.interfaces.find((each) => each.name === name);
  const host = device.kind === "host" || device.kind === "outside";
  if (host && device.interfaces.length === 1) return [];
  const address = found && shortest(found.addresses);
  if (wording === "names" || !address) return [name];
  return wording === "addresses" ? [address] : [name, address];
}

/** The address that says most in the least room. */
export const shortest = (addresses: string[]) =>
  addresses.find((each) => !each.includes(":")) ?? addresses[0];

/** The prefix of a switch; with addresses shown, the address of a host as well. */
export function labelsOf(
  network: Network,
  places: Places | undefined,
  wording: Wording,
): Map<string, string> {
  const labels = new Map<string, string>();
  const carried = new Map<string, { vlan: number; prefix: string }[]>();
  for (const segment of places?.segments ?? []) {
    segment.switches.forEach((name, index) => {
      const prefix = shortest(segment.prefixes) ?? "";
      carried.set(name, [...(carried.get(name) ?? []), { vlan: segment.vlans[index] ?? 1, prefix }]);
    });
  }
  for (const [name, vlans] of carried) {
    const one = vlans.length === 1 ? vlans[0] : undefined;
    labels.set(name, one ? one.prefix : `VLAN ${vlans.map(({ vlan }) => vlan).join(", ")}`);
  }
  if (wording === "names") return labels;
  for (const device of network.devices) {
    if (device.kind !== "host" || device.interfaces.length !== 1) continue;
    const address = shortest(device.interfaces[0]?.addresses ?? []);
    if (address) labels.set(device.name, address);
  }
  return labels;
}

const NAME = { width: 7.2, height: 15 };

/** Devices whose names have room at a size that can be read: of several that would meet, who forwards comes first. */
export function namesWithRoom(
  plates: Plate[],
  links: { a: string; b: string; path: Point[] }[],
  unit: number,
): Set<string> {
  const boxes = plates.map((plate) => ({ name: plate.device.name, box: boxOf(plate) }));
  const words = [...plates]
    .sort((a, b) => (ORDER[a.device.kind] ?? 1) - (ORDER[b.device.kind] ?? 1))
    .map(({ device, centre }) => {
      const [width, height] = [device.name.length * NAME.width * unit, NAME.height * unit];
      return { name: device.name, box: { x: centre.x - width / 2, y: centre.y - height / 2, width, height } };
    });
  const lines = links.flatMap(({ a, b, path }) =>
    path.slice(1).map((to, at) => ({ ends: [a, b], from: path[at] ?? to, to })),
  );
  const taken: Box[] = [];
  const found = new Set<string>();
  for (const { name, box } of words) {
    if (taken.some((other) => overlap(box, other))) continue;
    if (boxes.some((other) => other.name !== name && overlap(box, other.box))) continue;
    const lanes = grown(box, 5);
    const crossed = ({ ends, from, to }: (typeof lines)[number]) =>
      cuts(from, to, lanes) && !ends.some((end) => end.startsWith(`${name}:`));
    if (lines.some(crossed)) continue;
    taken.push(box);
    found.add(name);
  }
  return found;
}

const ORDER: Record<string, number> = { outside: 0, firewall: 0, router: 0, switch: 1, host: 2 };
