import { useMemo } from "react";
import { rem } from "../kit/Split";
import { useOpened, useVerdicts } from "../workbench/opened";
import type { Scene } from "./geometry";
import type { Point } from "./plane";
import { makeRoom } from "./room";
import { type Site, sitesOf } from "./sites";

interface Props {
  scene: Scene;
  /** Map units to a pixel. */
  unit: number;
  onOpen: (points: Point[]) => void;
}

/** From afar: sites instead of devices, each with its lists and surprises counted. */
export function SiteFolds({ scene, unit, onOpen }: Props) {
  const { network } = useOpened();
  const { book } = useVerdicts();
  const { sites, links } = useMemo(
    () => sitesOf(network.draft, scene, book?.tests ?? []),
    [network.draft, scene, book],
  );
  const scale = unit * rem();
  const folds = useMemo(() => {
    const boxes = sites.map((site) => {
      const { width, height } = foldSize(wordsOf(site), scale);
      return { x: site.at.x - width / 2, y: site.at.y - height / 2, width, height };
    });
    const moves = makeRoom(
      boxes.map((box) => ({ box, weight: 0 })),
      6 * scale,
    );
    return sites.map((site, place) => {
      const by = moves[place] ?? { x: 0, y: 0 };
      return { site, centre: { x: site.at.x + by.x, y: site.at.y + by.y } };
    });
  }, [sites, scale]);
  const path = links
    .map(([one, other]) => [folds[one]?.centre, folds[other]?.centre])
    .map(([from, to]) => (from && to ? `M${from.x} ${from.y}L${to.x} ${to.y}` : ""))
    .join("");
  return (
    <g>
      <path d={path} vectorEffect="non-scaling-stroke" className="fill-none stroke-lane" strokeWidth="0.9" />
      {folds.map(({ site, centre }) => (
        <Fold
          key={site.name}
          site={site}
          at={centre}
          unit={scale}
          onOpen={() => onOpen(pointsIn(scene, site))}
        />
      ))}
    </g>
  );
}

const wordsOf = (site: Site) => [
  site.name,
  `${site.devices} devices`,
  ...(site.lists ? [`${site.lists} ${site.lists === 1 ? "list" : "lists"}`] : []),
  ...(site.surprises ? [`${site.surprises} not as expected`] : []),
];

const foldSize = (words: string[], scale: number) => ({
  width: (Math.max(...words.map((line) => line.length)) * 6.4 + 16) * scale,
  height: (10 + 14 * words.length) * scale,
});

interface FoldProps {
  site: Site;
  at: Point;
  unit: number;
  onOpen: () => void;
}

function Fold({ site, at, unit, onOpen }: FoldProps) {
  const [, ...words] = wordsOf(site);
  const { width, height } = foldSize(wordsOf(site), 1);
  return (
    <g
      role="button"
      tabIndex={0}
      data-site={site.name}
      aria-label={`Site ${site.name}: ${words.join(", ")}`}
      className="group cursor-zoom-in"
      transform={`translate(${at.x},${at.y}) scale(${unit})`}
      onClick={onOpen}
      onKeyDown={(event) => {
        if (event.key !== "Enter" && event.key !== " ") return;
        event.preventDefault();
        onOpen();
      }}
    >
      <rect
        x={-width / 2}
        y={-height / 2}
        width={width}
        height={height}
        rx="9"
        strokeWidth="1.2"
        className={`fill-plate ${site.surprises ? "stroke-ochre" : "stroke-slate"} group-hover:stroke-ink group-focus-visible:[stroke-width:3]`}
      />
      <text y={-height / 2 + 15} textAnchor="middle" className="fill-ink font-semibold text-[11.5px]">
        {site.name}
      </text>
      {words.map((line, number) => (
        <text
          key={line}
          y={-height / 2 + 29 + 14 * number}
          textAnchor="middle"
          className={`text-[11px] ${line.endsWith("expected") ? "fill-ochre" : "fill-slate"}`}
        >
          {line}
        </text>
      ))}
    </g>
  );
}

const NEAREST = 40;

/** The devices around a site's middle, to be looked at. */
const pointsIn = (scene: Scene, site: Site): Point[] =>
  scene.plates
    .map((plate) => plate.centre)
    .sort((a, b) => distance(a, site.at) - distance(b, site.at))
    .slice(0, Math.min(site.devices, NEAREST));

const distance = (a: Point, b: Point) => Math.hypot(a.x - b.x, a.y - b.y);
