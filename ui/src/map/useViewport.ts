import { select } from "d3-selection";
import { type ZoomBehavior, type ZoomTransform, zoom, zoomIdentity } from "d3-zoom";
import { useCallback, useEffect, useRef, useState } from "react";
import type { Scene } from "./geometry";

/** Pan and zoom of the map, and fitting all of it into its window. */
export function useViewport(bounds: Scene["bounds"], ready: boolean) {
  const svg = useRef<SVGSVGElement>(null);
  const behaviour = useRef<ZoomBehavior<SVGSVGElement, unknown> | null>(null);
  const [transform, setTransform] = useState<ZoomTransform>(zoomIdentity);
  const moved = useRef(false);
  const latest = useRef(bounds);
  latest.current = bounds;

  useEffect(() => {
    if (!svg.current) return;
    const zooming = zoom<SVGSVGElement, unknown>()
      .scaleExtent([0.08, 3])
      .filter(
        (event) => !(event.target as Element).closest("[data-plate], [data-tag]") || event.type === "wheel",
      )
      .on("zoom", (event) => {
        if (event.sourceEvent) moved.current = true;
        setTransform(event.transform);
      });
    behaviour.current = zooming;
    const selection = select(svg.current);
    selection.call(zooming).on("dblclick.zoom", null);
    return () => {
      selection.on(".zoom", null);
    };
  }, []);

  const fit = useCallback(() => {
    const element = svg.current;
    if (!element || !behaviour.current) return;
    const { clientWidth, clientHeight } = element;
    if (!clientWidth || !clientHeight) return;
    const { x, y, width, height } = latest.current;
    const scale = Math.min(1.25, clientWidth / width, (clientHeight - 26) / height);
    const next = zoomIdentity
      .translate(
        clientWidth / 2 - scale * (x + width / 2),
        (clientHeight - 26) / 2 - scale * (y + height / 2),
      )
      .scale(scale);
    select(element).call(behaviour.current.transform, next);
    moved.current = false;
  }, []);

  useEffect(() => {
    if (!ready || !svg.current) return;
    fit();
    const observer = new ResizeObserver(() => moved.current || fit());
    observer.observe(svg.current);
    return () => observer.disconnect();
  }, [ready, fit]);

  const zoomBy = useCallback((factor: number) => {
    moved.current = true;
    if (svg.current && behaviour.current) select(svg.current).call(behaviour.current.scaleBy, factor);
  }, []);

  return { svg, transform, fit, zoomBy };
}
