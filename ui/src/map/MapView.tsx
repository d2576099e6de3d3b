import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Network } from "../api/client";
import { Lens } from "../policy/Lens";
import { useWorkbench } from "../shell/context";
import { rem } from "../shell/Split";
import { Stage } from "../shell/Stage";
import { AddDevice } from "./AddDevice";
import { Foot } from "./Foot";
import { BESIDE, closeness } from "./fitting";
import {
  along,
  asPut,
  type Box,
  boundsOf,
  buildScene,
  deviceOf,
  LANE,
  type Link,
  lengthOf,
  type Point,
  type Scene,
} from "./geometry";
import { NoDevices } from "./NoDevices";
import { Plates } from "./Plates";
import { Endings, Ribbons } from "./Ribbons";
import { SiteFolds } from "./SiteFolds";
import { Tags } from "./Tags";
import { Targets } from "./Targets";
import { usePositions } from "./usePositions";
import { type Size, useViewport, type View as ViewOf } from "./useViewport";
import { Clouds, SegmentNames } from "./WayMarks";
import { devicesOf, joinedBy, wayOf } from "./wayScene";
import { ribbonsOf } from "./ways";

/** Networks of more devices than this do not fit into the window at a size that can be read. */
const LARGE = 60;

/** The map: what is connected to what, which lists stand where, and the way of the chosen flow. */
export function MapView() {
  const { network, shown, places, place, go, trace, exchange, hop, carried } = useWorkbench();
  const { positions, ready, laid, setDragged } = usePositions(network.draft);
  const [size, setSize] = useState({ width: 1, height: 1 });
  const large = network.draft.devices.length > LARGE;
  const section = useRef<HTMLElement>(null);
  const [adding, setAdding] = useState<string | null>(null);

  // What is looked at: the way of a flow, or the devices that a requirement, a finding or a choice speaks of.
  const ways = useWays();
  const [whole, setWhole] = useState(false);
  const looked = ways.map((way) => way.join(" ")).join("|");
  useEffect(() => setWhole(false), [looked]);
  const chosen = place.chosen?.startsWith("device:") ? place.chosen.slice(7) : null;
  const own = useMemo(() => {
    const way = large && !whole && !carried ? wayOf(shown, ways, size) : null;
    return way && (chosen === null || way.positions.has(chosen)) ? way : null;
  }, [large, whole, carried, shown, looked, size, chosen]);
  const drawn = own?.positions ?? positions;
  const onWay = useMemo(
    () => (large || whole || carried ? null : new Set(ways.flat().filter((name) => positions.has(name)))),
    [large, whole, carried, looked, positions],
  );
  const looking = onWay && onWay.size > 1 ? onWay : null;
  const closer = useMemo(() => {
    const points = looking ? [...looking].flatMap((name) => drawn.get(name) ?? []) : [...drawn.values()];
    return closeness(points, size, rem(), own ? BESIDE.way : looking ? BESIDE.map : undefined);
  }, [looking, own, drawn, size]);
  const scene = useMemo(
    () => buildScene(own?.network ?? shown, drawn, places, closer),
    [own, shown, drawn, places, closer],
  );
  const bounds = useMemo(() => {
    const plates = scene.plates.filter((plate) => looking?.has(plate.device.name) ?? true);
    const box = boundsOf(plates);
    // Tabs, lists beside their lanes and clouds stand out from the plates.
    const beside = own ? BESIDE.way : BESIDE.map;
    if (!looking && !own) return box;
    return {
      x: box.x - beside.width / 2,
      y: box.y - beside.height * (own ? 0.65 : 0.5),
      width: box.width + beside.width,
      height: box.height + beside.height,
    };
  }, [scene, looking, own]);
  const { svg, drawing, scale, view, fit, zoomBy, reveal, middle } = useViewport(
    bounds,
    ready || own !== null,
    useCallback(
      (next: Size) =>
        setSize((before) => (before.width === next.width && before.height === next.height ? before : next)),
      [],
    ),
  );
  useEffect(() => {
    if (looked || own) fit();
  }, [looked, own, fit]);

  const [focused, setFocused] = useState(false);
  const neighbours = useMemo(
    () => (focused && chosen ? neighbourhood(network.draft, chosen) : null),
    [focused, chosen, network.draft],
  );
  const focus = neighbours ?? looking;
  const traced = trace?.exchanges[exchange];
  const drawable = ready || own !== null;
  const ribbons = useMemo(
    () => (traced && drawable ? ribbonsOf(scene, traced) : []),
    [scene, traced, drawable],
  );
  const marked = hop && traced ? (traced[hop.way]?.hops[hop.index]?.device ?? null) : null;

  // What is chosen elsewhere is brought into the window: a device, the place hovered over.
  const latest = useRef(scene);
  latest.current = scene;
  const centres = useCallback((names: string[]) => {
    const wanted = new Set(names);
    const found = latest.current.plates.filter((plate) => wanted.has(plate.device.name));
    return found.map((plate) => plate.centre);
  }, []);
  useEffect(() => {
    if (ready && chosen) reveal(centres([chosen]));
  }, [ready, chosen, reveal, centres]);
  const over = carried?.over?.device;
  useEffect(() => {
    if (ready && over) reveal(centres([over]));
  }, [ready, over, reveal, centres]);
  useEffect(() => {
    if (carried) section.current?.focus();
  }, [carried !== null]);

  const far = view.level === "far" && large && !own;
  return (
    <section
      ref={section}
      aria-label="Map"
      data-keys
      tabIndex={-1}
      className="relative flex min-h-0 flex-col outline-none"
    >
      <svg
        ref={svg}
        role="group"
        aria-label="Devices and placed lists"
        aria-busy={!drawable}
        className="min-h-0 w-full flex-1 touch-none select-none"
      >
        <g ref={drawing} className={drawable ? "" : "opacity-0"}>
          {far ? (
            <SiteFolds scene={scene} unit={view.unit} onOpen={reveal} />
          ) : (
            <>
              <g className={carried ? "opacity-45" : ""}>
                {own && <SegmentNames scene={scene} />}
                {own && <Clouds clouds={own.clouds} closer={closer} onOpen={() => setWhole(true)} />}
                <Links scene={scene} view={view} focus={focus} />
                {traced && <Ribbons ribbons={ribbons} verdict={traced.verdict} />}
                <Plates
                  scene={scene}
                  view={view}
                  scale={scale}
                  marked={marked}
                  focus={focus}
                  fixed={own !== null}
                  onDrag={(drag) => setDragged(drag && { device: drag.device, at: asPut(scene, drag.at) })}
                />
                {view.level !== "far" && <Tags scene={scene} view={view} focus={focus} />}
                <Endings ribbons={ribbons} />
              </g>
              <Lens scene={scene} view={view} />
              <Targets scene={scene} view={view} />
            </>
          )}
        </g>
      </svg>
      {!drawable && network.draft.devices.length > 0 && (
        <div className="absolute inset-x-0 top-1/3 flex flex-col items-center gap-1 px-4">
          <Stage words={`${network.draft.devices.length} devices are being laid out`} done={laid} />
          <p className="quiet">The book and the lists can be used meanwhile.</p>
        </div>
      )}
      {network.draft.devices.length === 0 && adding === null && <NoDevices onLine={setAdding} />}
      <AddDevice scene={scene} middle={middle} line={adding} onLine={setAdding} />
      <div className="absolute top-2 right-2 flex gap-1">
        {large && ways.length > 0 && (
          <button
            type="button"
            className="button aria-pressed:border-ink aria-pressed:font-semibold"
            aria-pressed={own !== null}
            title="Only the devices of its way, in order"
            onClick={() => setWhole(!whole)}
          >
            Its way only
          </button>
        )}
        <button type="button" className="button" aria-label="Closer" onClick={() => zoomBy(1.3)}>
          +
        </button>
        <button type="button" className="button" aria-label="Further away" onClick={() => zoomBy(1 / 1.3)}>
          −
        </button>
        <button
          type="button"
          className="button aria-pressed:border-ink aria-pressed:font-semibold"
          aria-pressed={focused}
          data-key="n"
          title="Only the device that is chosen and its neighbours (n)"
          onClick={() => setFocused(!focused)}
        >
          Neighbours
        </button>
        <button
          type="button"
          className="button"
          data-key="f"
          title="f"
          onClick={() => {
            if (place.test && !large) go({ test: null });
            fit();
          }}
        >
          Fit
        </button>
      </div>
      <Foot />
      {carried && <Ghost name={carried.list.name} />}
    </section>
  );
}

