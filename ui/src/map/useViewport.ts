import { select } from "d3-selection";
import { type ZoomBehavior, zoom, zoomIdentity, zoomTransform } from "d3-zoom";
import { type RefObject, startTransition, useCallback, useEffect, useRef, useState } from "react";
import { rem } from "../kit/Split";
import { aroundPoints, type Box, type Point } from "./plane";

export interface Size {
  width: number;
  height: number;
}

/** How much is drawn: silhouettes only, names too, or everything. */
export type Level = "far" | "middle" | "near";

/** Below `NEAR` the map's words would be too small to read; below `MIDDLE` there is no room for names. */
export const NEAR = 0.91;
const MIDDLE = 0.34;
const AROUND = 0.5;
/** So much larger than it must be may be drawn what is drawn larger, before it is drawn anew. */
const LARGER = 1.15;
/**
 * The upper edge of the window, in pixels: its buttons cover nothing that is shown. In a narrow window they
 * stand in two rows.
 */
const ROW = 34;
const NARROW = 560;
const buttonsOf = (element: Element) => (element.clientWidth < NARROW * rem() ? 2 : 1) * ROW;

export interface Viewed {
  level: Level;
  /** Map units to a pixel, or a little more: from afar what is small is drawn larger, and never too small. */
  unit: number;
  /** What is in the window and around it, in map units; what is beyond is not drawn. */
  box: Box;
}

/** Before it is known where one looks nothing is in the window. */
const NOWHERE: Viewed = { level: "far", unit: 1, box: { x: 0, y: 0, width: 0, height: 0 } };

const levelOf = (scale: number): Level => {
  if (scale >= NEAR * rem()) return "near";
  return scale >= MIDDLE ? "middle" : "far";
};

/** Bring points into the window, near enough to read, unless they are there already and have their names. */
function useReveal(
  svg: RefObject<SVGSVGElement | null>,
  show: (box: Box, most: number) => void,
  moved: RefObject<boolean>,
) {
  return useCallback(
    (points: Point[]) => {
      const element = svg.current;
      if (!element || !points.length || areSeen(points, element)) return;
      moved.current = true;
      show(grown(aroundPoints(points), 0, 100), 1.1);
    },
    [svg, show, moved],
  );
}

/** Told how large the window is, without its buttons: at once, and whenever that changes. */
function useResized(svg: RefObject<SVGSVGElement | null>, ready: boolean, onSize: (size: Size) => void) {
  useEffect(() => {
    const element = svg.current;
    if (!ready || !element) return;
    const tell = () =>
      onSize({ width: element.clientWidth, height: element.clientHeight - buttonsOf(element) });
    tell();
    const observer = new ResizeObserver(tell);
    observer.observe(element);
    return () => observer.disconnect();
  }, [svg, ready, onSize]);
}

/** Panning and zooming by pointer and wheel, but not where plates and lists are dragged. */
function useZooming(svg: RefObject<SVGSVGElement | null>, onZoom: (byHand: boolean) => void) {
  const behaviour = useRef<ZoomBehavior<SVGSVGElement, unknown> | null>(null);
  useEffect(() => {
    if (!svg.current) return;
    const zooming = zoom<SVGSVGElement, unknown>()
      .scaleExtent([0.02, 3])
      .filter(
        (event) => !(event.target as Element).closest("[data-plate], [data-tag]") || event.type === "wheel",
      )
      .on("zoom", (event) => onZoom(Boolean(event.sourceEvent)));
    behaviour.current = zooming;
    const selection = select(svg.current);
    selection.call(zooming).on("dblclick.zoom", null);
    return () => {
      selection.on(".zoom", null);
    };
  }, [svg, onZoom]);
  return behaviour;
}

/** What is to be drawn where `element` stands now: as before, unless that does not do any more. */
function viewed(before: Viewed, element: SVGSVGElement): Viewed {
  const { x, y, k } = zoomTransform(element);
  const seen = { x: -x / k, y: -y / k, width: element.clientWidth / k, height: element.clientHeight / k };
  const level = levelOf(k);
  const drawn = before.unit * k;
  const does =
    before.level === level &&
    drawn >= 1 &&
    drawn < LARGER &&
    within(seen, before.box) &&
    before.box.width < seen.width * 4;
  if (does) return before;
  return { level, unit: 2 ** (Math.ceil(8 * Math.log2(1 / k)) / 8), box: grown(seen, AROUND) };
}

