import { ask, type ReachJob, type ReachMatrix, type ReachQuestion } from "../api/client";
import { useWork, type Work } from "../api/work";

const asWork = ({ id, done, matrix }: ReachJob): Work<ReachMatrix> => ({ id, done, result: matrix });

/** The matrix of a question, as far as it is worked out. */
export const useReach = (id: string, version: number, question: ReachQuestion) =>
  useWork<ReachMatrix>({
    queryKey: ["reach", id, version, question],
    begin: (signal) => ask<ReachJob>(`/networks/${id}/reach`, { body: question, signal }).then(asWork),
    look: (job, signal) => ask<ReachJob>(`/reach/${job}`, { signal }).then(asWork),
  });
