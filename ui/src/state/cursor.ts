/** What was just made or opened to be written, and takes the cursor: at once, or when it appears. */
let wanted: string | null = null;

const WANTED = "grey-heron:cursor";

export function wantCursor(what: string): void {
  wanted = what;
  window.dispatchEvent(new Event(WANTED));
}

/** Call `take` when `what` is to take the cursor, now or while it is shown. Returns how to stop listening. */
export function onCursor(what: string, take: () => void): () => void {
  const look = () => {
    if (wanted !== what) return;
    wanted = null;
    take();
  };
  look();
  window.addEventListener(WANTED, look);
  return () => window.removeEventListener(WANTED, look);
}
