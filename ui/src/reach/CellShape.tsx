import { VerdictShape } from "../marks/VerdictMark";
import { verdictsIn } from "./fold";

const FILLS = {
  passes: "fill-tide",
  blocked: "fill-clay",
  unreachable: "fill-slate",
  refused: "fill-slate",
  mixed: "fill-ochre",
};

/** A cell's verdict; where it is split inside, a small step for each verdict that occurs. */
export function CellShape({ bits }: { bits: number }) {
  const found = verdictsIn(bits);
  if (found.length === 0) return null;
  const [only] = found;
  if (found.length === 1 && only) return <VerdictShape shape={only} size={13} />;
  return (
    <svg viewBox="0 0 14 14" width={13} height={13} aria-hidden="true">
      {found.map((verdict, place) => (
        <rect
          key={verdict}
          x={1 + (place * 12) / found.length}
          y={2 + place * 2}
          width={12 / found.length - 1}
          height={10 - place * 2}
          className={FILLS[verdict]}
        />
      ))}
    </svg>
  );
}
