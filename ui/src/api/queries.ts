import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { askAnew } from "./anew";
import {
  ApiError,
  answer,
  api,
  asWritten,
  basedOn,
  type Intent,
  type NetworkPatch,
  type OpenNetwork,
  of,
  type State,
  seen,
  type ToldNetwork,
  trying,
} from "./client";
import { isPatch, opened, patched } from "./patched";
import { finished, useStanding } from "./work";

const OTHER_WINDOWS = 4000;

const networks = () => ({
  queryKey: ["networks"],
  queryFn: () => answer(api.GET("/api/networks")),
});

export const useNetworks = () => useQuery(networks());

const readNetwork = async (id: string) =>
  opened(await answer(api.GET("/api/networks/{network_id}", { params: of(id) })));

/** The open network; looks now and then whether another window has changed it, and only then reads it again. */
export function useNetwork(id: string) {
  const client = useQueryClient();
  const queryKey = ["network", id];
  const { done } = useStanding(queryKey);
  const found = useQuery({
    queryKey,
    queryFn: async ({ signal }) => {
      await finished(
        client,
        queryKey,
        (signal) => answer(api.POST("/api/networks/{network_id}/open", { params: of(id), signal })),
        signal,
      );
      const read = await readNetwork(id);
      // An edit that was made meanwhile has brought something newer.
      const held = client.getQueryData<OpenNetwork>(["network", id]);
      return held && held.version > read.version ? held : read;
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
  const { data: summaries } = useQuery({
    ...networks(),
    refetchInterval: OTHER_WINDOWS,
    refetchOnWindowFocus: "always",
  });
  const newest = summaries?.find((each) => each.id === id)?.version;
  const gone = summaries !== undefined && newest === undefined;
  const version = found.data?.version;
  useEffect(() => {
    const behind = newest !== undefined && version !== undefined && newest > version;
    if (behind || (gone && version !== undefined)) askAnew(client, ["network", id]);
  }, [newest, gone, version, id, client]);
  return { ...found, done };
}

/** The places of a draft: of the version since which nothing was changed that they are made of. */
export const usePlaces = (id: string, version: number) =>
  useQuery({
    queryKey: ["places", id, version],
    queryFn: () => answer(api.GET("/api/networks/{network_id}/places", { params: of(id) })),
    placeholderData: keepPreviousData,
  });

/** Where the trade would put a list of the draft, once one is picked up. */
export const useCustomary = (id: string, version: number, list: string | null) =>
  useQuery({
    queryKey: ["customary", id, version, list],
    queryFn: () =>
      answer(
        api.GET("/api/networks/{network_id}/lists/{name}/places", {
          params: { path: { network_id: id, name: list ?? "" } },
        }),
      ),
    enabled: list !== null,
  });

/** The trace of a flow in one state; of a trial, as the draft would be. */
export const useTrace = (
  id: string,
  version: number,
  at: string | null,
  flow: string | null,
  state: State,
  intent: Intent | null,
) =>
  useQuery({
    queryKey: ["trace", id, version, at, flow, state, intent],
    queryFn: ({ signal }) =>
      answer(
        api.POST("/api/networks/{network_id}/trace", {
          params: seen(id, at),
          body: { flow: flow ?? "", state, ...trying(intent) },
          signal,
        }),
      ),
    enabled: flow !== null,
    placeholderData: (previous) => (previous?.flow === flow ? previous : undefined),
    retry: false,
    gcTime: intent ? 30_000 : undefined,
  });

/** The times at which other entries are there, each with a moment; one where nothing depends on time. */
export const useTimes = (id: string, version: number) =>
  useQuery({
    queryKey: ["times", id, version],
    queryFn: () => answer(api.GET("/api/networks/{network_id}/times", { params: of(id) })),
    placeholderData: keepPreviousData,
  });

/** What differs between what is running and the draft, line by line. */
export const useDifferences = (id: string, version: number) =>
  useQuery({
    queryKey: ["differences", id, version],
    queryFn: () => answer(api.GET("/api/networks/{network_id}/changes", { params: of(id) })),
    placeholderData: keepPreviousData,
  });

/** Where the traces of a flow part: no lists from running, running from draft. */
export const usePartings = (id: string, version: number, at: string | null, flow: string | null) =>
  useQuery({
    queryKey: ["partings", id, version, at, flow],
    queryFn: () =>
      answer(
        api.POST("/api/networks/{network_id}/compare", {
          params: seen(id, at),
          body: { flow: flow ?? "" },
        }),
      ),
    enabled: flow !== null,
    retry: false,
  });

/** What a test flow came to on the draft, newest first; `version` is the book's, which is what was recorded. */
export const useHistory = (id: string, version: number | undefined, test: string) =>
  useQuery({
    queryKey: ["history", id, version, test],
    queryFn: () =>
      answer(
        api.GET("/api/networks/{network_id}/tests/{test_id}/history", {
          params: { path: { network_id: id, test_id: test } },
        }),
      ),
    enabled: version !== undefined,
  });

/** What would be if an intent were carried out: the book, the placements, the lists. */
export const useForeseenOf = (id: string, version: number, at: string | null, intent: Intent | null) =>
  useQuery({
    queryKey: ["preview", id, version, at, intent],
    queryFn: ({ signal }) =>
      answer(
        api.POST("/api/networks/{network_id}/preview", {
          params: seen(id, at),
          body: { ...trying(intent) },
          signal,
        }),
      ),
    enabled: intent !== null,
    placeholderData: intent === null ? undefined : keepPreviousData,
    retry: false,
    gcTime: 30_000,
  });

/** How many cells of the reach matrix an intent would change, and which way; null: the draft as it is. */
export const useReachForeseen = (
  id: string,
  version: number,
  at: string | null,
  asked: boolean,
  intent: Intent | null,
) =>
  useQuery({
    queryKey: ["reach-preview", id, version, at, intent],
    queryFn: ({ signal }) =>
      answer(
        api.POST("/api/networks/{network_id}/reach/preview", {
          params: seen(id, at),
          body: { ...trying(intent) },
          signal,
        }),
      ),
    enabled: asked,
    retry: false,
    gcTime: 30_000,
  });

export const useDeviceFacts = (
  id: string,
  version: number,
  at: string | null,
  device: string,
  state: State,
) =>
  useQuery({
    queryKey: ["facts", id, version, at, device, state],
    queryFn: () =>
      answer(
        api.GET("/api/networks/{network_id}/devices/{name}", {
          params: { path: { network_id: id, name: device }, query: { state, ...(at ? { at } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

/** The parts of a device, each as the line that makes it. */
export const useParts = (id: string, version: number, device: string) =>
  useQuery({
    queryKey: ["parts", id, version, device],
    queryFn: () =>
      answer(
        api.GET("/api/networks/{network_id}/devices/{name}/parts", {
          params: { path: { network_id: id, name: device } },
        }),
      ),
    placeholderData: (previous, query) => (query?.queryKey[3] === device ? previous : undefined),
  });

export const useCounters = (id: string) =>
  useQuery({
    queryKey: ["counters", id],
    queryFn: () => answer(api.GET("/api/networks/{network_id}/counters", { params: of(id) })),
  });

/** The newest lines of the log in which `text` stands, of one action or both. */
export const useLog = (id: string, text: string, action: "permit" | "deny" | "") =>
  useQuery({
    queryKey: ["log", id, text, action],
    queryFn: () =>
      answer(
        api.GET("/api/networks/{network_id}/log", {
          params: { ...of(id), query: { text: text || null, action: action || null } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

/** Sending a flow through what is running, and forgetting what was sent. */
export function useTraffic(id: string, at: string | null) {
  const client = useQueryClient();
  const onSuccess = () => {
    askAnew(client, ["counters", id]);
    askAnew(client, ["log", id]);
  };
  const send = useMutation({
    mutationFn: (body: { flow: string; times: number; state: State }) =>
      answer(api.POST("/api/networks/{network_id}/send", { params: seen(id, at), body })),
    onSuccess,
  });
  const run = useMutation({
    mutationFn: (body: { tests: string[] | null; state: State }) =>
      answer(api.POST("/api/networks/{network_id}/run", { params: seen(id, at), body })),
    onSuccess,
  });
  const reset = useMutation({
    mutationFn: () => answer(api.DELETE("/api/networks/{network_id}/counters", { params: of(id) })),
    onSuccess,
  });
  return { send, run, reset };
}

export const useRevisions = (id: string, version: number) =>
  useQuery({
    queryKey: ["revisions", id, version],
    queryFn: () => answer(api.GET("/api/networks/{network_id}/revisions", { params: of(id) })),
  });

export type DraftStep = "undo" | "redo" | "discard" | "apply";

/** Writes to the draft. Each is based on the version on screen; a conflict shows the newer draft. */
export function useDraft(id: string) {
  const client = useQueryClient();
  const queryKey = ["network", id];
  const keep = (network: OpenNetwork) => client.setQueryData(queryKey, network);
  const held = () => client.getQueryData<OpenNetwork>(queryKey);
  const params = () => ({ ...of(id), header: { ...basedOn(held()?.version), prefer: "return=minimal" } });
  /** The network as a write left it: what is answered are the differences, unless there is too much else. */
  const written = async (asked: Promise<ToldNetwork | NetworkPatch>): Promise<OpenNetwork> => {
    const told = await asked;
    if (!isPatch(told)) return opened(told);
    const before = held();
    return (before && patched(before, told)) ?? readNetwork(id);
  };
  const onError = (error: Error) => {
    if (error instanceof ApiError && error.conflict) askAnew(client, queryKey);
  };
  // One edit after another: each is based on what the one before it left.
  const scope = { id: `draft of ${id}` };
  const carryOut = useMutation({
    scope,
    mutationFn: (intent: Intent) =>
      written(
        answer(
          api.POST("/api/networks/{network_id}/draft/intents", { params: params(), body: asWritten(intent) }),
        ),
      ),
    onSuccess: keep,
    onError,
  });
  const step = useMutation({
    scope,
    mutationFn: ({ step, note = "" }: { step: DraftStep; note?: string }) => {
      const asked = { params: params() };
      if (step === "undo") return written(answer(api.POST("/api/networks/{network_id}/draft/undo", asked)));
      if (step === "redo") return written(answer(api.POST("/api/networks/{network_id}/draft/redo", asked)));
      if (step === "discard")
        return written(answer(api.POST("/api/networks/{network_id}/draft/discard", asked)));
      return written(
        answer(api.POST("/api/networks/{network_id}/draft/apply", { ...asked, body: { note } })),
      );
    },
    onSuccess: keep,
    onError,
  });
  const restore = useMutation({
    scope,
    mutationFn: (number: number) => {
      const { path, header } = params();
      return written(
        answer(
          api.POST("/api/networks/{network_id}/revisions/{number}/restore", {
            params: { path: { ...path, number }, header },
          }),
        ),
      );
    },
    onSuccess: keep,
    onError,
  });
  const { mutateAsync: carry, isPending: saving } = carryOut;
  const { mutate: take, isPending: stepping } = step;
  const { mutate: bring } = restore;
  return useMemo(
    () => ({ carryOut: carry, saving, step: take, stepping, restore: bring }),
    [carry, saving, take, stepping, bring],
  );
}

export type Draft = ReturnType<typeof useDraft>;
