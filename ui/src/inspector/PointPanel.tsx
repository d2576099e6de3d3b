import { ListEditor } from "../editor/ListEditor";
import { VerdictShape } from "../marks/VerdictMark";
import { go } from "../state/location";
import { pointKey, pointOf } from "../state/points";
import { bareFlow, capital, listWords } from "../state/words";
import { useOpened, usePoints, useVerdicts } from "../workbench/opened";
import { pickUp } from "../workbench/picking";

/** An attachment point: what stands there, and what traffic of the book crosses it. */
export function PointPanel({ point }: { point: string }) {
  const { network, make } = useOpened();
  const { book } = useVerdicts();
  const { places } = usePoints();
  const found = places?.points.find((each) => pointKey(each) === point);
  const placed = network.draft.placements.filter((each) => pointKey(each) === point);
  const crossing = book?.tests.filter((test) => test.crosses.includes(point)) ?? [];
  const words = found?.words ?? point.replaceAll(":", " ");
  return (
    <>
      <div className="px-4 pt-3 pb-1">
        <h2 className="font-semibold">
          {words.startsWith(point.split(":")[0] ?? "") ? words : capital(words)}
        </h2>
        {placed.length === 0 && <p className="quiet">No list here: everything passes.</p>}
      </div>
      {placed.map((each) => {
        const list = network.draft.lists.find((candidate) => candidate.name === each.list);
        if (!list) return null;
        return (
          <section key={each.list} aria-label={`${each.list}, placed here`}>
            <div className="flex items-center gap-2 px-4 py-1.5">
              <button
                type="button"
                className="font-mono font-semibold whitespace-nowrap underline decoration-rule underline-offset-2"
                onClick={() => go({ chosen: `list:${list.name}` })}
              >
                {list.name}
              </button>
              <span className="quiet truncate">{listWords(list)}</span>
              <button type="button" className="button ml-auto" onClick={() => pickUp(list, each)} title="m">
                Move…
              </button>
              <button
                type="button"
                className="button"
                onClick={() => make({ do: "take-off", list: each.list, off: pointOf(each) })}
              >
                Take off
              </button>
            </div>
            <ListEditor key={list.name} list={list} point={point} />
          </section>
        );
      })}
      <div className="px-4 py-2">
        <h3 className="quiet">Crossing here</h3>
        {crossing.length === 0 && <p className="quiet">No test flow passes here.</p>}
        <ul>
          {crossing.map((test) => (
            <li key={test.id}>
              <button
                type="button"
                className="flex items-center gap-2 text-left hover:underline"
                onClick={() => go({ test: test.id })}
              >
                <VerdictShape shape={test.draft.verdict ?? "unknown"} size={12} />
                {bareFlow(test.flow)}
                {test.draft.place && pointKey(place(test.draft.place)) === point && (
                  <span className="text-clay">stopped here</span>
                )}
              </button>
            </li>
          ))}
        </ul>
      </div>
    </>
  );
}

const place = (where: { device: string; at?: string | null; direction?: string | null }) => ({
  device: where.device,
  at: where.at ?? "",
  direction: where.direction ?? "",
});
