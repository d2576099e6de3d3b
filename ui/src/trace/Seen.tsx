import type { TriedReport } from "../api/rehearsal";
import { TriedMark } from "../marks/TriedMark";
import type { Column } from "./columns";

interface SeenProps {
  tried: TriedReport;
  stale: boolean;
  way: "out" | "home";
  columns: readonly Column[];
}

/** Under what is predicted of one way: what real packets did at each device, in the last rehearsal. */
export function Seen({ tried, stale, way, columns }: SeenProps) {
  const elsewhere = tried.hops.filter(
    (hop) => hop[way].length > 0 && !columns.some((column) => column.device === hop.device),
  );
  return (
    <>
      <div
        className="flex items-start gap-1 border-t border-dashed border-rule py-0.5 pr-1.5 pl-3 text-fine"
        title={stale ? "The draft has changed since it was rehearsed" : `Rehearsed ${tried.when}`}
      >
        <TriedMark agrees={tried.agrees} stale={stale} />
        <span className="quiet">seen</span>
      </div>
      {columns.map((column, index) => (
        <div
          key={column.device}
          data-seen={way}
          className={`border-t border-l border-dashed border-rule px-1.5 py-0.5 text-fine ${
            stale ? "quiet" : ""
          }`}
        >
          <SeenHere tried={tried} way={way} column={column} />
          {way === "home" && index === 0 && (
            <div>
              {"saw "}
              {tried.sees}
            </div>
          )}
          {index === columns.length - 1 &&
            elsewhere.map((hop) => (
              <div key={hop.device} className="text-clay">
                also seen at {hop.device}: {hop[way].join(", ")}
              </div>
            ))}
        </div>
      ))}
    </>
  );
}

function SeenHere({ tried, way, column }: { tried: TriedReport; way: "out" | "home"; column: Column }) {
  const hop = tried.hops.find((each) => each.device === column.device);
  const told = hop?.[way] ?? [];
  if (told.length > 0) return told.join(", ");
  return column[way] && !tried.agrees ? <span className="text-clay">not seen here</span> : null;
}
