import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Failed } from "../kit/Failed";
import { fail, say } from "../kit/notices";
import { rem } from "../kit/Split";
import { Stage } from "../kit/Stage";
import { useFocusTaker } from "../state/focus";
import { chosenOf, go, useLocation } from "../state/location";
import { pictureOf, savePng, saveSvg } from "../state/picture";
import { useCarrying, useOver } from "../workbench/carrying";
import { useHandler } from "../workbench/handlers";
import { useOpened, usePoints } from "../workbench/opened";
import { useShared } from "../workbench/store";
import { useTracing } from "../workbench/tracing";
import { neighbourhood, tidied, tidiedAbout } from "./arranging";
import { Foot } from "./Foot";
import type { Scene } from "./geometry";
import { InterfaceNote } from "./InterfaceNote";
import { Lens } from "./Lens";
import { layOut } from "./layout";
import { MapBar } from "./MapBar";
import { MapLinks } from "./MapLinks";
import { NoDevices } from "./NoDevices";
import { Plates } from "./Plates";
import { Remaining } from "./Remaining";
import { Endings, Ribbons } from "./Ribbons";
import { SiteFolds } from "./SiteFolds";
import { Tags } from "./Tags";
import { Targets } from "./Targets";
import { useHung } from "./useHung";
import { usePositions } from "./usePositions";
import { LARGE, useScene } from "./useScene";
import { useShownNetwork } from "./useShown";
import { type Size, useViewport } from "./useViewport";
import { Clouds, Prefixes } from "./WayMarks";
import { useWording } from "./WordingMenu";
import { ribbonsOf } from "./ways";

/** The map: what is connected to what, which lists stand where, and the way of the chosen flow. */
export function MapView() {
  const { network } = useOpened();
  const { read } = usePoints();
  const { carried } = useCarrying();
  const location = useLocation();
  const layout = usePositions(network.draft);
  const { ready } = layout;
  const [size, setSize] = useState({ width: 1, height: 1 });
  const [adding, setAdding] = useState<string | null>(null);
  const [pointed, setPointed] = useState<string | null>(null);
  const wording = useWording();
  const { hung, tags } = useHung(useShownNetwork());
  const drawn = useScene({ ...layout, hung, wording: wording[0], size });
  const { scene, own, looked } = drawn;
  const viewport = useViewport(
    drawn.bounds,
    ready || own !== null,
    useCallback(
      (next: Size) =>
        setSize((before) => (before.width === next.width && before.height === next.height ? before : next)),
      [],
    ),
  );
  const { svg, fit, zoomBy, reveal } = viewport;
  useEffect(() => {
    if (looked || own) fit();
  }, [looked, own, fit]);

  const chosen = chosenOf(location, "device");
  const [focused, setFocused] = useState(false);
  const neighbours = useMemo(
    () => (focused && chosen ? neighbourhood(network.draft, chosen) : null),
    [focused, chosen, network.draft],
  );
  const drawable = ready || own !== null;
  useRevealing(scene, ready, chosen, reveal);
  const section = useMapFocus(carried !== null);
  const large = network.draft.devices.length > LARGE;
  useHandler("map.fit", () => {
    if (location.test && !large) go({ test: null });
    fit();
  });
  useHandler("map.neighbours", () => setFocused(!focused));
  const layOutAnew = useLayingOut(scene);
  useHandler("map.layout", () => layOutAnew(chosen));
  const save = usePictures(svg);

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
        <g ref={viewport.drawing}>
          {drawable && (
            <Drawing
              drawn={drawn}
              viewport={viewport}
              tags={tags}
              focus={neighbours ?? drawn.looking}
              onPoint={setPointed}
              onDrag={layout.setDragged}
            />
          )}
        </g>
      </svg>
      {!drawable && <LayingOut of={layout.laidOut} />}
      {network.draft.devices.length === 0 && adding === null && <NoDevices onLine={setAdding} />}
      <MapBar
        adding={adding}
        onAdding={setAdding}
        wording={wording}
        way={drawn.separable ? own !== null : null}
        onWay={drawn.turnWhole}
        focused={focused}
        chosen={chosen}
        onZoom={zoomBy}
        save={save}
      />
      {pointed && !carried && (
        <div className="relative">
          <InterfaceNote of={pointed} />
        </div>
      )}
      <Failed of={read} className="px-4 py-1.5" />
      <Foot />
      {carried && <Ghost name={carried.list.name} />}
    </section>
  );
}

