import { Book } from "../book/Book";
import { Inspector } from "../inspector/Inspector";
import { Split, suited } from "../kit/Split";
import { MapView } from "../map/MapView";
import { Trace } from "../trace/Trace";
import { useTracing } from "../workbench/tracing";

/** The view that one works in: the book, the map, whatever is chosen, and the trace below. */
export function MapAndBook() {
  const traced = useTracing().test !== null;
  const above = (
    <Split
      id="above"
      across="horizontal"
      sides={[
        { id: "map", least: 240, content: <MapView /> },
        { id: "inspector", size: suited(0.23, 232, 336), label: "the inspector", content: <Inspector /> },
      ]}
    />
  );
  return (
    <Split
      id="workbench"
      across="horizontal"
      sides={[
        { id: "book", size: suited(0.22, 216, 320), label: "the book", content: <Book /> },
        {
          id: "rest",
          least: 480,
          content: traced ? (
            <Split
              id="rest"
              across="vertical"
              sides={[
                { id: "above", least: 160, content: above },
                { id: "trace", size: suited(0.17, 190, 230), label: "the trace", content: <Trace /> },
              ]}
            />
          ) : (
            <div className="grid min-h-0 grid-rows-[minmax(0,1fr)_auto]">
              {above}
              <Trace />
            </div>
          ),
        },
      ]}
    />
  );
}
