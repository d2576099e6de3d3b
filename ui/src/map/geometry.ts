import type { Device, Network, Places } from "../api/client";
import { traitsOf } from "../api/kinds";
import { stretch } from "./bars";
import { around, type Box, beside, grown, overlap, type Point } from "./plane";
import { boxOf, isBar, type LineTab, lineTabs, type Plate, type PutPlate, plateSize } from "./plates";
import {
  facing,
  type Hung,
  LANE,
  SIDES,
  type Side,
  sideLength,
  type Tab,
  tabsAlong,
  taken,
  type Wish,
} from "./ports";
import { type Prefix, prefixesOf } from "./prefixes";
import { type Block, makeRoom } from "./room";
import { routed } from "./routes";
import { labelsOf, type Wording, wordsAt } from "./wording";

/** Where everything on the map lies, in map units. Pure: the same network gives the same scene. */

/** A link from the plate of `a` to that of `b`, written `device:interface`, by the middle between its two lanes. */
export interface Link {
  a: string;
  b: string;
  path: Point[];
  enabled: boolean;
}

export interface Scene {
  plates: PutPlate[];
  tabs: Map<string, Tab>;
  /** Tabs and management lines by device, links by either end. */
  tabsOf: Map<string, Tab[]>;
  linesOf: Map<string, LineTab[]>;
  linkOf: Map<string, Link>;
  lines: LineTab[];
  links: Link[];
  prefixes: Prefix[];
  /** The interface that a subinterface's frames really leave by. */
  parents: Map<string, string>;
  labels: Map<string, string>;
}

export interface Drawing {
  wording?: Wording;
  /** Lists to be drawn, by the interface that they lie at; those of subinterfaces at the one that carries them. */
  hung?: ReadonlyMap<string, readonly Hung[]>;
  /** Whether links that no switch names say their prefix. */
  prefixed?: boolean;
  /** Devices that stay where they are, and those that somebody put where they are; the others make room. */
  held?: ReadonlySet<string>;
  put?: ReadonlySet<string>;
}

/** The device in `device:interface`. */
export const deviceOf = (end: string) => end.slice(0, end.indexOf(":"));

const split = (end: string): [string, string] => {
  const colon = end.indexOf(":");
  return [end.slice(0, colon), end.slice(colon + 1)];
};

/** How far plates, with all that lies around them, are from each other: a link can be led between. */
const APART = 22;
/** As often as plates are moved, what lies around them is worked out anew: a side may have changed. */
const TURNS = 12;
/** So often bars are stretched anew; then they are only moved, so that it comes to an end. */
const STRETCHED = 5;

export function buildScene(
  network: Network,
  positions: Map<string, Point>,
  places: Places | undefined,
  { wording = "names", hung = new Map(), prefixed = wording !== "names", held, put }: Drawing = {},
): Scene {
  const devices = new Map(network.devices.map((device) => [device.name, device]));
  const ends = endsOf(network, hung);
  const placedOn = grouped(network.placements);
  const labels = labelsOf(network, places, wording);
  const plates = new Map<string, Plate>();
  const centres = new Map<string, Point>();
  for (const device of network.devices) {
    const centre = positions.get(device.name) ?? { x: 0, y: 0 };
    centres.set(device.name, centre);
    plates.set(device.name, {
      device,
      centre,
      ...plateSize(device, labels.get(device.name), placedOn.get(device.name)),
    });
  }
  const worded = (end: End, device: Device) => wordsAt(device, end.name, wording);
  const weight = (name: string) => (held?.has(name) ? 2 : put?.has(name) ? 1 : 0);
  let tabs = new Map<string, Tab[]>();
  for (let turn = 0; turn < TURNS; turn++) {
    for (const plate of turn < STRETCHED ? plates.values() : []) {
      if (isBar(plate.device))
        stretch(
          plate,
          centres.get(plate.device.name) ?? plate.centre,
          hangingOn(plate, ends, plates),
          [...plates.values()],
          labels.get(plate.device.name),
        );
    }
    tabs = tabsOn(plates, ends, hung, worded);
    const boxes = blocksOf([...plates.values()], tabs);
    const blocks: Block[] = [...plates.keys()].map((name, at) => ({
      box: boxes[at] ?? { x: 0, y: 0, width: 0, height: 0 },
      weight: weight(name),
    }));
    const moves = makeRoom(blocks, APART);
    if (moves.every(({ x, y }) => x === 0 && y === 0)) break;
    [...plates.values()].forEach((plate, at) => {
      const by = moves[at] ?? { x: 0, y: 0 };
      plate.centre = { x: plate.centre.x + by.x, y: plate.centre.y + by.y };
      const centre = centres.get(plate.device.name) ?? plate.centre;
      centres.set(plate.device.name, { x: centre.x + by.x, y: centre.y + by.y });
    });
  }
  tabs = tabsOn(plates, ends, hung, worded);
  const byEnd = new Map([...tabs.values()].flat().map((tab) => [`${tab.device}:${tab.name}`, tab]));
  const links = linksOf(network, devices, byEnd, tabs, plates);
  const lines = [...plates.values()].flatMap((plate) => lineTabs(plate, placedOn.get(plate.device.name)));
  const prefixes = prefixed ? prefixesOf(links, places, [...plates.values()], byEnd) : [];
  return {
    plates: [...plates.values()].map((plate) => ({
      ...plate,
      put: centres.get(plate.device.name) ?? plate.centre,
    })),
    tabs: byEnd,
    tabsOf: tabs,
    linesOf: grouped(lines),
    linkOf: new Map(links.flatMap((link) => [[link.a, link] as const, [link.b, link] as const])),
    lines,
    links,
    prefixes,
    parents: parentsOf(network),
    labels,
  };
}

