import { go, useLocation } from "../state/location";
import { pointKey } from "../state/points";
import { useCarrying } from "../workbench/carrying";
import { useOpened } from "../workbench/opened";
import { useDragList } from "../workbench/useDragList";
import type { Scene } from "./geometry";
import { overlap } from "./plane";
import { ARROW, type Tag } from "./ports";
import type { ShownTag } from "./useHung";
import type { Viewed } from "./useViewport";

interface TagsProps {
  scene: Scene;
  view: Viewed;
  tags: ReadonlyMap<string, ShownTag>;
  /** Devices to look at; the tags of others recede. */
  focus: ReadonlySet<string> | null;
}

/** Placed lists: a bar across the lane that each filters, and beside it its name with the way it looks. */
export function Tags({ scene, view, tags, focus }: TagsProps) {
  return (
    <g>
      {[...scene.tabs.values()]
        .flatMap((tab) => tab.tags)
        .filter(({ box }) => overlap(box, view.box))
        .map((tag) => {
          const shown = tags.get(tag.key);
          const recedes = focus !== null && !focus.has(tag.device);
          return shown && <TagView key={tag.key} tag={tag} shown={shown} view={view} receding={recedes} />;
        })}
    </g>
  );
}

const NOTES = {
  running: "",
  new: ", in the draft only",
  gone: ", taken off in the draft",
  trial: ", tried and not in the draft",
};

interface TagProps {
  tag: Tag;
  shown: ShownTag;
  view: Viewed;
  receding: boolean;
}

function TagView({ tag, shown, view, receding }: TagProps) {
  const { network } = useOpened();
  const { carried } = useCarrying();
  const location = useLocation();
  const startDrag = useDragList();
  const { placed, standing } = shown;
  const list = network.draft.lists.find((each) => each.name === placed.list);
  const chosen = location.chosen === `point:${pointKey(placed)}`;
  const choose = () => go({ chosen: `point:${pointKey(placed)}` });
  const fresh = standing === "new" || standing === "trial";
  const text = chosen ? "fill-fog" : fresh ? "fill-ochre" : "fill-ink";
  const border = fresh ? "stroke-ochre" : "stroke-ink";
  const words = placed.direction === "in" ? "entering" : "leaving";
  const drag = standing === "gone" || standing === "trial" ? undefined : startDrag(list, placed);
  const { box } = tag;
  return (
    <g
      role="button"
      tabIndex={0}
      data-tag={`${placed.list} ${pointKey(placed)}`}
      aria-label={`${tag.text}, ${words} ${placed.device} by ${placed.at}${NOTES[standing]}`}
      className={`group cursor-grab ${receding ? "opacity-30" : standing === "gone" ? "opacity-60" : ""}`}
      onPointerDown={(down) => {
        if (carried) return;
        down.stopPropagation();
        drag?.(down);
      }}
      onClick={choose}
      onKeyDown={(event) => {
        if (event.key !== "Enter" && event.key !== " ") return;
        event.preventDefault();
        if (!carried) choose();
      }}
    >
      {view.level !== "near" ? (
        <path d={bar(tag)} className={border} strokeWidth={standing === "gone" ? 1.5 : 4} />
      ) : (
        <>
          <rect
            {...box}
            className={`${chosen ? "fill-ink" : "fill-plate"} ${border} group-focus-visible:[stroke-width:3]`}
            strokeDasharray={standing === "running" ? undefined : "4 2"}
          />
          <path d={arrow(tag)} className={text} />
          <text
            x={wordsMiddle(tag)}
            y={box.y + 12.8}
            textAnchor="middle"
            textDecoration={standing === "gone" ? "line-through" : undefined}
            className={`${text} font-mono text-[12px]`}
          >
            {tag.text}
          </text>
        </>
      )}
    </g>
  );
}

const SIZE = 4.5;
const HALF = 7;

/** From further away: a bar across the lane alone. */
const bar = ({ lane: { x, y }, way }: Tag) =>
  `M${x - way.y * HALF} ${y + way.x * HALF}L${x + way.y * HALF} ${y - way.x * HALF}`;

/** The end of a tag at which its arrow stands: that of its lane; beside a plate, the end that packets come to. */
function arrowsEnd({ box, lane, way }: Tag): number {
  const middle = box.x + box.width / 2;
  const first = way.x ? way.x < 0 : lane.x < middle;
  return first ? box.x + ARROW / 2 + 2 : box.x + box.width - ARROW / 2 - 2;
}

const wordsMiddle = (tag: Tag) =>
  tag.box.x + tag.box.width / 2 + (arrowsEnd(tag) > tag.box.x + tag.box.width / 2 ? -ARROW / 2 : ARROW / 2);

/** A full triangle, the way that packets take on the lane. */
function arrow(tag: Tag): string {
  const [x, y] = [arrowsEnd(tag), tag.box.y + tag.box.height / 2];
  const { x: u, y: v } = tag.way;
  const tip = `${x + u * SIZE} ${y + v * SIZE}`;
  const back = { x: x - u * SIZE, y: y - v * SIZE };
  return `M${tip}L${back.x - v * SIZE} ${back.y + u * SIZE}L${back.x + v * SIZE} ${back.y - u * SIZE}Z`;
}
