import ELK from "elkjs/lib/elk.bundled.js";
import { describe, expect, it } from "vitest";
import type { ExchangeReport, Places, TestMarks, TraceReport } from "../src/api/client";
import { arranged, neighbourhood, tidied, tidiedAbout } from "../src/map/arranging";
import { boundsOf, buildScene, type Drawing, laneAt } from "../src/map/geometry";
import { laidOut } from "../src/map/layout";
import { along, aroundPoints, beside, type Box, contains, cuts, lengthOf, overlap } from "../src/map/plane";
import { boxOf } from "../src/map/plates";
import { taken } from "../src/map/ports";
import { freeSpot, makeRoom } from "../src/map/room";
import { routed } from "../src/map/routes";
import { sitesOf } from "../src/map/sites";
import type { Wording } from "../src/map/wording";
import { devicesOf, joinedBy, wayOf } from "../src/map/wayScene";
import { ribbonsOf } from "../src/map/ways";
import { device, network, placed, positions, reserve } from "./networks";

const scene = (drawing?: Drawing) => buildScene(reserve(), positions, undefined, drawing);
const lists = (...ends: string[]) =>
  new Map(
    ends.map((end) => {
      const [at = "", direction = "in", text = "visitors"] = end.split(" ");
      return [at, [{ key: end, text, direction }]] as const;
    }),
  );

describe("lines on the plane", () => {
  it("goes along a line and aside to the right of it", () => {
    expect(along({ x: 0, y: 0 }, { x: 10, y: 0 }, 4, 0)).toEqual({ x: 4, y: 0 });
    const aside = along({ x: 0, y: 0 }, { x: 10, y: 0 }, 4, 3);
    expect(lengthOf({ x: 4, y: 0 }, aside)).toBe(3);
    const back = along({ x: 10, y: 0 }, { x: 0, y: 0 }, 6, 3);
    expect(Math.sign(aside.y)).toBe(-Math.sign(back.y));
  });
  it("keeps its distance from a line around its corners", () => {
    const corner = [
      { x: 0, y: 0 },
      { x: 10, y: 0 },
      { x: 10, y: 10 },
    ];
    expect(beside(corner, 2)).toEqual([
      { x: 0, y: 2 },
      { x: 8, y: 2 },
      { x: 8, y: 10 },
    ]);
  });
  it("knows whether a line comes through a box", () => {
    const box = { x: 0, y: 0, width: 10, height: 10 };
    expect(cuts({ x: -5, y: 5 }, { x: 15, y: 5 }, box)).toBe(true);
    expect(cuts({ x: -5, y: 5 }, { x: 5, y: 15.1 }, box)).toBe(false);
    expect(cuts({ x: 0, y: -5 }, { x: 0, y: 15 }, box)).toBe(false);
  });
});

