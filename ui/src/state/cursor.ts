/** What was just made or opened to be written, and takes the cursor when it appears. */
let wanted: string | null = null;

export const wantCursor = (what: string) => {
  wanted = what;
};

/** Whether `what` is to take the cursor; it takes it once. */
export function takeCursor(what: string): boolean {
  if (wanted !== what) return false;
  wanted = null;
  return true;
}
