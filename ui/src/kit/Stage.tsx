/** Something that takes longer than a blink: what is done, and how far it is. */
export function Stage({ words, done }: { words: string; done: number }) {
  const percent = Math.round(done * 100);
  return (
    <div role="status" className="max-w-[420px]">
      <p className="quiet mb-1">
        {words}, {percent}%
      </p>
      <div
        role="progressbar"
        aria-label={words}
        aria-valuenow={percent}
        aria-valuemin={0}
        aria-valuemax={100}
        className="h-1.5 bg-rule"
      >
        <div className="h-full bg-tide" style={{ width: `${percent}%` }} />
      </div>
    </div>
  );
}
