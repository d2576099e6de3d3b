import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { ActionButton } from "../actions/ActionButton";
import type { Placement } from "../api/client";
import { Failed } from "../kit/Failed";
import { Menu } from "../kit/Menu";
import { useNotices } from "../kit/notices";
import { rem } from "../kit/Split";
import { Stage } from "../kit/Stage";
import { useFocusTaker } from "../state/focus";
import { chosenOf, go, useLocation } from "../state/location";
import { pictureOf, savePng, saveSvg } from "../state/picture";
import { pointKey } from "../state/points";
import { useCarrying, useHover } from "../workbench/carrying";
import { useForeseen } from "../workbench/foreseen";
import { useHandler } from "../workbench/handlers";
import { useLens } from "../workbench/lens";
import { useOpened } from "../workbench/opened";
import { useTracing } from "../workbench/tracing";
import { useTrial } from "../workbench/trial";
import { AddDevice } from "./AddDevice";
import { neighbourhood, tidied, tidiedAbout } from "./arranging";
import { Foot } from "./Foot";
import { boundsOf, buildScene, deviceOf, type Link, type Scene } from "./geometry";
import { InterfaceNote } from "./InterfaceNote";
import { Lens } from "./Lens";
import { layOut } from "./layout";
import { NoDevices } from "./NoDevices";
import { Plates } from "./Plates";
import { around, aroundPoints, beside, overlap, type Point } from "./plane";
import { LANE } from "./ports";
import { Remaining } from "./Remaining";
import { Endings, Ribbons } from "./Ribbons";
import { SiteFolds } from "./SiteFolds";
import { Tags } from "./Tags";
import { Targets } from "./Targets";
import { useHung } from "./useHung";
import { usePositions } from "./usePositions";
import { useShownNetwork } from "./useShown";
import { NEAR, type Size, useViewport, type Viewed } from "./useViewport";
import { Clouds, Prefixes } from "./WayMarks";
import { useWording, WordingMenu } from "./WordingMenu";
import { devicesOf, joinedBy, wayOf } from "./wayScene";
import { ribbonsOf } from "./ways";

/** Networks of more devices than this do not fit into the window at a size that can be read. */
const LARGE = 60;
/** What the clouds of a way take above it. */
const CLOUDS = 40;

