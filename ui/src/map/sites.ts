import type { Network, TestMarks } from "../api/client";
import { traitsOf } from "../api/kinds";
import { deviceOf, type Scene } from "./geometry";
import type { Point } from "./plane";

/** Devices that stand together, drawn as one when they are far away, with what is in them counted. */
export interface Site {
  name: string;
  at: Point;
  devices: number;
  lists: number;
  surprises: number;
}

export interface Sites {
  sites: Site[];
  /** Pairs of places in `sites` that some link joins. */
  links: [number, number][];
}

/** By the site that devices name, else by what hangs together: hubs with all that hangs on them. */
export function sitesOf(network: Network, scene: Scene, marks: TestMarks[]): Sites {
  const of = siteNames(network);
  const names = [...new Set(of.values())];
  const number = new Map(names.map((name, place) => [name, place]));
  const sites: Site[] = names.map((name) => ({
    name,
    at: { x: 0, y: 0 },
    devices: 0,
    lists: 0,
    surprises: 0,
  }));
  const at = (device: string) => sites[number.get(of.get(device) ?? "") ?? -1];
  for (const { device, centre } of scene.plates) {
    const site = at(device.name);
    if (!site) continue;
    site.at = { x: site.at.x + centre.x, y: site.at.y + centre.y };
    site.devices += 1;
  }
  for (const site of sites) site.at = { x: site.at.x / site.devices, y: site.at.y / site.devices };
  for (const placed of network.placements) {
    const site = at(placed.device);
    if (site) site.lists += 1;
  }
  for (const mark of marks) {
    if (mark.draft.judgement?.standing === "holds" || !mark.draft.place) continue;
    const site = at(mark.draft.place.device);
    if (site) site.surprises += 1;
  }
  const joined = new Set<string>();
  for (const link of network.links) {
    const ends = link.ends.map((end) => number.get(of.get(deviceOf(end)) ?? ""));
    const [one, other] = ends;
    if (one === undefined || other === undefined || one === other) continue;
    joined.add(`${Math.min(one, other)} ${Math.max(one, other)}`);
  }
  return { sites, links: [...joined].map((pair) => pair.split(" ").map(Number) as [number, number]) };
}

const HUBS = 24;

function siteNames(network: Network): Map<string, string> {
  const named = new Map(
    network.devices.flatMap((device) => (device.site ? [[device.name, device.site] as const] : [])),
  );
  const neighbours = new Map<string, Set<string>>(network.devices.map(({ name }) => [name, new Set()]));
  for (const link of network.links) {
    const [one, other] = link.ends.map(deviceOf) as [string, string];
    neighbours.get(one)?.add(other);
    neighbours.get(other)?.add(one);
  }
  // Who has most neighbours is a hub; everyone else belongs to the hub that is nearest.
  const order = network.devices
    .filter((device) => !named.has(device.name) && traitsOf(device).forwards)
    .map(({ name }) => name)
    .sort((a, b) => (neighbours.get(b)?.size ?? 0) - (neighbours.get(a)?.size ?? 0) || a.localeCompare(b));
  const count = Math.max(1, Math.min(HUBS, Math.round(Math.sqrt(network.devices.length))));
  const found = new Map(named);
  const queue: string[] = [...named.keys()];
  for (const hub of order.slice(0, count)) {
    found.set(hub, `around ${hub}`);
    queue.push(hub);
  }
  for (let at = 0; at < queue.length; at++) {
    const here = queue[at] ?? "";
    for (const next of neighbours.get(here) ?? []) {
      if (found.has(next)) continue;
      found.set(next, found.get(here) ?? here);
      queue.push(next);
    }
  }
  for (const { name } of network.devices) if (!found.has(name)) found.set(name, "on its own");
  return found;
}