export const bridgesOf = (network: Network) =>
  new Set(network.devices.filter((each) => traitsOf(each).bridges).map((each) => each.name));

export const parentsOf = (network: Network): Map<string, string> =>
  new Map(
    network.devices.flatMap((device) =>
      device.interfaces.flatMap(({ name, parent }) =>
        parent ? [[`${device.name}:${name}`, `${device.name}:${parent}`] as const] : [],
      ),
    ),
  );

function grouped<T extends { device: string }>(items: T[]): Map<string, T[]> {
  const found = new Map<string, T[]>();
  for (const item of items) {
    const same = found.get(item.device);
    if (same) same.push(item);
    else found.set(item.device, [item]);
  }
  return found;
}

function isEnabled(devices: Map<string, Device>, end: string): boolean {
  const [device, name] = split(end);
  return devices.get(device)?.interfaces.find((candidate) => candidate.name === name)?.enabled ?? false;
}

/** An interface that is drawn: linked with another device, or with none and a list of its own. */
interface End {
  name: string;
  other: string | null;
  /** The interface at the other end. */
  far: string | null;
}

function endsOf(network: Network, hung: ReadonlyMap<string, readonly Hung[]>): Map<string, End[]> {
  const found = new Map<string, End[]>(network.devices.map(({ name }) => [name, []]));
  const linked = new Set<string>();
  for (const link of network.links) {
    const [a, b] = link.ends as [string, string];
    for (const [one, other] of [
      [a, b],
      [b, a],
    ] as const) {
      const [device, name] = split(one);
      if (!found.has(device) || !found.has(deviceOf(other))) continue;
      found.get(device)?.push({ name, other: deviceOf(other), far: other });
      linked.add(one);
    }
  }
  for (const end of hung.keys()) {
    const [device, name] = split(end);
    if (!linked.has(end)) found.get(device)?.push({ name, other: null, far: null });
  }
  return found;
}

const hangingOn = (plate: Plate, ends: Map<string, End[]>, plates: Map<string, Plate>): Plate[] =>
  (ends.get(plate.device.name) ?? []).flatMap(({ other }) => (other && plates.get(other)) || []);

type Sides = Record<Side, Wish[]>;

