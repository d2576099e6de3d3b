import ELK from "elkjs/lib/elk.bundled.js";
import { describe, expect, it } from "vitest";
import type { ExchangeReport, TestMarks, TraceReport } from "../src/api/client";
import { arranged } from "../src/map/arranging";
import { around, closeness, spreadOut } from "../src/map/fitting";
import { asPut, boundsOf, buildScene, contains, freeSpot, laneOf, linkAt, spotAt } from "../src/map/geometry";
import { laidOut } from "../src/map/layout";
import { along, lengthOf } from "../src/map/plane";
import { sitesOf } from "../src/map/sites";
import { devicesOf, joinedBy, wayOf } from "../src/map/wayScene";
import { ribbonsOf } from "../src/map/ways";
import { device, network, placed, positions, reserve } from "./networks";

const scene = () => buildScene(reserve(), positions, undefined);
const apart = (a: { x: number; width: number }, b: { x: number; width: number }) =>
  Math.abs(a.x - b.x) >= (a.width + b.width) / 2;

describe("lines on the plane", () => {
  it("goes along a line and aside to the right of it", () => {
    expect(along({ x: 0, y: 0 }, { x: 10, y: 0 }, 4, 0)).toEqual({ x: 4, y: 0 });
    const aside = along({ x: 0, y: 0 }, { x: 10, y: 0 }, 4, 3);
    expect(lengthOf({ x: 4, y: 0 }, aside)).toBe(3);
    const back = along({ x: 10, y: 0 }, { x: 0, y: 0 }, 6, 3);
    expect(Math.sign(aside.y)).toBe(-Math.sign(back.y));
  });
});

describe("the scene", () => {
  it("joins every link to a mouth on the edge of both plates", () => {
    const { links, plates, tabs } = scene();
    expect(links).toHaveLength(4);
    for (const { a, from } of links) {
      const tab = tabs.get(a);
      const plate = plates.find((each) => each.device.name === tab?.device);
      expect(tab?.mouth).toEqual(from);
      expect(plate).toBeDefined();
    }
  });
  it("stretches a switch over what hangs on it", () => {
    const bar = scene().plates.find((plate) => plate.device.name === "floor");
    expect(bar?.width).toBeGreaterThan(200);
  });
  it("draws a link as disabled where an interface of it is", () => {
    const down = reserve();
    const end = down.devices.find((each) => each.name === "ledger")?.interfaces[0];
    if (end) end.enabled = false;
    const { links } = buildScene(down, positions, undefined);
    expect(links.map((link) => link.enabled)).toEqual([true, true, true, false]);
  });
  it("puts an inbound list and an outbound one in different lanes of one end", () => {
    const drawn = scene();
    const inbound = spotAt(drawn, placed("visitors", "sluice eth1 in"), 0);
    const outbound = spotAt(drawn, placed("visitors", "sluice eth1 out"), 0);
    expect(inbound && outbound && lengthOf(inbound.centre, outbound.centre)).toBeGreaterThan(4);
    expect(laneOf(drawn, placed("a", "sluice eth1 in"))).not.toBe(laneOf(drawn, placed("a", "sluice eth1 out")));
    expect(spotAt(drawn, placed("visitors", "sluice eth9 in"), 0)).toBeNull();
  });
  it("draws lists at a management line on its plate", () => {
    const withLine = reserve({ placements: [placed("wardens-only", "sluice remote in")] });
    const [tab] = buildScene(withLine, positions, undefined).lines;
    expect(tab?.lists.map((list) => list.name)).toEqual(["wardens-only"]);
  });
  it("finds a link from either end, with the way it is seen from there", () => {
    const drawn = scene();
    const one = linkAt(drawn, "sluice:eth1");
    const other = linkAt(drawn, "ledger:eth0");
    expect(one?.from).toEqual(other?.to);
    expect(linkAt(drawn, "sluice:lo0")).toBeNull();
  });
  it("lies closer together and still not over each other", () => {
    const near = buildScene(reserve(), positions, undefined, 1.5);
    const [kiosk, till] = near.plates;
    expect(kiosk && till && apart({ ...kiosk.centre, ...kiosk }, { ...till.centre, ...till })).toBe(true);
    expect(asPut(near, { x: 10, y: 20 })).toEqual({ x: 15, y: 30 });
  });
  it("finds a spot for a new plate that no other one covers", () => {
    const { plates } = scene();
    const spot = freeSpot(plates, { x: 100, y: 280 });
    for (const plate of plates) {
      const free =
        Math.abs(plate.centre.x - spot.x) >= plate.width / 2 || Math.abs(plate.centre.y - spot.y) >= plate.height / 2;
      expect(free).toBe(true);
    }
  });
  it("bounds all plates", () => {
    const { plates } = scene();
    const box = boundsOf(plates);
    expect(plates.every((plate) => contains(box, plate.centre))).toBe(true);
  });
});