/** The devices that are to be seen, way by way: of the traced flow, else of what is chosen. */
function useWays(): string[][] {
  const { network, trace, place, trial, lens } = useWorkbench();
  return useMemo(() => {
    if (trace) return devicesOf(trace);
    const chosen = place.chosen ?? "";
    const spoken = new Set<string>();
    if (chosen.startsWith("devices:")) for (const name of chosen.slice(8).split(",")) spoken.add(name);
    if (chosen.startsWith("requirement:")) {
      const found = network.draft.requirements.find((each) => `requirement:${each.id}` === chosen);
      const words = new Set(found?.statement.split(/[\s,:→]+/));
      for (const { name } of network.draft.devices) if (words.has(name)) spoken.add(name);
      for (const point of lens.shown?.points ?? []) spoken.add(point.device);
    }
    for (const change of trial?.edit.changes ?? []) {
      if (change.collection === "placements") spoken.add(change.key.split(":")[0] ?? "");
    }
    return spoken.size > 1 ? joinedBy(network.draft, [...spoken]) : [];
  }, [network.draft, trace, place.chosen, trial, lens.shown]);
}

/** From afar every link is one thin line; near, two lanes. */
function Links({ scene, view, focus }: { scene: Scene; view: ViewOf; focus: ReadonlySet<string> | null }) {
  if (view.level === "far") {
    const path = scene.links.map(({ from, to }) => `M${from.x} ${from.y}L${to.x} ${to.y}`).join("");
    return (
      <path d={path} vectorEffect="non-scaling-stroke" className="fill-none stroke-lane" strokeWidth="0.9" />
    );
  }
  return (
    <>
      {scene.links
        .filter(({ from, to }) => crosses(from, to, view.box))
        .map((link) => (
          <g
            key={`${link.a} ${link.b}`}
            className={
              focus && !(focus.has(deviceOf(link.a)) && focus.has(deviceOf(link.b)))
                ? "opacity-30"
                : undefined
            }
          >
            <Lanes link={link} />
          </g>
        ))}
    </>
  );
}

