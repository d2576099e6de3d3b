import { answer, api, type Intent, of, type ReachQuestion, trying } from "./client";
import { useWork } from "./work";

/** What takes longer than a blink: worked out beside the page, and kept by version. */

/** The book of a version; the verdicts before stay, as such, until it is there. */
export const useBook = (id: string, version: number) =>
  useWork({
    queryKey: ["book", id, version],
    begin: (signal) => answer(api.POST("/api/networks/{network_id}/book", { params: of(id), signal })),
  });

/** The policy of a version; the answers before stay until the new ones are there. */
export const usePolicy = (id: string, version: number, any: boolean) =>
  useWork({
    queryKey: ["policy", id, version],
    begin: (signal) => answer(api.POST("/api/networks/{network_id}/policy", { params: of(id), signal })),
    enabled: any,
  });

export const useFindings = (id: string, version: number) =>
  useWork({
    queryKey: ["findings", id, version],
    begin: (signal) => answer(api.POST("/api/networks/{network_id}/findings", { params: of(id), signal })),
  });

/** Where a requirement or a test flow's expectation could be made to hold, once it is asked for. */
export const useAdvice = (id: string, version: number, text: string, asked: boolean) =>
  useWork({
    queryKey: ["advice", id, version, text],
    begin: (signal) =>
      answer(api.POST("/api/networks/{network_id}/advice", { params: of(id), body: { text }, signal })),
    enabled: asked,
    keep: false,
  });

/** The matrix of a question, of the draft or of a trial. */
export const useReach = (id: string, version: number, question: ReachQuestion, intent: Intent | null) =>
  useWork({
    queryKey: ["reach", id, version, question, intent],
    begin: (signal) =>
      answer(
        api.POST("/api/networks/{network_id}/reach", {
          params: of(id),
          body: { ...question, ...trying(intent) },
          signal,
        }),
      ),
  });