/** The tabs of all plates: of bars last, so that what hangs on them hangs straight. */
function tabsOn(
  plates: Map<string, Plate>,
  ends: Map<string, End[]>,
  hung: ReadonlyMap<string, readonly Hung[]>,
  worded: (end: End, device: Device) => string[],
): Map<string, Tab[]> {
  const found = new Map<string, Tab[]>();
  const mouths = new Map<string, Tab>();
  for (const bars of [false, true]) {
    for (const plate of plates.values()) {
      const { device } = plate;
      if (isBar(device) !== bars) continue;
      const sides: Sides = { top: [], right: [], bottom: [], left: [] };
      for (const end of ends.get(device.name) ?? []) {
        const key = `${device.name}:${end.name}`;
        const other = end.other === null ? undefined : plates.get(end.other);
        const { side, best } = other
          ? facing(plate, other)
          : ({ side: "bottom", best: plate.centre.x } as const);
        const far = end.far === null ? undefined : mouths.get(end.far);
        const straight = far && (far.side === "top" || far.side === "bottom") ? far.mouth.x : best;
        sides[side].push({
          name: end.name,
          words: worded(end, device),
          hung: hung.get(key) ?? [],
          enabled: device.interfaces.find(({ name }) => name === end.name)?.enabled ?? true,
          best: bars && (side === "top" || side === "bottom") ? straight : best,
        });
      }
      if (!bars) {
        const wide = Math.max(sideLength("top", sides.top), sideLength("bottom", sides.bottom));
        const high = Math.max(sideLength("left", sides.left), sideLength("right", sides.right));
        plate.width = Math.max(plate.width, tabsOnly(sides, wide));
        if (sides.left.length + sides.right.length > 0) plate.height = Math.max(plate.height, high);
      }
      const tabs = SIDES.flatMap((side) => tabsAlong(plate, side, sides[side]));
      found.set(device.name, tabs);
      for (const tab of tabs) mouths.set(`${tab.device}:${tab.name}`, tab);
    }
  }
  return found;
}

/** One interface at a side may have lists that stand out beyond the plate; several must not meet. */
const tabsOnly = (sides: Sides, wide: number) => (sides.top.length > 1 || sides.bottom.length > 1 ? wide : 0);

/** Links of larger networks go straight: they are looked at by their sites, or by the way of a flow. */
const MOST_LED = 200;

function linksOf(
  network: Network,
  devices: Map<string, Device>,
  tabs: Map<string, Tab>,
  tabsOf: Map<string, Tab[]>,
  plates: Map<string, Plate>,
): Link[] {
  const joined = network.links.flatMap((link) => {
    const [a, b] = link.ends as [string, string];
    const [from, to] = [tabs.get(a), tabs.get(b)];
    return from && to ? [{ a, b, from, to, enabled: link.enabled }] : [];
  });
  const obstacles = [
    ...[...plates.values()].map(boxOf),
    ...[...tabs.values()].flatMap(({ box, tags, hidden }) => [
      ...(hidden ? [] : [box]),
      ...tags.map((tag) => tag.box),
    ]),
  ];
  const ends = joined.map(({ from, to }) => ({ from: from.mouth, to: to.mouth }));
  const ways =
    joined.length > MOST_LED
      ? ends.map(({ from, to }) => [from, to])
      : routed(ends, obstacles, blocksOf([...plates.values()], tabsOf));
  return joined.map(({ a, b, from, to, enabled }, at) => ({
    a,
    b,
    path: [from.edge, ...(ways[at] ?? []), to.edge],
    enabled: enabled && [a, b].every((end) => isEnabled(devices, end)),
  }));
}

/** Each plate with all that lies at it, in one box. */
const blocksOf = (plates: Plate[], tabs: ReadonlyMap<string, Tab[]>): Box[] =>
  plates.map((plate) => around([boxOf(plate), ...(tabs.get(plate.device.name) ?? []).flatMap(taken)]));

export function boundsOf(plates: Plate[], tabs: ReadonlyMap<string, Tab[]> = new Map()): Box {
  if (!plates.length) return { x: 0, y: 0, width: 1, height: 1 };
  return grown(around(blocksOf(plates, tabs)), 6);
}

/** Whether a plate, with its tabs, reaches into a box. */
export const reaches = (plate: Plate, box: Box): boolean => overlap(grown(boxOf(plate), 60), box);

/** The lane at an interface by which it is left or entered, from its tab outwards. */
export function laneAt(scene: Scene, at: string, direction: string): Point[] | null {
  const end = scene.parents.get(at) ?? at;
  const link = scene.linkOf.get(end);
  if (!link) return null;
  const path = link.a === end ? link.path : [...link.path].reverse();
  return beside(path, direction === "out" ? LANE : -LANE);
}
