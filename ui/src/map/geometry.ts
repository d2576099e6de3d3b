import type { Device, Network, Placement, Places } from "../api/client";
import { traitsOf } from "../api/kinds";
import { type Sized, spreadOut } from "./fitting";
import { along, type Box, lengthOf, type Point } from "./plane";

/** Where everything on the map lies, in map units. Pure: the same network gives the same scene. */

export type Side = "top" | "right" | "bottom" | "left";

export interface Plate {
  device: Device;
  centre: Point;
  width: number;
  height: number;
}

/** An interface on the edge of a plate. Lanes begin at its mouth; a hidden tab draws no box. */
export interface Tab {
  device: string;
  name: string;
  centre: Point;
  width: number;
  mouth: Point;
  hidden: boolean;
  enabled: boolean;
}

/** A management line, on the lower edge of its plate, and the lists that lie beside it. */
export interface LineTab {
  device: string;
  name: string;
  centre: Point;
  width: number;
  lists: { name: string; x: number; width: number }[];
}

/** A link between two mouths; `a` and `b` are written `device:interface`. */
export interface Link {
  a: string;
  b: string;
  from: Point;
  to: Point;
  enabled: boolean;
}

export interface Scene {
  plates: Plate[];
  tabs: Map<string, Tab>;
  /** Tabs and management lines by device, links by either end. */
  tabsOf: Map<string, Tab[]>;
  linesOf: Map<string, LineTab[]>;
  linkOf: Map<string, Link>;
  lines: LineTab[];
  links: Link[];
  /** The interface that a subinterface's frames really leave by. */
  parents: Map<string, string>;
  labels: Map<string, string>;
  bounds: Box;
  /** By how much plates lie closer together than they were put, so that words can be read. */
  closer: number;
}

/** A point of the drawing as it is kept with the network. */
export const asPut = (scene: Scene, at: Point): Point => ({ x: at.x * scene.closer, y: at.y * scene.closer });

export const TAB_HEIGHT = 18;
export const LINE_HEIGHT = 16;
export const LANE = 4;

const FORWARDING = new Set(["router", "firewall"]);
/** Widths of a character of the map’s mono at its sizes, and of its sans. */
const CHARACTER = 7.4;
const NAME_CHARACTER = 8.2;
const BAR = 7;

export const tabWidth = (name: string) => Math.max(26, name.length * CHARACTER + 9);
const lineWidth = (name: string) => name.length * CHARACTER + 8;
export const TAG_HEIGHT = 18;
export const tagWidth = (name: string) => name.length * CHARACTER + 10;

type Lines = { name: string; lists: string[] }[];

/** The rows of lines on a plate: each line with a list has its own, the others share the last. */
function lineRows(device: Device, placed: Placement[] = []): Lines[] {
  const lines = device.lines.map((line) => ({
    name: line.name as string,
    lists: placed.filter(({ at }) => at === line.name).map(({ list }) => list),
  }));
  const rows = lines.filter((line) => line.lists.length).map((line) => [line]);
  const rest = lines.filter((line) => !line.lists.length);
  return rest.length ? [...rows, rest] : rows;
}

const rowWidth = (row: Lines) =>
  row.reduce(
    (sum, line) => sum + lineWidth(line.name) + line.lists.reduce((all, list) => all + tagWidth(list), 0) + 4,
    -4,
  );

function plateSize(device: Device, placed?: Placement[]): { width: number; height: number } {
  const name = device.name.length * NAME_CHARACTER + 24;
  const rows = lineRows(device, placed);
  switch (device.kind) {
    case "router":
    case "firewall":
      return {
        width: Math.max(112, name, ...rows.map((row) => rowWidth(row) + 22)),
        height: 43 + rows.length * (LINE_HEIGHT + 3),
      };
    case "outside":
      return { width: Math.max(96, name), height: 40 };
    default:
      return { width: Math.max(84, name), height: 30 };
  }
}

/** What a plate needs around it: routers have tabs on their edges, switches a line of words above. */
function marginOf(sized: Sized): { x: number; y: number } {
  const { kind } = (sized as Plate).device;
  if (FORWARDING.has(kind)) return { x: 44, y: 26 };
  return kind === "switch" ? { x: 8, y: 22 } : { x: 8, y: 10 };
}

/** The device in `device:interface`. */
export const deviceOf = (end: string) => end.slice(0, end.indexOf(":"));

const split = (end: string): [string, string] => {
  const colon = end.indexOf(":");
  return [end.slice(0, colon), end.slice(colon + 1)];
};