describe("fitting", () => {
  it("leaves a map as it is where its words can be read", () => {
    expect(closeness([{ x: 0, y: 0 }], { width: 800, height: 600 }, 1)).toBe(1);
    expect(closeness([], { width: 800, height: 600 }, 1)).toBe(1);
  });
  it("moves plates closer where they could not, and gives up on maps that nothing helps", () => {
    const wide = [
      { x: 0, y: 0 },
      { x: 900, y: 0 },
    ];
    expect(closeness(wide, { width: 800, height: 600 }, 1)).toBeGreaterThan(1);
    const huge = Array.from({ length: 80 }, (_, place) => ({ x: place * 400, y: 0 }));
    expect(closeness(huge, { width: 800, height: 600 }, 1)).toBe(1);
  });
  it("spreads out what lies over each other, and nothing else", () => {
    const box = (x: number, y: number) => ({ centre: { x, y }, width: 40, height: 20 });
    const [one, other, far] = [box(0, 0), box(5, 0), box(500, 0)] as const;
    spreadOut([one, other, far], () => ({ x: 0, y: 0 }));
    expect(Math.abs(one.centre.x - other.centre.x) >= 40 || Math.abs(one.centre.y - other.centre.y) >= 20).toBe(true);
    expect(far.centre).toEqual({ x: 500, y: 0 });
  });
  it("is around all points", () => {
    expect(around([{ x: 3, y: 4 }, { x: -1, y: 9 }])).toEqual({ x: -1, y: 4, width: 4, height: 5 });
  });
});

describe("arranging", () => {
  it("keeps every plate where it lies when one is moved for the first time", () => {
    const intent = arranged(reserve(), scene(), { name: "kiosk", at: { x: 7.4, y: 9.6 } });
    expect(intent.do === "arrange" && intent.positions).toHaveLength(5);
    expect(intent).toMatchObject({ do: "arrange", moved: "kiosk" });
    expect(intent.do === "arrange" && intent.positions.at(-1)).toEqual({ device: "kiosk", x: 7, y: 10 });
  });
  it("moves one plate alone once all have been put", () => {
    const put = [...positions].map(([name, at]) => ({ device: name, ...at }));
    const intent = arranged(reserve({ positions: put }), scene(), { name: "till", at: { x: 1, y: 1 } });
    expect(intent.do === "arrange" && intent.positions.map((each) => each.device)).toEqual(["till"]);
  });
});

describe("the layout", () => {
  it("puts every device somewhere, and no two in the same place", async () => {
    const stages: number[] = [];
    const found = await laidOut(new ELK(), reserve(), (done) => stages.push(done));
    expect([...found.keys()].sort()).toEqual(["floor", "kiosk", "ledger", "sluice", "till"]);
    expect(new Set([...found.values()].map(({ x, y }) => `${x} ${y}`)).size).toBe(5);
    expect(stages).toEqual([...stages].sort((a, b) => a - b));
  });
  it("lays hosts of large networks beneath what they hang on", async () => {
    const hosts = Array.from({ length: 70 }, (_, at) => device(`host${at}`, "host", ["eth0"]));
    const switches = [0, 1, 2, 3, 4, 5, 6].map((at) => device(`floor${at}`, "switch", []));
    const links = [
      ...hosts.map((host, at) => `${host.name}:eth0 floor${at % 7}:p${at}`),
      ...[1, 2, 3, 4, 5, 6].map((at) => `floor0:u${at} floor${at}:u0`),
    ];
    const found = await laidOut(new ELK(), network([...hosts, ...switches], links), () => undefined);
    expect(found.size).toBe(77);
    for (const [at, { name }] of hosts.entries()) {
      expect(found.get(name)?.y).toBeGreaterThan(found.get(`floor${at % 7}`)?.y ?? 0);
    }
  });
});

