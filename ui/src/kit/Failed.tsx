/** What was asked for, as far as it went wrong. */
export interface Failing {
  error: Error | null;
  refetch: () => void;
}

interface Props {
  /** What was asked for: something is shown only where that went wrong. */
  of: Failing;
  className?: string;
  again?: string;
}

/** What could not be read, and a way to ask again. */
export function Failed({ of, className = "px-4 py-2", again = "Ask again" }: Props) {
  if (!of.error) return null;
  return (
    <p role="alert" className={`text-clay ${className}`}>
      {of.error.message}{" "}
      <button type="button" className="underline" onClick={() => of.refetch()}>
        {again}
      </button>
    </p>
  );
}