export function buildScene(
  network: Network,
  positions: Map<string, Point>,
  places: Places | undefined,
  closer = 1,
): Scene {
  const devices = new Map(network.devices.map((device) => [device.name, device]));
  const neighbours = joined(network);
  const placedOn = grouped(network.placements);
  const plates = new Map<string, Plate>();
  for (const device of network.devices) {
    const put = positions.get(device.name) ?? { x: 0, y: 0 };
    const centre = { x: put.x / closer, y: put.y / closer };
    plates.set(device.name, { device, centre, ...plateSize(device, placedOn.get(device.name)) });
  }
  const stretchBars = () => {
    for (const plate of plates.values()) {
      if (plate.device.kind === "switch") stretch(plate, neighbours.get(plate.device.name) ?? [], plates);
    }
  };
  stretchBars();
  if (closer > 1) {
    spreadOut([...plates.values()], marginOf);
    stretchBars();
  }
  const tabs = new Map<string, Tab>();
  for (const plate of plates.values()) {
    const ends = (neighbours.get(plate.device.name) ?? []).filter((end) => plates.has(end.other));
    const placed =
      plate.device.kind === "switch" ? barTabs(plate, ends, plates) : edgeTabs(plate, ends, plates);
    for (const tab of placed) tabs.set(`${tab.device}:${tab.name}`, tab);
  }
  const links: Link[] = [];
  for (const link of network.links) {
    const [a, b] = link.ends as [string, string];
    const from = tabs.get(a)?.mouth;
    const to = tabs.get(b)?.mouth;
    if (from && to) {
      const enabled = link.enabled && [a, b].every((end) => isEnabled(devices, end));
      links.push({ a, b, from, to, enabled });
    }
  }
  const lines = [...plates.values()].flatMap((plate) => lineTabs(plate, placedOn.get(plate.device.name)));
  return {
    plates: [...plates.values()],
    tabs,
    tabsOf: grouped([...tabs.values()]),
    linesOf: grouped(lines),
    linkOf: new Map(links.flatMap((link) => [[link.a, link] as const, [link.b, link] as const])),
    lines,
    links,
    parents: new Map(
      network.devices.flatMap((device) =>
        device.interfaces.flatMap(({ name, parent }) =>
          parent ? [[`${device.name}:${name}`, `${device.name}:${parent}`] as const] : [],
        ),
      ),
    ),
    labels: segmentLabels(places),
    bounds: boundsOf([...plates.values()]),
    closer,
  };
}

export const bridgesOf = (network: Network) =>
  new Set(network.devices.filter((each) => traitsOf(each).bridges).map((each) => each.name));

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

interface End {
  name: string;
  other: string;
}

function joined(network: Network): Map<string, End[]> {
  const found = new Map<string, End[]>();
  const add = (device: string, end: End) => {
    const ends = found.get(device);
    if (ends) ends.push(end);
    else found.set(device, [end]);
  };
  for (const link of network.links) {
    const [a, b] = link.ends as [string, string];
    const [deviceA, nameA] = split(a);
    const [deviceB, nameB] = split(b);
    add(deviceA, { name: nameA, other: deviceB });
    add(deviceB, { name: nameB, other: deviceA });
  }
  return found;
}

/** A switch is a bar as long as what hangs on it is wide. */
function stretch(plate: Plate, ends: End[], plates: Map<string, Plate>): void {
  const xs = ends.flatMap((end) => plates.get(end.other)?.centre.x ?? []);
  const reach = Math.max(60, ...xs.map((x) => Math.min(Math.abs(x - plate.centre.x), 190) + 16));
  plate.width = 2 * reach;
  plate.height = BAR;
}

function barTabs(plate: Plate, ends: End[], plates: Map<string, Plate>): Tab[] {
  const left = plate.centre.x - plate.width / 2 + 10;
  const right = plate.centre.x + plate.width / 2 - 10;
  const used: number[] = [];
  return ends.map((end) => {
    const other = plates.get(end.other)?.centre ?? plate.centre;
    let x = Math.min(Math.max(other.x, left), right);
    while (used.some((taken) => Math.abs(taken - x) < 14)) x += 14;
    used.push(x);
    const above = other.y < plate.centre.y;
    const mouth = { x, y: plate.centre.y + (above ? -BAR / 2 : BAR / 2) };
    return {
      device: plate.device.name,
      name: end.name,
      centre: mouth,
      width: 0,
      mouth,
      hidden: true,
      enabled: true,
    };
  });
}

