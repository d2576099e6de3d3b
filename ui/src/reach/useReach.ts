import { ask, type ReachMatrix, type ReachQuestion } from "../api/client";
import { useWork, type Work } from "../api/work";

/** The matrix of a question, as far as it is worked out. */
export const useReach = (id: string, version: number, question: ReachQuestion) =>
  useWork<ReachMatrix>({
    queryKey: ["reach", id, version, question],
    begin: (signal) => ask<Work<ReachMatrix>>(`/networks/${id}/reach`, { body: question, signal }),
  });
