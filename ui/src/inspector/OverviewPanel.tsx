import { Rows } from "../kit/Rows";
import { go } from "../state/location";
import { timesPlaced } from "../state/points";
import { useOpened } from "../workbench/opened";
import { pickUp } from "../workbench/picking";
import { useDragList } from "../workbench/useDragList";
import { NewList } from "./NewList";
import { NewSet, Sets } from "./Sets";

/** With nothing chosen: the lists, ready to be picked up. */
export function OverviewPanel() {
  const { network } = useOpened();
  const startDrag = useDragList();
  const { lists, placements } = network.draft;
  const times = timesPlaced(placements);
  return (
    <div className="px-4 py-3">
      <h2 className="mb-1 font-semibold">Access lists</h2>
      {lists.length === 0 && (
        <p className="quiet mb-2">No lists yet. Make one, write its entries, then place it.</p>
      )}
      <Rows
        items={lists}
        keyOf={(list) => list.name}
        className="mb-3 border-t border-rule"
        rowClassName="flex items-baseline gap-2 border-b border-rule py-1"
        row={(list) => (
          <>
            <button
              type="button"
              className="cursor-grab touch-none font-mono text-code underline decoration-rule underline-offset-2"
              onPointerDown={startDrag(list, null)}
              onClick={() => go({ chosen: `list:${list.name}` })}
            >
              {list.name}
            </button>
            <PlacedTimes times={times.get(list.name) ?? 0} />
            <button
              type="button"
              className="ml-auto underline"
              aria-label={`Place ${list.name}`}
              onClick={() => pickUp(list, null)}
            >
              Place
            </button>
          </>
        )}
      />
      <NewList onMade={(name) => go({ chosen: `list:${name}` })} />
      <h2 className="mt-4 mb-1 font-semibold">Sets</h2>
      <Sets />
      <NewSet />
      <p className="quiet mt-4">
        Choose a test flow, a device, a list or a place on the map to see it here. Drag a list onto the
        interface it should filter, or press Place and use the arrow keys.
      </p>
    </div>
  );
}

function PlacedTimes({ times }: { times: number }) {
  if (!times) return <span className="text-fine text-ochre">placed nowhere: does nothing</span>;
  return <span className="quiet text-fine">placed {times === 1 ? "once" : `${times} times`}</span>;
}