function edgeTabs(plate: Plate, ends: End[], plates: Map<string, Plate>): Tab[] {
  const sides: Record<Side, { end: End; toward: Point }[]> = { top: [], right: [], bottom: [], left: [] };
  for (const end of ends) {
    const other = plates.get(end.other);
    if (!other) continue;
    const toward = nearest(other, plate.centre);
    sides[sideFacing(plate, toward)].push({ end, toward });
  }
  const hidden = !FORWARDING.has(plate.device.kind) && plate.device.interfaces.length === 1;
  const tabs: Tab[] = [];
  for (const side of ["top", "right", "bottom", "left"] as const) {
    const flat = side === "top" || side === "bottom";
    const row = sides[side].sort((a, b) => (flat ? a.toward.x - b.toward.x : a.toward.y - b.toward.y));
    const widths = row.map(({ end }) => (hidden ? 0 : tabWidth(end.name)));
    const total = widths.reduce((sum, width) => sum + (flat ? width : TAB_HEIGHT) + 5, -5);
    let at = -total / 2;
    row.forEach(({ end }, index) => {
      const width = widths[index] ?? 0;
      const extent = flat ? width : TAB_HEIGHT;
      tabs.push(tabAt(plate, end.name, side, at + extent / 2, width, hidden));
      at += extent + 5;
    });
  }
  return tabs;
}

function tabAt(plate: Plate, name: string, side: Side, along: number, width: number, hidden: boolean): Tab {
  const { x, y } = plate.centre;
  const out = { top: [0, -1], bottom: [0, 1], left: [-1, 0], right: [1, 0] }[side] as [number, number];
  const half = { w: plate.width / 2, h: plate.height / 2 };
  const depth = hidden ? 0 : out[0] ? width : TAB_HEIGHT;
  const edge = {
    x: x + out[0] * half.w + (out[1] ? along : 0),
    y: y + out[1] * half.h + (out[0] ? along : 0),
  };
  return {
    device: plate.device.name,
    name,
    width,
    hidden,
    enabled: plate.device.interfaces.find((candidate) => candidate.name === name)?.enabled ?? true,
    centre: { x: edge.x + (out[0] * depth) / 2, y: edge.y + (out[1] * depth) / 2 },
    mouth: { x: edge.x + out[0] * depth, y: edge.y + out[1] * depth },
  };
}

/** The point of `plate` that a link from `from` would meet: a bar is met anywhere along it. */
function nearest(plate: Plate, from: Point): Point {
  if (plate.device.kind !== "switch") return plate.centre;
  const half = plate.width / 2 - 10;
  const x = Math.min(Math.max(from.x, plate.centre.x - half), plate.centre.x + half);
  return { x, y: plate.centre.y };
}

function sideFacing(plate: Plate, toward: Point): Side {
  const dx = toward.x - plate.centre.x;
  const dy = toward.y - plate.centre.y;
  const flat = Math.abs(dx) / (plate.width / 2 + 30) > Math.abs(dy) / (plate.height / 2 + 18);
  if (flat) return dx > 0 ? "right" : "left";
  return dy > 0 ? "bottom" : "top";
}

function lineTabs(plate: Plate, placed?: Placement[]): LineTab[] {
  const rows = lineRows(plate.device, placed);
  const bottom = plate.centre.y + plate.height / 2 - 4;
  return rows.flatMap((row, index) => {
    const y = bottom - (rows.length - index) * (LINE_HEIGHT + 3) + LINE_HEIGHT / 2 + 3;
    let left = plate.centre.x - rowWidth(row) / 2;
    return row.map((line) => {
      const width = lineWidth(line.name);
      const centre = { x: left + width / 2, y };
      left += width;
      const lists = line.lists.map((name) => {
        const tag = { name, x: left, width: tagWidth(name) };
        left += tag.width;
        return tag;
      });
      left += 4;
      return { device: plate.device.name, name: line.name, centre, width, lists };
    });
  });
}

function segmentLabels(places: Places | undefined): Map<string, string> {
  const labels = new Map<string, string>();
  const carried = new Map<string, { vlan: number; prefix: string }[]>();
  for (const segment of places?.segments ?? []) {
    segment.switches.forEach((name, index) => {
      const prefix = segment.prefixes.find((each) => !each.includes(":")) ?? segment.prefixes[0] ?? "";
      carried.set(name, [...(carried.get(name) ?? []), { vlan: segment.vlans[index] ?? 1, prefix }]);
    });
  }
  for (const [name, vlans] of carried) {
    const one = vlans.length === 1 ? vlans[0] : undefined;
    labels.set(name, one ? one.prefix : `VLAN ${vlans.map(({ vlan }) => vlan).join(", ")}`);
  }
  return labels;
}