describe("the way of a flow in a large network", () => {
  const large = reserve();
  it("joins devices by the shortest way", () => {
    expect(joinedBy(large, ["kiosk", "ledger"])).toEqual([["kiosk", "floor", "sluice", "ledger"]]);
    expect(joinedBy(large, ["nobody"])).toEqual([]);
  });
  it("draws the way alone and folds the rest into clouds, each device once", () => {
    const way = wayOf(large, [["kiosk", "floor", "sluice"]], { width: 800, height: 500 });
    expect(way?.network.devices.map((each) => each.name)).toEqual(["kiosk", "floor", "sluice"]);
    expect(way?.clouds.reduce((sum, cloud) => sum + cloud.count, 0)).toBe(2);
    expect(wayOf(large, [["nobody"]], { width: 800, height: 500 })).toBeNull();
  });
  it("goes to and fro in a narrow window", () => {
    const names = Array.from({ length: 8 }, (_, at) => `r${at}`);
    const chain = network(names.map((name) => device(name, "router", [])), []);
    const high = wayOf(chain, [names], { width: 500, height: 900 });
    const wide = wayOf(chain, [names], { width: 2400, height: 300 });
    const rows = (way: typeof high) => new Set([...(way?.positions.values() ?? [])].map(({ y }) => y)).size;
    expect(rows(wide)).toBe(1);
    expect(rows(high)).toBeGreaterThan(1);
  });
});

const hop = (name: string, links: string[][] = []) => ({ device: name, links, steps: [], ingress: null });
const exchange = (verdict: string, more: object = {}) =>
  ({
    verdict,
    decided_on: "out",
    deciding: null,
    out: {
      outcome: "arrived",
      hops: [
        hop("kiosk", [["kiosk:eth0", "floor:p1"], ["floor:p3", "sluice:eth0"]]),
        hop("sluice", [["sluice:eth1", "ledger:eth0"]]),
        hop("ledger"),
      ],
    },
    home: null,
    ...more,
  }) as unknown as ExchangeReport;

describe("the ribbons of a conversation", () => {
  it("runs through the lanes of every link, the switch's too, and arrives", () => {
    const [out] = ribbonsOf(scene(), exchange("passes"));
    expect(out?.ending).toBe("arrives");
    expect(out?.points).toHaveLength(6);
  });
  it("ends with a bar where a list denies, and with a ring where it gets lost", () => {
    const denied = exchange("blocked", {
      deciding: { device: "sluice", at: "eth1", direction: "out", list: "a", entry: 1 },
      out: { outcome: "denied", hops: exchange("blocked").out.hops.slice(0, 2).map((each) => ({ ...each })) },
    });
    expect(ribbonsOf(scene(), denied)[0]?.ending).toBe("bar");
    const lost = exchange("unreachable", { out: { outcome: "no_route", hops: [hop("kiosk")] } });
    expect(ribbonsOf(scene(), lost)[0]?.ending).toBe("ring");
  });
  it("names the devices of both ways in order, switches between", () => {
    const home = { outcome: "arrived", hops: [hop("ledger"), hop("sluice"), hop("kiosk")] };
    const trace = { queries: [], exchanges: [exchange("passes", { home })] } as unknown as TraceReport;
    expect(devicesOf(trace)).toEqual([
      ["kiosk", "floor", "sluice", "ledger"],
      ["kiosk", "sluice", "ledger"],
    ]);
  });
});

describe("sites", () => {
  it("counts what stands at a hub with its lists and surprises", () => {
    const found = sitesOf(reserve({ placements: [placed("visitors", "sluice eth0 in")] }), scene(), [] as TestMarks[]);
    expect(found.sites.map(({ name, devices, lists }) => [name, devices, lists])).toEqual([["around sluice", 5, 1]]);
    expect(found.links).toEqual([]);
  });
  it("goes by the site that devices name", () => {
    const named = reserve();
    for (const each of named.devices) each.site = each.name === "ledger" ? "lab" : "visitor centre";
    const found = sitesOf(named, scene(), []);
    expect(found.sites.map((site) => site.name).sort()).toEqual(["lab", "visitor centre"]);
    expect(found.links).toHaveLength(1);
  });
});
