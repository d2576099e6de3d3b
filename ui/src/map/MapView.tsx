import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Network, ReachChange, TestMarks } from "../api/client";
import { Lens } from "../policy/Lens";
import { type Previewed, useWorkbench } from "../shell/context";
import { bareFlow } from "../state/words";
import { AddDevice } from "./AddDevice";
import {
  along,
  type Box,
  buildScene,
  deviceOf,
  LANE,
  type Link,
  lengthOf,
  type Point,
  type Scene,
} from "./geometry";
import { Plates } from "./Plates";
import { Endings, Ribbons } from "./Ribbons";
import { Tags } from "./Tags";
import { Targets } from "./Targets";
import { usePositions } from "./usePositions";
import { useViewport, type View as ViewOf } from "./useViewport";
import { ribbonsOf } from "./ways";

/** Networks of more devices than this do not fit into the window at a size that can be read. */
const LARGE = 60;

/** The map: what is connected to what, which lists stand where, and the way of the chosen flow. */
export function MapView() {
  const { network, places, place, trace, exchange, hop, carried } = useWorkbench();
  const { positions, ready, setDragged } = usePositions(network.draft);
  const scene = useMemo(
    () => buildScene(network.draft, positions, places),
    [network.draft, positions, places],
  );
  const { svg, drawing, scale, view, fit, zoomBy, reveal, middle } = useViewport(
    scene.bounds,
    ready,
    network.draft.devices.length,
  );
  const [focused, setFocused] = useState(false);
  const chosen = place.chosen?.startsWith("device:") ? place.chosen.slice(7) : null;
  const focus = useMemo(
    () => (focused && chosen ? neighbourhood(network.draft, chosen) : null),
    [focused, chosen, network.draft],
  );
  const shown = trace?.exchanges[exchange];
  const ribbons = useMemo(() => (shown && ready ? ribbonsOf(scene, shown) : []), [scene, shown, ready]);
  const marked = hop && shown ? (shown[hop.way]?.hops[hop.index]?.device ?? null) : null;

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const typing = (event.target as HTMLElement).closest("input, textarea, .cm-editor");
      if (typing || carried || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "f") fit();
      if (event.key === "n") setFocused((before) => !before);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [fit, carried]);

  // What is chosen elsewhere is brought into the window: a device, the way of a flow, the place hovered over.
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
  const large = network.draft.devices.length > LARGE;
  const way = shown?.out.hops.map((each) => each.device).join(" ");
  useEffect(() => {
    if (ready && large && way) reveal(centres(way.split(" ")));
  }, [ready, large, way, reveal, centres]);

  return (
    <section aria-label="Map" className="relative flex min-h-0 flex-col">
      <svg
        ref={svg}
        role="group"
        aria-label="Devices and placed lists"
        aria-busy={!ready}
        className="min-h-0 w-full flex-1 touch-none select-none"
      >
        <g ref={drawing} className={ready ? "" : "opacity-0"}>
          <g className={carried ? "opacity-45" : ""}>
            <Links scene={scene} view={view} focus={focus} />
            {shown && <Ribbons ribbons={ribbons} verdict={shown.verdict} />}
            <Plates
              scene={scene}
              view={view}
              scale={scale}
              marked={marked}
              focus={focus}
              onDrag={setDragged}
            />
            {view.level !== "far" && <Tags scene={scene} view={view} focus={focus} />}
            <Endings ribbons={ribbons} />
          </g>
          <Lens scene={scene} view={view} />
          <Targets scene={scene} view={view} />
        </g>
      </svg>
      {network.draft.devices.length === 0 && (
        <p className="quiet absolute inset-x-0 top-1/3 text-center">
          This network has no devices yet. Add the first one: press + and write{" "}
          <span className="font-mono">router</span> and a name.
        </p>
      )}
      <AddDevice scene={scene} middle={middle} />
      <div className="absolute top-2 right-2 flex gap-1">
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
          title="Only the device that is chosen and its neighbours"
          onClick={() => setFocused(!focused)}
        >
          Neighbours
        </button>
        <button type="button" className="button" onClick={fit}>
          Fit
        </button>
      </div>
      <Sentence />
      {carried && <Ghost name={carried.list.name} />}
    </section>
  );
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
                ? "opacity-20"
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

