import type { ReactNode } from "react";
import { Group, Panel, Separator, useDefaultLayout } from "react-resizable-panels";

interface Pane {
  id: string;
  content: ReactNode;
  /** How wide or high it is at first, and at least, in pixels; without it, it takes what is left. */
  size?: number;
  least?: number;
  /** What the splitter beside it changes, in words. */
  label?: string;
}

interface Props {
  id: string;
  across: "horizontal" | "vertical";
  sides: (Pane | null | false)[];
}

/** The largest share of the window that a panel is given when its text grows. */
const MOST = 0.27;

/** Panels beside or below each other, with splitters that are moved by pointer or arrow keys and remembered. */
export function Split({ id, across, sides }: Props) {
  const shown = sides.filter((side) => side !== null && side !== false);
  const remembered = useDefaultLayout({
    id: `grey-heron:${id}`,
    panelIds: shown.map((side) => side.id),
    storage: localStorage,
    onlySaveAfterUserInteractions: true,
  });
  // Larger text asks for wider panels, as far as the window has room for them.
  const most = MOST * (across === "horizontal" ? window.innerWidth : window.innerHeight);
  const within = (size: number) => `${Math.round(Math.min(size * rem(), Math.max(size, most)))}px`;
  return (
    <Group
      key={shown.map((side) => side.id).join(" ")}
      id={id}
      orientation={across}
      disableCursor
      className="min-h-0 min-w-0"
      {...remembered}
    >
      {shown.flatMap((side, place) => {
        const sized = side.size !== undefined;
        const panel = (
          <Panel
            key={side.id}
            id={side.id}
            defaultSize={side.size === undefined ? undefined : within(side.size)}
            minSize={`${(side.least ?? side.size ?? 120) * (sized ? 0.6 : 1)}px`}
            groupResizeBehavior={sized ? "preserve-pixel-size" : undefined}
            className="grid min-h-0 min-w-0 grid-cols-[minmax(0,1fr)]"
            style={{ overflow: "clip" }}
          >
            {side.content}
          </Panel>
        );
        if (place === 0) return [panel];
        const moved = shown[place - 1]?.label ?? side.label ?? side.id;
        return [
          <Separator
            key={`before ${side.id}`}
            aria-label={`Size of ${moved}`}
            className={`bg-rule outline-none hover:bg-lane focus-visible:bg-tide data-[separator=active]:bg-tide ${
              across === "horizontal" ? "w-[3px] cursor-col-resize" : "h-[3px] cursor-row-resize"
            }`}
          />,
          panel,
        ];
      })}
    </Group>
  );
}

/** How much larger than usual the reader wants text. */
export const rem = () => Number.parseFloat(getComputedStyle(document.documentElement).fontSize) / 16 || 1;

/** A width that suits the window: narrow windows leave more to what is in the middle. */
export const suited = (share: number, least: number, most: number) =>
  Math.round(Math.min(most, Math.max(least, window.innerWidth * share)));