export function boundsOf(plates: Plate[]): Scene["bounds"] {
  if (!plates.length) return { x: 0, y: 0, width: 1, height: 1 };
  const left = Math.min(...plates.map((plate) => plate.centre.x - plate.width / 2));
  const right = Math.max(...plates.map((plate) => plate.centre.x + plate.width / 2));
  const top = Math.min(...plates.map((plate) => plate.centre.y - plate.height / 2));
  const bottom = Math.max(...plates.map((plate) => plate.centre.y + plate.height / 2));
  return { x: left - 16, y: top - 14, width: right - left + 32, height: bottom - top + 28 };
}

const SLOT = { width: 150, height: 96 };

/** A place for one more plate, as near to `near` as the others leave room. */
export function freeSpot(plates: Plate[], near: Point): Point {
  const apart = (at: Point) =>
    plates.every(
      ({ centre, width, height }) =>
        Math.abs(centre.x - at.x) > (width + SLOT.width) / 2 ||
        Math.abs(centre.y - at.y) > (height + SLOT.height) / 2,
    );
  for (let ring = 0; ; ring++) {
    const around: Point[] = [];
    for (let column = -ring; column <= ring; column++) {
      for (let row = -ring; row <= ring; row++) {
        if (Math.max(Math.abs(column), Math.abs(row)) < ring) continue;
        around.push({ x: near.x + column * SLOT.width, y: near.y + row * SLOT.height });
      }
    }
    const free = around.filter(apart);
    const far = ({ x, y }: Point) => Math.hypot(x - near.x, y - near.y);
    if (free.length) return free.reduce((best, each) => (far(each) < far(best) ? each : best));
  }
}

export const contains = (box: Box, at: Point) =>
  at.x > box.x && at.x < box.x + box.width && at.y > box.y && at.y < box.y + box.height;

/** Whether a plate, with its tabs, reaches into a box. */
export function reaches(plate: Plate, box: Box): boolean {
  const [w, h] = [plate.width / 2 + 60, plate.height / 2 + 40];
  return (
    plate.centre.x + w > box.x &&
    plate.centre.x - w < box.x + box.width &&
    plate.centre.y + h > box.y &&
    plate.centre.y - h < box.y + box.height
  );
}

/** The link at an interface, seen from it: its mouth and where the link leads. `far`: it is the second end. */
export function linkAt(scene: Scene, at: string): { from: Point; to: Point; far: boolean } | null {
  const end = scene.parents.get(at) ?? at;
  const link = scene.linkOf.get(end);
  if (!link) return null;
  const far = link.a !== end;
  return far ? { from: link.to, to: link.from, far } : { from: link.from, to: link.to, far };
}

/** Where a list lies at an attachment point: across its lane, a little way from the interface. */
export interface Spot {
  centre: Point;
  /** Unit vector along the lane. */
  way: Point;
  /** Unit vector away from the other lane. */
  away: Point;
}

/** `order` counts the lists that lie across the same lane already, as those of several subinterfaces do. */
export function spotAt(
  scene: Scene,
  point: { device: string; at: string; direction: string },
  order: number,
): Spot | null {
  const link = linkAt(scene, `${point.device}:${point.at}`);
  if (!link) return null;
  const length = lengthOf(link.from, link.to) || 1;
  const distance = Math.min(15 + 20 * order, length * 0.45);
  const sign = point.direction === "out" ? 1 : -1;
  const way = { x: (link.to.x - link.from.x) / length, y: (link.to.y - link.from.y) / length };
  return {
    centre: along(link.from, link.to, distance, sign * LANE),
    way,
    away: { x: -way.y * sign, y: way.x * sign },
  };
}

/** The name lies on the far side of the lane, so that it never covers the other one. */
export function labelBox(spot: Spot, name: string): { x: number; y: number; width: number } {
  const width = tagWidth(name);
  const { centre, away } = spot;
  if (Math.abs(away.x) > Math.abs(away.y)) {
    return { x: away.x > 0 ? centre.x + 8 : centre.x - 8 - width, y: centre.y - TAG_HEIGHT / 2, width };
  }
  return { x: centre.x - width / 2, y: away.y > 0 ? centre.y + 8 : centre.y - 8 - TAG_HEIGHT, width };
}

/** The physical lane of an attachment point: what lies across the same lane is drawn side by side. */
export const laneOf = (scene: Scene, point: { device: string; at: string; direction: string }) =>
  `${scene.parents.get(`${point.device}:${point.at}`) ?? `${point.device}:${point.at}`}:${point.direction}`;