/** The map: what is connected to what, which lists stand where, and the way of the chosen flow. */
export function MapView() {
  const { network, places, reads } = useOpened();
  const { shown: traced, hop } = useTracing();
  const { carried } = useCarrying();
  const shown = useShownNetwork();
  const { over } = useHover();
  const location = useLocation();
  const { positions, put, held, ready, laidOut, setDragged } = usePositions(network.draft);
  const [size, setSize] = useState({ width: 1, height: 1 });
  const large = network.draft.devices.length > LARGE;
  const section = useRef<HTMLElement>(null);
  const [adding, setAdding] = useState<string | null>(null);

  // What is looked at: the way of a flow, or the devices that a requirement, a finding or a choice speaks of.
  const looked = useLooked();
  const ways = useMemo(() => waysIn(looked), [looked]);
  const [wholeFor, setWholeFor] = useState<string | null>(null);
  const whole = wholeFor === looked;
  const chosen = chosenOf(location, "device");
  const [wording, setWording] = useWording();
  const [pointed, setPointed] = useState<string | null>(null);
  const { hung, tags } = useHung(shown);
  const map = useMemo(
    () => buildScene(shown, positions, places, { hung, put, held, wording }),
    [shown, positions, places, hung, put, held, wording],
  );
  const readable = useMemo(() => !large && canBeRead(map, ways.flat(), size), [large, map, ways, size]);
  const own = useMemo(() => {
    const way = !readable && !whole && !carried ? wayOf(shown, ways, size) : null;
    return way && (chosen === null || way.positions.has(chosen)) ? way : null;
  }, [readable, whole, carried, shown, ways, size, chosen]);
  const onWay = useMemo(
    () => (large || whole || carried ? null : new Set(ways.flat().filter((name) => positions.has(name)))),
    [large, whole, carried, ways, positions],
  );
  const looking = !own && onWay && onWay.size > 1 ? onWay : null;
  const ownScene = useMemo(
    () => own && buildScene(own.network, own.positions, places, { hung, wording, prefixed: true }),
    [own, places, hung, wording],
  );
  const scene = ownScene ?? map;
  const bounds = useMemo(() => {
    const plates = scene.plates.filter((plate) => looking?.has(plate.device.name) ?? true);
    const box = around([
      boundsOf(plates, scene.tabsOf),
      ...(own ? scene.prefixes.map((each) => each.box) : []),
    ]);
    // Clouds stand out from the plates of a way.
    return own ? { ...box, y: box.y - CLOUDS, height: box.height + CLOUDS } : box;
  }, [scene, looking, own]);
  const { svg, drawing, scale, view, fit, zoomBy, reveal } = useViewport(
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
  const drawable = ready || own !== null;
  const ribbons = useMemo(
    () => (traced && drawable ? ribbonsOf(scene, traced) : []),
    [scene, traced, drawable],
  );
  const marked = hop && traced ? (traced[hop.way]?.hops[hop.index]?.device ?? null) : null;

  // What is chosen elsewhere is brought into the window: a device, the place hovered over.
  const latest = useRef(scene);
  useEffect(() => {
    latest.current = scene;
  });
  const centres = useCallback((names: string[]) => {
    const wanted = new Set(names);
    const found = latest.current.plates.filter((plate) => wanted.has(plate.device.name));
    return found.map((plate) => plate.centre);
  }, []);
  useEffect(() => {
    if (ready && chosen) reveal(centres([chosen]));
  }, [ready, chosen, reveal, centres]);
  const hovered = over?.device;
  useEffect(() => {
    if (ready && hovered) reveal(centres([hovered]));
  }, [ready, hovered, reveal, centres]);
  const carrying = carried !== null;
  useEffect(() => {
    if (carrying) section.current?.focus();
  }, [carrying]);
  useFocusTaker("map", () => section.current?.focus());
  const fitAll = () => {
    if (location.test && !large) go({ test: null });
    fit();
  };
  useHandler("map.fit", fitAll);
  useHandler("map.neighbours", () => setFocused(!focused));
  const { fail } = useNotices();
  const tidy = useTidy(scene);
  useHandler("map.tidy", () => tidy(chosen));
  const saveMap = () => svg.current && saveSvg(pictureOf(svg.current), "map");
  const saveMapDots = () => svg.current && savePng(pictureOf(svg.current), "map").catch(fail);
  useHandler("map.svg", saveMap);
  useHandler("map.png", saveMapDots);

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
        <g ref={drawing}>
          {!drawable ? null : far ? (
            <SiteFolds scene={scene} unit={view.unit} onOpen={reveal} />
          ) : (
            <>
              <g className={carried ? "opacity-45" : ""}>
                {view.level === "near" && <Prefixes scene={scene} focus={focus} />}
                {own && (
                  <Clouds
                    clouds={own.clouds}
                    scene={scene}
                    unit={view.unit * rem()}
                    onOpen={() => setWholeFor(looked)}
                  />
                )}
                <Links scene={scene} view={view} focus={focus} />
                {traced && <Ribbons ribbons={ribbons} verdict={traced.verdict} />}
                <Plates
                  scene={scene}
                  view={view}
                  scale={scale}
                  marked={marked}
                  focus={focus}
                  fixed={own !== null}
                  onPoint={setPointed}
                  onDrag={(drag) => setDragged(drag)}
                />
                {view.level !== "far" && <Tags scene={scene} view={view} tags={tags} focus={focus} />}
                <Endings ribbons={ribbons} />
              </g>
              <Remaining scene={scene} view={view} />
              <Lens scene={scene} view={view} />
              <Targets scene={scene} view={view} />
            </>
          )}
        </g>
      </svg>
      {!drawable && network.draft.devices.length > 0 && (
        <div className="absolute inset-x-0 top-1/3 flex flex-col items-center gap-1 px-4">
          {laidOut.isFetching && (
            <Stage words={`${network.draft.devices.length} devices are being laid out`} done={laidOut.done} />
          )}
          <Failed of={laidOut} again="Lay it out again" />
          <p className="quiet">The book and the lists can be used meanwhile.</p>
        </div>
      )}
      {network.draft.devices.length === 0 && adding === null && <NoDevices onLine={setAdding} />}
      <div className="pointer-events-none absolute inset-x-2 top-2 flex flex-wrap gap-1 *:pointer-events-auto">
        <AddDevice line={adding} onLine={setAdding} />
        <WordingMenu wording={wording} onChange={setWording} />
        <span className="grow" />
        {(large || !readable) && ways.length > 0 && (
          <button
            type="button"
            className="button aria-pressed:border-ink aria-pressed:font-semibold"
            aria-pressed={own !== null}
            title="Only the devices of its way, in order"
            onClick={() => setWholeFor(whole ? null : looked)}
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
        <ActionButton
          action="map.neighbours"
          className="button aria-pressed:border-ink aria-pressed:font-semibold"
          pressed={focused}
          title="Only the device that is chosen and its neighbours (n)"
        >
          Neighbours
        </ActionButton>
        <ActionButton
          action="map.tidy"
          title={chosen ? `Lay out ${chosen} and its neighbours anew (F)` : "Lay out all devices anew (F)"}
        >
          Tidy
        </ActionButton>
        <ActionButton action="map.fit">Fit</ActionButton>
        <Menu
          className="button"
          items={[
            ["Save as SVG", saveMap],
            ["Save as PNG", saveMapDots],
          ]}
        >
          Picture ▾
        </Menu>
      </div>
      {pointed && !carried && (
        <div className="relative">
          <InterfaceNote of={pointed} />
        </div>
      )}
      <Failed of={reads.places} className="px-4 py-1.5" />
      <Foot />
      {carried && <Ghost name={carried.list.name} />}
    </section>
  );
}

/** The devices that are to be seen, way by way, as one text: of the traced flow, else of what is chosen. */
function useLooked(): string {
  const { network } = useOpened();
  const { trace } = useTracing();
  const { trial } = useTrial();
  const { placements } = useForeseen();
  const { chosen } = useLocation();
  const { shown: choice } = useLens();
  return useMemo(() => {
    if (trace) return asText(devicesOf(trace));
    const spoken = new Set(chosenOf({ chosen }, "devices")?.split(","));
    const required = chosenOf({ chosen }, "requirement");
    if (required !== null) {
      const found = network.draft.requirements.find(({ id }) => id === required);
      const words = new Set(found?.statement.split(/[\s,:→]+/));
      for (const { name } of network.draft.devices) if (words.has(name)) spoken.add(name);
      for (const point of choice?.points ?? []) spoken.add(point.device);
    }
    if (trial && placements) {
      for (const { device } of differing(network.draft.placements, placements)) spoken.add(device);
    }
    return spoken.size > 1 ? asText(joinedBy(network.draft, [...spoken])) : "";
  }, [network.draft, trace, chosen, trial, placements, choice]);
}

/** Whether words can be read where all of these devices are in the window. */
function canBeRead(map: Scene, names: string[], window: Size): boolean {
  const wanted = new Set(names);
  const plates = map.plates.filter((plate) => wanted.has(plate.device.name));
  if (plates.length < 2) return true;
  const box = boundsOf(plates, map.tabsOf);
  return Math.min(window.width / box.width, window.height / box.height) >= NEAR * rem();
}

const asText = (ways: string[][]) => ways.map((way) => way.join(" ")).join("|");
const waysIn = (text: string) => (text ? text.split("|").map((way) => way.split(" ")) : []);

/** Placements that are in one of two only. */
function differing(before: Placement[], after: Placement[]): Placement[] {
  const key = (placed: Placement) => `${pointKey(placed)}:${placed.list}`;
  const [had, has] = [new Set(before.map(key)), new Set(after.map(key))];
  return [...before.filter((each) => !has.has(key(each))), ...after.filter((each) => !had.has(key(each)))];
}

/** From afar every link is one thin line; near, two lanes. */
function Links({ scene, view, focus }: { scene: Scene; view: Viewed; focus: ReadonlySet<string> | null }) {
  if (view.level === "far") {
    const path = scene.links.map((link) => drawnAs(link.path)).join("");
    return (
      <path d={path} vectorEffect="non-scaling-stroke" className="fill-none stroke-lane" strokeWidth="0.9" />
    );
  }
  return (
    <>
      {scene.links
        .filter(({ path }) => overlap(aroundPoints(path), view.box))
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

const drawnAs = (path: Point[]) => `M${path.map(({ x, y }) => `${x} ${y}`).join("L")}`;

/** Lay out the map anew: all of it, or a device and its neighbours about where that stands. */
function useTidy(scene: Scene) {
  const { network, make } = useOpened();
  const { fail, say } = useNotices();
  return (device: string | null) => {
    if (network.draft.devices.length > LARGE)
      say(`${network.draft.devices.length} devices are being laid out.`);
    return layOut(network.draft, () => undefined)
      .then((found) =>
        make(device === null ? tidied(found) : tidiedAbout(network.draft, scene, device, found)),
      )
      .catch(fail);
  };
}

/** A link is two lanes, one for each way. */
function Lanes({ link }: { link: Link }) {
  return (
    <g
      data-link={`${link.a} ${link.b}`}
      className="stroke-lane"
      strokeDasharray={link.enabled ? undefined : "2 4"}
    >
      {[LANE, -LANE].map((aside) => (
        <path key={aside} d={drawnAs(beside(link.path, aside))} className="fill-none" strokeWidth="1.2" />
      ))}
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
