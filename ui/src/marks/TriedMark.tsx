interface TriedMarkProps {
  agrees: boolean;
  /** Whether what it rests on has changed since. */
  stale: boolean;
}

/** What real packets did: a wave under a line where it was as predicted, across it where it was not. */
export function TriedMark({ agrees, stale }: TriedMarkProps) {
  const words = `tried: ${agrees ? "as predicted" : "went otherwise"}${stale ? ", before the last changes" : ""}`;
  return (
    <svg
      role="img"
      aria-label={words}
      width="14"
      height="12"
      viewBox="0 0 14 12"
      className={`shrink-0 ${agrees ? "stroke-tide" : "stroke-clay"} ${stale ? "opacity-40" : ""}`}
      fill="none"
      strokeWidth="1.8"
    >
      <title>{words}</title>
      <path d={agrees ? "M1 9q3 -4 6 0t6 0M1 3h12" : "M1 6q3 -6 6 0t6 0M2 11L12 1"} />
    </svg>
  );
}
