import { useEffect } from "react";
import { create } from "zustand";
import { ApiError, type ProblemItem } from "../api/client";

/** One sentence at the foot of the window: what happened and what to do. */
export interface Notice {
  text: string;
  problems: ProblemItem[];
  wrong: boolean;
}

const useNotice = create<Notice | null>()(() => null);

export const say = (text: string) => useNotice.setState({ text, problems: [], wrong: false }, true);
export const clear = () => useNotice.setState(null, true);
export function fail(error: unknown): void {
  const text = error instanceof Error ? error.message : String(error);
  useNotice.setState({ text, problems: error instanceof ApiError ? error.problems : [], wrong: true }, true);
}

const LONG_ENOUGH = 8000;

export function NoticeBar() {
  const notice = useNotice();
  useEffect(() => {
    if (!notice || notice.wrong) return;
    const timer = setTimeout(clear, LONG_ENOUGH);
    return () => clearTimeout(timer);
  }, [notice]);
  useEffect(() => clear, []);
  return (
    <div aria-live="polite" className="pointer-events-none fixed inset-x-0 bottom-3 z-40 flex justify-center">
      {notice && (
        <div
          role={notice.wrong ? "alert" : "status"}
          className={`pointer-events-auto flex max-w-[720px] items-start gap-4 rounded border bg-plate px-4 py-2 shadow-sm ${
            notice.wrong ? "border-clay" : "border-slate"
          }`}
        >
          <div>
            <p>{notice.text}</p>
            {notice.problems.length > 1 && (
              <ul className="quiet mt-1 text-fine">
                {notice.problems.slice(0, 8).map((problem) => (
                  <li key={`${problem.where}${problem.message}`}>
                    {problem.where}: {problem.message}
                  </li>
                ))}
              </ul>
            )}
          </div>
          <button type="button" className="quiet underline" onClick={clear}>
            Close
          </button>
        </div>
      )}
    </div>
  );
}
