import { keepPreviousData, type QueryKey, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ask } from "./client";

const BETWEEN_LOOKS = 250;

export interface Work<T> {
  id: string;
  done: number;
  result: T | null;
}

interface LongWork<T> {
  queryKey: QueryKey;
  begin: (signal: AbortSignal) => Promise<Work<T>>;
  /** How far it is. */
  look: (id: string, signal: AbortSignal) => Promise<Work<T>>;
  enabled?: boolean;
  /** Whether the result before stays until the new one is there. */
  keep?: boolean;
}

/** A computation beside the page, as far as it is; leaving it, or asking anew, cancels it. */
export function useWork<T>({ queryKey, begin, look, enabled = true, keep = true }: LongWork<T>) {
  const [done, setDone] = useState(0);
  const found = useQuery<T>({
    queryKey,
    queryFn: async ({ signal }) => {
      setDone(0);
      let work = await begin(signal);
      signal.addEventListener(
        "abort",
        () => void ask(`/jobs/${work.id}`, { method: "DELETE" }).catch(() => null),
      );
      while (work.result === null) {
        await new Promise((resolve) => setTimeout(resolve, BETWEEN_LOOKS));
        work = await look(work.id, signal);
        setDone(work.done);
      }
      return work.result;
    },
    placeholderData: keep ? keepPreviousData : undefined,
    enabled,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  return { ...found, done };
}
