import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ask, type ReachJob, type ReachMatrix, type ReachQuestion } from "../api/client";

const BETWEEN_LOOKS = 250;

/** The matrix of a question, as far as it is worked out; leaving or asking anew cancels it. */
export function useReach(id: string, version: number, question: ReachQuestion) {
  const [done, setDone] = useState(0);
  const found = useQuery({
    queryKey: ["reach", id, version, question],
    queryFn: async ({ signal }): Promise<ReachMatrix> => {
      setDone(0);
      let job = await ask<ReachJob>(`/networks/${id}/reach`, { body: question, signal });
      signal.addEventListener(
        "abort",
        () => void ask(`/reach/${job.id}`, { method: "DELETE" }).catch(() => null),
      );
      while (!job.matrix) {
        await new Promise((resolve) => setTimeout(resolve, BETWEEN_LOOKS));
        job = await ask<ReachJob>(`/reach/${job.id}`, { signal });
        setDone(job.done);
      }
      return job.matrix;
    },
    placeholderData: (previous) => previous,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  return { ...found, done };
}
