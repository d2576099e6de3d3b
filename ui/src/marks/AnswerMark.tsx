import type { ProofReport } from "../api/client";

type Answer = ProofReport["answer"];

/** What an answer is called; one that holds for every host says so where devices themselves do otherwise. */
export const answerWords = ({ answer, remains }: Pick<ProofReport, "answer" | "remains">) =>
  answer === "proved" && remains ? "proved for every host" : answer;

/** Why nothing is said yet of what is running. */
export const notRunningWords = (absent: string[]) =>
  `not running yet: ${absent.join(", ")} ${absent.length > 1 ? "are" : "is"} in the draft only`;

interface ShapeProps {
  answer: Answer | "unknown";
  /** Whether devices themselves do otherwise than the hosts that are spoken of. */
  remains?: boolean;
  size?: number;
}

/**
 * An answer as a shape first, then a colour: a full diamond, one that is struck through, or a ring with a gap.
 * The diamond has a hole where devices themselves remain.
 */
export function AnswerShape({ answer, remains = false, size = 14 }: ShapeProps) {
  return (
    <svg viewBox="0 0 14 14" width={size} height={size} aria-hidden="true" className="shrink-0">
      {answer === "proved" && (
        <path
          d={`M7 1.6 12.4 7 7 12.4 1.6 7Z${remains ? "M7 4.6 4.6 7 7 9.4 9.4 7Z" : ""}`}
          fillRule="evenodd"
          className="fill-tide"
        />
      )}
      {answer === "violated" && (
        <>
          <path d="M7 2.4 11.6 7 7 11.6 2.4 7Z" className="fill-none stroke-clay" strokeWidth="1.5" />
          <path d="M2 12 12 2" className="stroke-clay" strokeWidth="1.8" />
        </>
      )}
      {answer === "inconclusive" && (
        <path d="M9.4 3.2A4.4 4.4 0 1 0 9.4 10.8" className="fill-none stroke-ochre" strokeWidth="2.4" />
      )}
      {answer === "unknown" && <path d="M4 7h6" className="stroke-slate" strokeWidth="1.6" />}
    </svg>
  );
}

/** One of a requirement's three answers; a ring around one that does not hold. */
export function AnswerMark({
  label,
  report,
  quiet,
  absent = [],
}: {
  label: string;
  report: ProofReport;
  quiet?: boolean;
  /** Devices that it speaks of and that do not run yet. */
  absent?: string[];
}) {
  if (report.answer === "inconclusive" && absent.length) {
    const why = notRunningWords(absent);
    return (
      <span
        role="img"
        aria-label={`${label}: ${why}`}
        title={`${label}: ${why}`}
        className="flex h-[19px] w-[27px] items-center justify-center"
      >
        <AnswerShape answer="unknown" />
      </span>
    );
  }
  const surprise = !quiet && report.answer !== "proved";
  return (
    <span
      role="img"
      aria-label={`${label}: ${answerWords(report)}`}
      title={`${label}: ${report.text}`}
      className={`flex h-[19px] w-[27px] items-center justify-center rounded-full ${surprise ? "border border-ochre" : ""}`}
    >
      <AnswerShape answer={report.answer} remains={report.remains !== ""} />
    </span>
  );
}