/** The transform that brings a box into the middle of the window, magnified by `most` at most. */
function showing(box: Box, most: number, element: SVGSVGElement) {
  const { clientWidth, clientHeight } = element;
  const buttons = buttonsOf(element);
  const free = clientHeight - buttons;
  const k = Math.min(most, clientWidth / box.width, free / box.height);
  return zoomIdentity
    .translate(
      clientWidth / 2 - k * (box.x + box.width / 2),
      buttons + free / 2 - k * (box.y + box.height / 2),
    )
    .scale(k);
}

/** Whether points are in the window, with their names. */
function areSeen(points: Point[], element: SVGSVGElement): boolean {
  const { x, y, k } = zoomTransform(element);
  const inside = points.every((point) => {
    const at = { x: point.x * k + x, y: point.y * k + y };
    return at.x > 40 && at.y > 30 && at.x < element.clientWidth - 40 && at.y < element.clientHeight - 40;
  });
  return inside && levelOf(k) !== "far";
}

/**
 * Pan and zoom of the map. They move the drawing itself, with no help from React; `view` changes only when
 * something else must be drawn.
 */
export function useViewport(bounds: Box, ready: boolean, onSize: (size: Size) => void) {
  const svg = useRef<SVGSVGElement>(null);
  const drawing = useRef<SVGGElement>(null);
  const scale = useRef(1);
  const moved = useRef(false);
  const jumping = useRef(false);
  const latest = useRef(bounds);
  const sized = useRef(onSize);
  useEffect(() => {
    latest.current = bounds;
    sized.current = onSize;
  });
  const [view, setView] = useState(NOWHERE);

  const look = useCallback(() => {
    const element = svg.current;
    if (!element) return;
    const { x, y, k } = zoomTransform(element);
    scale.current = k;
    drawing.current?.setAttribute("transform", `translate(${x},${y}) scale(${k})`);
    // While one pans, what must be drawn anew may wait for the next frames: the drawing itself has moved.
    const later = jumping.current ? (draw: () => void) => draw() : startTransition;
    later(() => setView((before) => viewed(before, element)));
  }, []);

  const behaviour = useZooming(
    svg,
    useCallback(
      (byHand: boolean) => {
        if (byHand) moved.current = true;
        look();
      },
      [look],
    ),
  );

  const show = useCallback(
    (box: Box, most: number) => {
      const element = svg.current;
      if (!element || !behaviour.current) return;
      if (!element.clientWidth || !element.clientHeight) return;
      const next = showing(box, most, element);
      jumping.current = true;
      select(element).call(behaviour.current.transform, next);
      jumping.current = false;
    },
    [behaviour],
  );

  const fit = useCallback(() => {
    show(latest.current, 1.25);
    moved.current = false;
  }, [show]);

  useResized(
    svg,
    ready,
    useCallback(
      (size: Size) => {
        sized.current(size);
        if (moved.current) look();
        else fit();
      },
      [fit, look],
    ),
  );

  // What is to be seen has changed: it is fitted in, unless the reader has gone elsewhere.
  const { x, y, width, height } = bounds;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the box may be another object of the same size
  useEffect(() => {
    if (ready && !moved.current) fit();
  }, [ready, fit, x, y, width, height]);

  const zoomBy = useCallback(
    (factor: number) => {
      moved.current = true;
      if (svg.current && behaviour.current) select(svg.current).call(behaviour.current.scaleBy, factor);
    },
    [behaviour],
  );

  const reveal = useReveal(svg, show, moved);
  return { svg, drawing, scale, view, fit, zoomBy, reveal };
}

const within = (inner: Box, outer: Box) =>
  inner.x >= outer.x &&
  inner.y >= outer.y &&
  inner.x + inner.width <= outer.x + outer.width &&
  inner.y + inner.height <= outer.y + outer.height;

const grown = (box: Box, share: number, margin = 0): Box => {
  const [w, h] = [box.width * share + margin, box.height * share + margin];
  return { x: box.x - w, y: box.y - h, width: box.width + 2 * w, height: box.height + 2 * h };
};
