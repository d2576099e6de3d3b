import { createContext, type ReactNode, useContext, useMemo, useState } from "react";
import type { Choice } from "../api/client";

/** Ways to make something hold, laid over the map, and the one that is looked at. */
interface LensOf {
  choices: Choice[];
  shown: Choice | null;
  open: (choices: Choice[]) => void;
  show: (choice: Choice | null) => void;
}

const LensContext = createContext<LensOf | null>(null);

export function useLens(): LensOf {
  const lens = useContext(LensContext);
  if (!lens) throw new Error("useLens needs a LensProvider above it");
  return lens;
}

export function LensProvider({ children }: { children: ReactNode }) {
  const [choices, open] = useState<Choice[]>([]);
  const [shown, show] = useState<Choice | null>(null);
  const lens = useMemo(() => ({ choices, shown, open, show }), [choices, shown]);
  return <LensContext value={lens}>{children}</LensContext>;
}