const crosses = (from: Point, to: Point, box: Box) =>
  Math.max(from.x, to.x) > box.x &&
  Math.min(from.x, to.x) < box.x + box.width &&
  Math.max(from.y, to.y) > box.y &&
  Math.min(from.y, to.y) < box.y + box.height;

/** A device, its neighbours, and what stands behind its switches. */
function neighbourhood(network: Network, device: string): Set<string> {
  const switches = new Set(network.devices.filter((each) => each.kind === "switch").map((each) => each.name));
  const found = new Set([device]);
  let edge = [device];
  while (edge.length) {
    const next: string[] = [];
    for (const { ends } of network.links) {
      const [one, other] = ends.map(deviceOf) as [string, string];
      for (const [here, there] of [
        [one, other],
        [other, one],
      ] as const) {
        if (!edge.includes(here) || found.has(there)) continue;
        found.add(there);
        if (switches.has(there)) next.push(there);
      }
    }
    edge = next;
  }
  return found;
}

/** A link is two lanes, one for each way. */
function Lanes({ link }: { link: Link }) {
  return (
    <g className="stroke-lane" strokeDasharray={link.enabled ? undefined : "2 4"}>
      {[LANE, -LANE].map((aside) => {
        const start = along(link.from, link.to, 0, aside);
        const end = along(link.from, link.to, lengthOf(link.from, link.to), aside);
        return <line key={aside} x1={start.x} y1={start.y} x2={end.x} y2={end.y} strokeWidth="1.2" />;
      })}
    </g>
  );
}

/** The carried list's name, beside the pointer. */
function Ghost({ name }: { name: string }) {
  const [at, setAt] = useState<{ x: number; y: number } | null>(null);
  useEffect(() => {
    const onMove = (event: PointerEvent) => setAt({ x: event.clientX, y: event.clientY });
    window.addEventListener("pointermove", onMove);
    return () => window.removeEventListener("pointermove", onMove);
  }, []);
  if (!at) return null;
  return (
    <span
      className="pointer-events-none fixed z-30 border border-ink bg-ink px-2 font-mono text-fine text-fog"
      style={{ left: at.x + 14, top: at.y + 12 }}
    >
      {name}
    </span>
  );
}