/** The foot of the map: what the chosen flow came to, or what dropping the carried list would do. */
function Sentence() {
  const { carried, preview, book, trace, place, putDown } = useWorkbench();
  const changes = preview.book && book ? changed(book.tests, preview.book.tests) : null;
  if (carried) {
    return (
      <div
        role="status"
        className="h-[46px] overflow-hidden border-t border-ochre bg-ochrewash px-4 py-1 leading-[18px]"
        data-testid="placing"
      >
        <span className="font-semibold">{carried.list.name}</span>{" "}
        {carried.over ? carried.over.words : "is picked up: choose a place, with the arrows or the pointer"}
        {carried.over && changes && (
          <span>
            . {changeWords(changes)}
            {preview.reach && ` ${reachWords(preview.reach)}`}
          </span>
        )}
        <button type="button" className="ml-3 underline" onClick={putDown}>
          Put down (Esc)
        </button>
      </div>
    );
  }
  if (preview.shown?.offered) return <Offer shown={preview.shown} changes={changes} />;
  if (!trace) return <div className="h-[46px]" />;
  const where = { baseline: "with no lists", running: "as running", draft: "on the draft" }[place.state];
  return (
    <p className="quiet line-clamp-2 h-[46px] px-4 py-1 leading-[18px]" data-testid="sentence">
      {trace.flow} {where}: {trace.text}.
    </p>
  );
}

/** A repair that is tried: what it would do to the book, to be made or left. */
function Offer({ shown, changes }: { shown: Previewed; changes: string[] | null }) {
  const { preview, make } = useWorkbench();
  const leave = () => preview.show(null);
  return (
    <div
      role="status"
      data-testid="tried"
      className="flex h-[46px] items-center gap-3 border-t border-ochre bg-ochrewash px-4 leading-[18px]"
    >
      <p className="line-clamp-2 min-w-0 flex-1">
        <span className="font-semibold">Tried, not made: {shown.edit.label}.</span>{" "}
        {changes ? changeWords(changes) : "Looking at the book…"}
      </p>
      <button
        type="button"
        className="button button-strong"
        data-key="a"
        title="a"
        onClick={async () => {
          leave();
          await make(shown.edit);
        }}
      >
        Make it
      </button>
      <button type="button" className="button" data-key="v" title="v" onClick={leave}>
        Leave it
      </button>
    </div>
  );
}

const changeWords = (changes: string[]) =>
  changes.length === 0 ? "No verdict of the book would change." : `Would change: ${changes.join("; ")}.`;

/** How many cells of the reach matrix would change, and which way. */
function reachWords(reach: ReachChange): string {
  if (reach.changed === 0) return `Reach for ${reach.services.join(", ")} stays as it is.`;
  const ways = [reach.lose && `${reach.lose} lose traffic`, reach.gain && `${reach.gain} gain some`].filter(
    Boolean,
  );
  return `Reach: ${reach.changed} ${reach.changed === 1 ? "cell" : "cells"} would change${ways.length ? `, ${ways.join(", ")}` : ""}.`;
}

function changed(before: TestMarks[], after: TestMarks[]): string[] {
  const old = new Map(before.map((test) => [test.id, test.draft.verdict]));
  const words = after
    .filter((test) => old.get(test.id) !== test.draft.verdict)
    .map((test) => `${bareFlow(test.flow)} ${old.get(test.id)} → ${test.draft.verdict}`);
  return words.length > 3 ? [...words.slice(0, 3), `${words.length - 3} more`] : words;
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
