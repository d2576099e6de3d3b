import { ListEditor } from "../editor/ListEditor";
import { ListHeading, PlacedAt } from "../inspector/ListPanel";
import { useWorkbench } from "../shell/context";
import { removeList } from "../state/edits";
import { NewList } from "./NewList";

/** Every list, with room to write. */
export function ListsView() {
  const { network, place, go, make } = useWorkbench();
  const { lists, placements } = network.draft;
  const list = lists.find((each) => each.name === place.list) ?? lists[0];
  return (
    <main className="grid min-h-0 grid-cols-[292px_minmax(0,1fr)]">
      <aside aria-label="Lists" className="min-h-0 overflow-y-auto border-r border-rule">
        <h2 className="px-4 pt-3 pb-1 font-semibold">Access lists</h2>
        <ul>
          {lists.map((each) => {
            const count = placements.filter((placed) => placed.list === each.name).length;
            return (
              <li key={each.name}>
                <button
                  type="button"
                  aria-current={each.name === list?.name ? "true" : undefined}
                  onClick={() => go({ list: each.name })}
                  className={`flex w-full items-baseline gap-2 border-l-[3px] px-4 py-1 text-left ${
                    each.name === list?.name ? "border-ink bg-plate" : "border-transparent hover:bg-plate/70"
                  }`}
                >
                  <span className="font-mono text-[12.5px]">{each.name}</span>
                  <span className={`ml-auto text-fine ${count ? "quiet" : "text-ochre"}`}>
                    {count ? `${count} ${count === 1 ? "place" : "places"}` : "placed nowhere"}
                  </span>
                </button>
              </li>
            );
          })}
        </ul>
        <div className="px-4 py-3">
          <NewList onMade={(name) => go({ list: name })} />
        </div>
      </aside>
      <div className="min-h-0 overflow-y-auto">
        {list ? (
          <div className="max-w-[860px]">
            <ListHeading list={list} />
            {list.note && <p className="quiet px-4 pb-2">{list.note}</p>}
            <ListEditor key={list.name} list={list} />
            <PlacedAt list={list} />
            <div className="px-4 pb-6">
              <button
                type="button"
                className="quiet underline"
                onClick={async () => {
                  if (await make(removeList(network.draft, list.name))) go({ list: null });
                }}
              >
                Remove this list
              </button>
            </div>
          </div>
        ) : (
          <p className="quiet p-6">No lists yet. Give the first one a name on the left.</p>
        )}
      </div>
    </main>
  );
}
