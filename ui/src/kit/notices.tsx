import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from "react";
import { ApiError, type ProblemItem } from "../api/client";

/** One sentence at the foot of the window: what happened and what to do. */
export interface Notice {
  text: string;
  problems: ProblemItem[];
  wrong: boolean;
}

interface Notices {
  say: (text: string) => void;
  fail: (error: unknown) => void;
  clear: () => void;
}

const NoticesContext = createContext<Notices | null>(null);
/** Apart, so that who only says something is not drawn anew when something is said. */
const NoticeContext = createContext<Notice | null>(null);

export function NoticesProvider({ children }: { children: ReactNode }) {
  const [notice, setNotice] = useState<Notice | null>(null);
  const say = useCallback((text: string) => setNotice({ text, problems: [], wrong: false }), []);
  const clear = useCallback(() => setNotice(null), []);
  const fail = useCallback((error: unknown) => {
    const text = error instanceof Error ? error.message : String(error);
    setNotice({ text, problems: error instanceof ApiError ? error.problems : [], wrong: true });
  }, []);
  const notices = useMemo(() => ({ say, fail, clear }), [say, fail, clear]);
  return (
    <NoticesContext value={notices}>
      <NoticeContext value={notice}>{children}</NoticeContext>
    </NoticesContext>
  );
}

export function useNotices(): Notices {
  const notices = useContext(NoticesContext);
  if (!notices) throw new Error("useNotices needs a NoticesProvider above it");
  return notices;
}

const LONG_ENOUGH = 8000;

export function NoticeBar() {
  const { clear } = useNotices();
  const notice = useContext(NoticeContext);
  useEffect(() => {
    if (!notice || notice.wrong) return;
    const timer = setTimeout(clear, LONG_ENOUGH);
    return () => clearTimeout(timer);
  }, [notice, clear]);
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
