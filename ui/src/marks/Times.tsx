import type { TimeReport } from "../api/client";
import { go } from "../state/location";
import { VerdictShape } from "./VerdictMark";

/** What a flow comes to at which times, or under which supposition, where that differs. */
export function Times({ of }: { of: readonly TimeReport[] }) {
  if (of.length === 0) return null;
  // Suppositions about what is not known have one moment: there is none to look at.
  const leads = new Set(of.map((time) => time.at)).size > 1;
  return (
    <ul aria-label="By the hour" className="flex flex-wrap gap-x-2">
      {of.map((time) => (
        <li key={time.when}>
          <button
            type="button"
            className={`inline-flex items-center gap-1 text-left ${leads ? "underline decoration-rule underline-offset-2" : ""}`}
            title={leads ? `Look at ${time.at}` : undefined}
            disabled={!leads}
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
