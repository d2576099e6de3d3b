import { useLastRehearsal } from "../api/rehearsal";
import { TriedMark } from "../marks/TriedMark";
import { useOpened } from "../workbench/opened";

interface TriedLinesProps {
  kind: "test" | "requirement";
  /** Its id. */
  of: string;
}

/** What real packets did in the last rehearsal, for a test flow or a requirement. */
export function TriedLines({ kind, of }: TriedLinesProps) {
  const { id, network } = useOpened();
  const last = useLastRehearsal(id, network.version).data?.last;
  if (!last) return null;
  return last.report.tried
    .filter((each) => each[kind] === of)
    .map((each) => (
      <div key={`${each.flow} ${each.when}`} className="contents">
        <dt className="quiet flex items-start gap-1.5 pt-0.5">
          <TriedMark agrees={each.agrees} stale={last.stale} /> tried
        </dt>
        <dd className={`[overflow-wrap:anywhere] ${last.stale || kind === "requirement" ? "quiet" : ""}`}>
          {kind === "requirement" && <div className="text-ink">{each.flow}</div>}
          {each.seen}.{" "}
          {each.agrees ? "As predicted" : <span className="font-semibold text-clay">Not as predicted</span>},{" "}
          {each.when}, {new Date(last.at).toLocaleTimeString()}
          {last.stale && <span className="text-ochre">: the draft has changed since</span>}.
        </dd>
      </div>
    ));
}
