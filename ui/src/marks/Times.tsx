import type { TimeReport } from "../api/client";
import { go } from "../state/location";
import { VerdictShape } from "./VerdictMark";

/** What a flow comes to at which times, where that differs; each leads to that moment. */
export function Times({ of }: { of: readonly TimeReport[] }) {
  if (of.length === 0) return null;
  return (
    <ul aria-label="By the hour" className="flex flex-wrap gap-x-2">
      {of.map((time) => (
        <li key={time.when}>
          <button
            type="button"
            className="inline-flex items-center gap-1 underline decoration-rule underline-offset-2"
            title={`Look at ${time.at}`}
            onClick={() => go({ at: time.at })}
          >
            <VerdictShape shape={time.verdict ?? "unknown"} size={11} />
            {time.verdict ?? "cannot be tried"} {time.when}
          </button>
        </li>
      ))}
    </ul>
  );
}