interface DrawingProps {
  drawn: ReturnType<typeof useScene>;
  viewport: ReturnType<typeof useViewport>;
  tags: ReturnType<typeof useHung>["tags"];
  focus: ReadonlySet<string> | null;
  onPoint: (end: string | null) => void;
  onDrag: ReturnType<typeof usePositions>["setDragged"];
}

/** What lies on the map, from its links upwards; of a large network from afar its sites. */
function Drawing({ drawn, viewport, tags, focus, onPoint, onDrag }: DrawingProps) {
  const { network } = useOpened();
  const { shown: traced } = useTracing();
  const hop = useShared((shared) => shared.hop);
  const { carried } = useCarrying();
  const { scene, own } = drawn;
  const { view, scale } = viewport;
  const ribbons = useMemo(() => (traced ? ribbonsOf(scene, traced) : []), [scene, traced]);
  const marked = hop && traced ? (traced[hop.way]?.hops[hop.index]?.device ?? null) : null;
  if (view.level === "far" && network.draft.devices.length > LARGE && !own)
    return <SiteFolds scene={scene} unit={view.unit} onOpen={viewport.reveal} />;
  return (
    <>
      <g className={carried ? "opacity-45" : ""}>
        {view.level === "near" && <Prefixes scene={scene} focus={focus} />}
        {own && (
          <Clouds clouds={own.clouds} scene={scene} unit={view.unit * rem()} onOpen={drawn.drawWhole} />
        )}
        <MapLinks scene={scene} view={view} focus={focus} />
        {traced && <Ribbons ribbons={ribbons} verdict={traced.verdict} />}
        <Plates
          scene={scene}
          view={view}
          scale={scale}
          marked={marked}
          focus={focus}
          fixed={own !== null}
          onPoint={onPoint}
          onDrag={onDrag}
        />
        {view.level !== "far" && <Tags scene={scene} view={view} tags={tags} focus={focus} />}
        <Endings ribbons={ribbons} />
      </g>
      <Remaining scene={scene} view={view} />
      <Lens scene={scene} view={view} />
      <Targets scene={scene} view={view} />
    </>
  );
}

function LayingOut({ of }: { of: ReturnType<typeof usePositions>["laidOut"] }) {
  const { network } = useOpened();
  const count = network.draft.devices.length;
  if (count === 0) return null;
  return (
    <div className="absolute inset-x-0 top-1/3 flex flex-col items-center gap-1 px-4">
      {of.isFetching && <Stage words={`${count} devices: laying out the map`} done={of.done} />}
      <Failed of={of} again="Lay it out again" />
      <p className="quiet">You can use the book and the lists meanwhile.</p>
    </div>
  );
}

/** What is chosen elsewhere is brought into the window: a device, the place hovered over. */
function useRevealing(
  scene: Scene,
  ready: boolean,
  chosen: string | null,
  reveal: ReturnType<typeof useViewport>["reveal"],
) {
  const over = useOver();
  const latest = useRef(scene);
  useEffect(() => {
    latest.current = scene;
  });
  const show = useCallback(
    (name: string) =>
      reveal(latest.current.plates.flatMap(({ device, centre }) => (device.name === name ? [centre] : []))),
    [reveal],
  );
  useEffect(() => {
    if (ready && chosen) show(chosen);
  }, [ready, chosen, show]);
  const hovered = over?.device;
  useEffect(() => {
    if (ready && hovered) show(hovered);
  }, [ready, hovered, show]);
}

/** The map takes the focus when it is asked for, and when a list is carried over it. */
function useMapFocus(carrying: boolean) {
  const section = useRef<HTMLElement>(null);
  useEffect(() => {
    if (carrying) section.current?.focus();
  }, [carrying]);
  useFocusTaker("map", () => section.current?.focus());
  return section;
}

/** The ways to save the map as it is seen, with their actions. */
function usePictures(of: React.RefObject<SVGSVGElement | null>) {
  const svg = () => of.current && saveSvg(pictureOf(of.current), "map");
  const png = () => of.current && savePng(pictureOf(of.current), "map").catch(fail);
  useHandler("map.svg", svg);
  useHandler("map.png", png);
  return { svg, png };
}

/** Lay out the map anew: all of it, or a device and its neighbours about where that stands. */
function useLayingOut(scene: Scene) {
  const { network, make } = useOpened();
  return (device: string | null) => {
    if (network.draft.devices.length > LARGE)
      say(`${network.draft.devices.length} devices: laying out the map.`);
    return layOut(network.draft, () => undefined)
      .then((found) =>
        make(device === null ? tidied(found) : tidiedAbout(network.draft, scene, device, found)),
      )
      .catch(fail);
  };
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
