import type { Mark, Verdict } from "../api/client";

type Shape = Verdict | "inconclusive" | "unknown";

/** A verdict as a shape first, then a colour. */
export function VerdictShape({ shape, size = 14 }: { shape: Shape; size?: number }) {
  return (
    <svg viewBox="0 0 14 14" width={size} height={size} aria-hidden="true" className="shrink-0">
      {shape === "passes" && <circle cx="7" cy="7" r="4.6" className="fill-tide" />}
      {shape === "blocked" && <rect x="5" y="1.6" width="4" height="10.8" className="fill-clay" />}
      {shape === "unreachable" && (
        <circle cx="7" cy="7" r="4" className="fill-none stroke-slate" strokeWidth="1.8" />
      )}
      {shape === "refused" && (
        <rect x="3" y="3" width="8" height="8" className="fill-none stroke-slate" strokeWidth="1.8" />
      )}
      {shape === "mixed" && (
        <>
          <circle cx="7" cy="7" r="4.2" className="fill-none stroke-ochre" strokeWidth="1.4" />
          <path d="M7 2.8a4.2 4.2 0 0 0 0 8.4z" className="fill-ochre" />
        </>
      )}
      {shape === "inconclusive" && (
        <path d="M9.4 3.2A4.4 4.4 0 1 0 9.4 10.8" className="fill-none stroke-ochre" strokeWidth="2.4" />
      )}
      {shape === "unknown" && <path d="M4 7h6" className="stroke-slate" strokeWidth="1.6" />}
    </svg>
  );
}

const SURPRISE: Record<string, string> = {
  fails: "not as expected",
  inconclusive: "proves nothing",
  holds: "as expected",
};

export function markWords(label: string, mark: Mark): string {
  const standing = mark.judgement ? `, ${SURPRISE[mark.judgement.standing]}` : "";
  return `${label}: ${mark.verdict ?? "cannot be tried"}${standing}`;
}

/** One of a test's three marks; a ring around it when the verdict is a surprise. */
export function VerdictMark({ label, mark, changed }: { label: string; mark: Mark; changed?: boolean }) {
  const standing = mark.judgement?.standing;
  const surprise = standing === "fails" || standing === "inconclusive";
  const words = markWords(label, mark);
  return (
    <span
      role="img"
      aria-label={changed ? `${words}, would change` : words}
      title={`${words}. ${mark.text}${mark.judgement?.reason ? `. ${mark.judgement.reason}` : ""}`}
      className={`flex h-[19px] w-[27px] items-center justify-center rounded-full ${
        surprise ? "border border-ochre" : ""
      } ${changed ? "bg-ochrewash" : ""}`}
    >
      <VerdictShape shape={mark.verdict ?? "unknown"} />
    </span>
  );
}