describe("the scene", () => {
  it("leads every link from the edge of one plate to that of the other", () => {
    const { links, tabs } = scene();
    expect(links).toHaveLength(4);
    for (const { a, b, path } of links) {
      expect(path[0]).toEqual(tabs.get(a)?.edge);
      expect(path.at(-1)).toEqual(tabs.get(b)?.edge);
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
  it("says by its lane and its way which direction a list filters", () => {
    const inbound = scene({ hung: lists("sluice:eth1 in") }).tabs.get("sluice:eth1")?.tags[0];
    const outbound = scene({ hung: lists("sluice:eth1 out") }).tabs.get("sluice:eth1")?.tags[0];
    expect(inbound && outbound && lengthOf(inbound.lane, outbound.lane)).toBe(8);
    expect(inbound?.way.y).toBe(-1);
    expect(outbound?.way.y).toBe(1);
    const lane = laneAt(scene(), "sluice:eth1", "out")?.[0];
    expect(lane?.x).toBe(outbound?.lane.x);
  });
  it("draws an interface that leads nowhere where a list stands at it", () => {
    const drawn = scene({ hung: lists("sluice:eth0 in", "ledger:eth9 in") });
    expect(drawn.tabs.get("ledger:eth9")?.tags).toHaveLength(1);
    expect(drawn.linkOf.get("ledger:eth9")).toBeUndefined();
  });
  it("keeps plates, tabs and lists apart however close they were put", () => {
    const close = new Map([...positions].map(([name, { x, y }]) => [name, { x: x / 6, y: y / 6 }]));
    const hung = lists("sluice:eth0 in visitors-in-the-centre", "sluice:eth1 out b", "ledger:eth0 in c");
    const { plates, tabsOf } = buildScene(reserve(), close, undefined, { hung });
    const blocks = plates.map((plate) => [boxOf(plate), ...(tabsOf.get(plate.device.name) ?? []).flatMap(taken)]);
    for (const [at, one] of blocks.entries()) {
      for (const other of blocks.slice(at + 1)) {
        expect(one.some((box) => other.some((their) => overlap(box, their)))).toBe(false);
      }
    }
  });
  it("lets what is held stay where it is, and what nobody put give way", () => {
    const over = new Map(positions).set("till", { x: 10, y: 5 });
    const drawn = buildScene(reserve(), over, undefined, { held: new Set(["till"]), put: new Set(["ledger"]) });
    const at = (name: string) => drawn.plates.find(({ device }) => device.name === name)?.put;
    expect(at("till")).toEqual({ x: 10, y: 5 });
    expect(at("kiosk")).not.toEqual({ x: 0, y: 0 });
    expect(at("ledger")).toEqual(positions.get("ledger"));
  });
  it("says addresses where it is asked to, and the prefix of links beside their lanes", () => {
    const addressed = reserve();
    const [, , , router, host] = addressed.devices;
    if (router?.interfaces[1]) router.interfaces[1].addresses = ["2001:db8::1/64", "172.20.40.1/24"];
    if (host?.interfaces[0]) host.interfaces[0].addresses = ["172.20.40.7/24"];
    const segment = { members: ["sluice:eth1", "ledger:eth0"], prefixes: ["172.20.40.0/24"], switches: [], vlans: [] };
    const places = { segments: [segment], points: [] } as unknown as Places;
    const words = (wording: Wording) => buildScene(addressed, positions, places, { wording });
    expect(words("names").tabs.get("sluice:eth1")?.words).toEqual(["eth1"]);
    expect(words("both").tabs.get("sluice:eth1")?.words).toEqual(["eth1", "172.20.40.1/24"]);
    expect(words("addresses").labels.get("ledger")).toBe("172.20.40.7/24");
    expect(words("both").prefixes.map(({ text }) => text)).toEqual(["172.20.40.0/24"]);
    expect(words("names").prefixes).toEqual([]);
  });
  it("draws lists at a management line on its plate", () => {
    const withLine = reserve({ placements: [placed("wardens-only", "sluice remote in")] });
    const [tab] = buildScene(withLine, positions, undefined).lines;
    expect(tab?.lists.map((list) => list.name)).toEqual(["wardens-only"]);
  });
  it("finds the lane of a link from either end, each on its own side", () => {
    const drawn = scene();
    const there = laneAt(drawn, "sluice:eth1", "out");
    const back = laneAt(drawn, "ledger:eth0", "in");
    expect([...(back ?? [])].reverse()).toEqual(there);
    expect(laneAt(drawn, "sluice:lo0", "in")).toBeNull();
  });
  it("finds a spot for a new plate that no other one covers", () => {
    const boxes = scene().plates.map(boxOf);
    const { x, y } = freeSpot(boxes, { width: 100, height: 40 }, { x: 100, y: 280 });
    const spot: Box = { x: x - 50, y: y - 20, width: 100, height: 40 };
    expect(boxes.every((box) => !overlap(box, spot))).toBe(true);
  });
  it("bounds all plates", () => {
    const { plates } = scene();
    const box = boundsOf(plates);
    expect(plates.every((plate) => contains(box, plate.centre))).toBe(true);
  });
});

describe("room", () => {
  it("moves apart what lies over each other, and nothing else", () => {
    const block = (x: number, y: number, weight = 0) => ({ box: { x, y, width: 40, height: 20 }, weight });
    const moves = makeRoom([block(0, 0), block(5, 0), block(500, 0)], 4);
    const [one, other, far] = moves;
    expect((other?.y ?? 0) - (one?.y ?? 0)).toBeGreaterThanOrEqual(24);
    expect(far).toEqual({ x: 0, y: 0 });
    expect(makeRoom([block(0, 0, 1), block(5, 2)], 4)[0]).toEqual({ x: 0, y: 0 });
  });
  it("is around all points", () => {
    expect(aroundPoints([{ x: 3, y: 4 }, { x: -1, y: 9 }])).toEqual({ x: -1, y: 4, width: 4, height: 5 });
  });
});

describe("the ways of links", () => {
  const [from, to] = [{ x: 0, y: 0 }, { x: 200, y: 0 }];
  it("are straight where that is free", () => {
    expect(routed([{ from, to }], [{ x: 50, y: 40, width: 40, height: 40 }])).toEqual([[from, to]]);
  });
  it("go around what lies between, each beside the other", () => {
    const wall = { x: 80, y: -60, width: 40, height: 130 };
    const below = { from: { x: 0, y: 6 }, to: { x: 200, y: 6 } };
    const [one = [], other = []] = routed([{ from, to }, below], [wall]);
    for (const way of [one, other]) {
      way.slice(1).forEach((point, at) => expect(cuts(way[at] ?? point, point, wall)).toBe(false));
    }
    expect(one.slice(1, -1)).not.toEqual(other.slice(1, -1));
  });
  it("go straight where nothing else leads there", () => {
    const cell = [
      { x: 180, y: -20, width: 40, height: 10 },
      { x: 180, y: 10, width: 40, height: 10 },
      { x: 170, y: -20, width: 10, height: 40 },
      { x: 220, y: -20, width: 10, height: 40 },
    ];
    expect(routed([{ from, to }], cell)).toEqual([[from, to]]);
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
  it("tidies all, or a device and its neighbours about where it stands", () => {
    const found = new Map([...positions].map(([name, { x, y }]) => [name, { x: x + 1000, y }]));
    expect(tidied(found)).toMatchObject({ do: "arrange", moved: null });
    expect([...neighbourhood(reserve(), "ledger")].sort()).toEqual(["ledger", "sluice"]);
    const near = tidiedAbout(reserve(), scene(), "ledger", found.set("sluice", { x: 1160, y: 280 }));
    const at = (name: string) => near.do === "arrange" && near.positions.find((each) => each.device === name);
    expect(at("ledger")).toMatchObject({ x: 100, y: 460 });
    expect(at("sluice")).toMatchObject({ x: 160, y: 280 });
    expect(at("kiosk")).toMatchObject({ x: 0, y: 0 });
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
  it("stands what is outside on top, and hosts in rows beneath their switch", async () => {
    const hosts = Array.from({ length: 6 }, (_, at) => device(`host${at}`, "host", ["eth0"]));
    const devices = [...hosts, device("floor", "switch", []), device("gate", "router", []), device("beyond", "outside", [])];
    const links = ["gate:eth0 floor:u", "gate:eth1 beyond:eth0", ...hosts.map(({ name }, at) => `floor:p${at} ${name}:eth0`)];
    const found = await laidOut(new ELK(), network(devices, links), () => undefined);
    const y = (name: string) => found.get(name)?.y ?? 0;
    expect(y("beyond")).toBeLessThan(y("gate"));
    expect(y("gate")).toBeLessThan(y("floor"));
    expect(new Set(hosts.map(({ name }) => y(name))).size).toBe(2);
    expect(Math.min(...hosts.map(({ name }) => y(name)))).toBeGreaterThan(y("floor"));
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
    expect(out?.points.length).toBeGreaterThanOrEqual(6);
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
