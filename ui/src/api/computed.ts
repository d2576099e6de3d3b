import { type AccessList, answer, api, type Intent, of, type ReachQuestion, seen, trying } from "./client";
import { useWork } from "./work";

/** What takes longer than a blink: worked out beside the page, and kept by version. */

/** The book of a version; the verdicts before stay, as such, until it is there. */
export const useBook = (id: string, version: number, at: string | null) =>
  useWork({
    queryKey: ["book", id, version, at],
    begin: (signal) => answer(api.POST("/api/networks/{network_id}/book", { params: seen(id, at), signal })),
  });

/** How many requirements can be asked for sooner than others. */
const MOST_SOONER = 200;

/**
 * The policy of a version; the answers before stay until the new ones are there.
 *
 * `sooner` says which requirements are looked at when it is asked for: they are proved before the others.
 */
export const usePolicy = (
  id: string,
  version: number,
  at: string | null,
  any: boolean,
  sooner: () => string[],
) =>
  useWork({
    queryKey: ["policy", id, version, at],
    begin: (signal) =>
      answer(
        api.POST("/api/networks/{network_id}/policy", {
          params: seen(id, at),
          body: { sooner: sooner().slice(0, MOST_SOONER) },
          signal,
        }),
      ),
    enabled: any,
  });

/** `asked`: whether it is worked out; else what is known already is there. */
export const useFindings = (id: string, version: number, at: string | null, asked = true) =>
  useWork({
    queryKey: ["findings", id, version, at],
    begin: (signal) =>
      answer(api.POST("/api/networks/{network_id}/findings", { params: seen(id, at), signal })),
    enabled: asked,
  });

/** Where a requirement or a test flow's expectation could be made to hold, once it is asked for. */
export const useAdvice = (id: string, version: number, at: string | null, text: string, asked: boolean) =>
  useWork({
    queryKey: ["advice", id, version, at, text],
    begin: (signal) =>
      answer(api.POST("/api/networks/{network_id}/advice", { params: seen(id, at), body: { text }, signal })),
    enabled: asked,
    keep: false,
  });

/** The matrix of a question, of the draft or of a trial. */
export const useReach = (
  id: string,
  version: number,
  at: string | null,
  question: ReachQuestion,
  intent: Intent | null,
) =>
  useWork({
    queryKey: ["reach", id, version, at, question, intent],
    begin: (signal) =>
      answer(
        api.POST("/api/networks/{network_id}/reach", {
          params: seen(id, at),
          body: { ...question, ...trying(intent) },
          signal,
        }),
      ),
  });

/** A list as short as it can be, as it is typed. */
export const useTidied = (id: string, version: number, { name, family, kind }: AccessList, entries: string) =>
  useWork({
    queryKey: ["tidied", id, version, name, family, kind, entries],
    begin: (signal) =>
      answer(
        api.POST("/api/networks/{network_id}/lists/tidy", {
          params: of(id),
          body: { name, family, kind, entries },
          signal,
        }),
      ),
    keep: false,
  });

/** All lists of the draft that can be shorter. */
export const useAllTidied = (id: string, version: number) =>
  useWork({
    queryKey: ["all tidied", id, version],
    begin: (signal) => answer(api.POST("/api/networks/{network_id}/tidy", { params: of(id), signal })),
    keep: false,
  });

/** What a list decides otherwise as it is typed than as it is saved; what was said before stays meanwhile. */
export const useTypedPackets = (
  id: string,
  version: number,
  { name, family, kind }: AccessList,
  entries: string,
  enabled: boolean,
) =>
  useWork({
    queryKey: ["typed packets", id, version, name, family, kind, entries],
    begin: (signal) =>
      answer(
        api.POST("/api/networks/{network_id}/lists/packets", {
          params: of(id),
          body: { name, family, kind, entries },
          signal,
        }),
      ),
    enabled,
  });

/** Which packets the draft permits that running does not, and the other way round. */
export const useChangedPackets = (id: string, version: number, any: boolean) =>
  useWork({
    queryKey: ["changed packets", id, version],
    begin: (signal) =>
      answer(api.POST("/api/networks/{network_id}/changes/packets", { params: of(id), signal })),
    enabled: any,
  });

/** What a later revision, or the draft, has otherwise than an earlier one. */
export const useComparedRevisions = (id: string, version: number, before: number, after: number | null) =>
  useWork({
    queryKey: ["compared revisions", id, after === null ? version : null, before, after],
    begin: (signal) =>
      answer(
        api.POST("/api/networks/{network_id}/revisions/compare", {
          params: of(id),
          body: { before, after },
          signal,
        }),
      ),
    keep: false,
  });

/** Lists that make all requirements hold, once they are asked for. */
export const useAllHolding = (id: string, version: number, at: string | null) =>
  useWork({
    queryKey: ["all holding", id, version, at],
    begin: (signal) =>
      answer(api.POST("/api/networks/{network_id}/policy/make-hold", { params: seen(id, at), signal })),
    keep: false,
  });
