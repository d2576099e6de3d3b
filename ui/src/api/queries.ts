import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import {
  ApiError,
  ask,
  type Book,
  type Change,
  type Count,
  type DeviceFacts,
  type Difference,
  type NetworkSummary,
  type OpenNetwork,
  type Parting,
  type PartLines,
  type PastResult,
  type Places,
  type ReachForeseen,
  type Ready,
  type RevisionItem,
  type Run,
  type Sent,
  type State,
  type TraceReport,
  type Written,
} from "./client";
import { finished, useProgress, useWork, type Work } from "./work";

const OTHER_WINDOWS = 4000;

export const useNetworks = () =>
  useQuery({ queryKey: ["networks"], queryFn: () => ask<NetworkSummary[]>("/networks") });

/** The open network; looks now and then whether another window has changed it, and only then reads it again. */
export function useNetwork(id: string) {
  const client = useQueryClient();
  const queryKey = ["network", id];
  const done = useProgress(queryKey);
  const found = useQuery({
    queryKey,
    queryFn: async ({ signal }) => {
      await finished(
        client,
        queryKey,
        (signal) => ask<Work<Ready>>(`/networks/${id}/open`, { method: "POST", signal }),
        signal,
      );
      const read = await ask<OpenNetwork>(`/networks/${id}`);
      // An edit that was made meanwhile has brought something newer.
      const held = client.getQueryData<OpenNetwork>(["network", id]);
      return held && held.version > read.version ? held : read;
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
  const { data: summaries } = useQuery({
    queryKey: ["networks"],
    queryFn: () => ask<NetworkSummary[]>("/networks"),
    refetchInterval: OTHER_WINDOWS,
    refetchOnWindowFocus: "always",
  });
  const newest = summaries?.find((each) => each.id === id)?.version;
  const gone = summaries !== undefined && newest === undefined;
  const version = found.data?.version;
  useEffect(() => {
    const behind = newest !== undefined && version !== undefined && newest > version;
    if (behind || (gone && version !== undefined)) client.invalidateQueries({ queryKey: ["network", id] });
  }, [newest, gone, version, id, client]);
  return { ...found, done };
}

/** The book of a version, tried beside the page; the verdicts before stay, as such, until it is there. */
export const useBook = (id: string, version: number) =>
  useWork<Book>({
    queryKey: ["book", id, version],
    begin: (signal) => ask<Work<Book>>(`/networks/${id}/book`, { method: "POST", signal }),
  });

export const usePlaces = (id: string, version: number) =>
  useQuery({
    queryKey: ["places", id, version],
    queryFn: () => ask<Places>(`/networks/${id}/places`),
    placeholderData: keepPreviousData,
  });

/** The trace of a flow in one state; of a trial, after changes that are not made. */
export const useTrace = (
  id: string,
  version: number,
  flow: string | null,
  state: State,
  trial: Change[] | null,
) =>
  useQuery({
    queryKey: ["trace", id, version, flow, state, trial],
    queryFn: ({ signal }) =>
      ask<TraceReport>(`/networks/${id}/trace`, { body: { flow, state, changes: trial ?? [] }, signal }),
    enabled: flow !== null,
    placeholderData: (previous) => (previous?.flow === flow ? previous : undefined),
    retry: false,
    gcTime: trial ? 30_000 : undefined,
  });

/** What differs between what is running and the draft, line by line. */
export const useDifferences = (id: string, version: number) =>
  useQuery({
    queryKey: ["differences", id, version],
    queryFn: () => ask<Difference[]>(`/networks/${id}/changes`),
    placeholderData: keepPreviousData,
  });

/** Where the traces of a flow part: no lists from running, running from draft. */
export const usePartings = (id: string, version: number, flow: string | null) =>
  useQuery({
    queryKey: ["partings", id, version, flow],
    queryFn: () => ask<Parting[]>(`/networks/${id}/compare`, { body: { flow } }),
    enabled: flow !== null,
    retry: false,
  });

/** What a test flow came to on the draft, newest first; `version` is the book's, which is what was recorded. */
export const useHistory = (id: string, version: number | undefined, test: string) =>
  useQuery({
    queryKey: ["history", id, version, test],
    queryFn: () => ask<PastResult[]>(`/networks/${id}/tests/${test}/history`),
    enabled: version !== undefined,
  });

/** What the book would say after `changes`, which are not made. */
export const usePreview = (id: string, version: number, changes: Change[] | null) =>
  useQuery({
    queryKey: ["preview", id, version, changes],
    queryFn: ({ signal }) => ask<Book>(`/networks/${id}/preview`, { body: { changes }, signal }),
    enabled: changes !== null,
    placeholderData: changes === null ? undefined : keepPreviousData,
    retry: false,
    gcTime: 30_000,
  });

/** How many cells of the reach matrix `changes` would change, and which way. */
export const useReachPreview = (id: string, version: number, changes: Change[] | null) =>
  useQuery({
    queryKey: ["reach-preview", id, version, changes],
    queryFn: ({ signal }) =>
      ask<ReachForeseen>(`/networks/${id}/reach/preview`, { body: { changes }, signal }),
    enabled: changes !== null,
    retry: false,
    gcTime: 30_000,
  });

export const useDeviceFacts = (id: string, version: number, device: string, state: State) =>
  useQuery({
    queryKey: ["facts", id, version, device, state],
    queryFn: () => ask<DeviceFacts>(`/networks/${id}/devices/${device}?state=${state}`),
    placeholderData: keepPreviousData,
  });

/** The parts of a device, each as the line that makes it. */
export const useParts = (id: string, version: number, device: string) =>
  useQuery({
    queryKey: ["parts", id, version, device],
    queryFn: () => ask<PartLines[]>(`/networks/${id}/devices/${device}/parts`),
    placeholderData: (previous, query) => (query?.queryKey[3] === device ? previous : undefined),
  });

export const useCounters = (id: string) =>
  useQuery({ queryKey: ["counters", id], queryFn: () => ask<Count[]>(`/networks/${id}/counters`) });

/** The newest lines of the log in which `text` stands, of one action or both. */
export const useLog = (id: string, text: string, action: string) =>
  useQuery({
    queryKey: ["log", id, text, action],
    queryFn: () => {
      const query = new URLSearchParams();
      if (text) query.set("text", text);
      if (action) query.set("action", action);
      return ask<Written[]>(`/networks/${id}/log?${query}`);
    },
    placeholderData: keepPreviousData,
  });

/** Sending a flow through what is running, and forgetting what was sent. */
export function useTraffic(id: string) {
  const client = useQueryClient();
  const onSuccess = () => {
    client.invalidateQueries({ queryKey: ["counters", id] });
    client.invalidateQueries({ queryKey: ["log", id] });
  };
  const send = useMutation({
    mutationFn: (request: { flow: string; times: number; state: State }) =>
      ask<Sent>(`/networks/${id}/send`, { body: request }),
    onSuccess,
  });
  const run = useMutation({
    mutationFn: (request: { tests: string[] | null; state: State }) =>
      ask<Run>(`/networks/${id}/run`, { body: request }),
    onSuccess,
  });
  const reset = useMutation({
    mutationFn: () => ask<void>(`/networks/${id}/counters`, { method: "DELETE" }),
    onSuccess,
  });
  return { send, run, reset };
}

export const useRevisions = (id: string, version: number) =>
  useQuery({
    queryKey: ["revisions", id, version],
    queryFn: () => ask<RevisionItem[]>(`/networks/${id}/revisions`),
  });

export type DraftStep = "undo" | "redo" | "discard" | "apply";

export interface EditRequest {
  label: string;
  changes: Change[];
}

/** Writes to the draft. Each is based on the version on screen; a conflict shows the newer draft. */
export function useDraft(id: string) {
  const client = useQueryClient();
  const keep = (network: OpenNetwork) => client.setQueryData(["network", id], network);
  const version = () => client.getQueryData<OpenNetwork>(["network", id])?.version;
  const onError = (error: Error) => {
    if (error instanceof ApiError && error.conflict) client.invalidateQueries({ queryKey: ["network", id] });
  };
  const edit = useMutation({
    mutationFn: (request: EditRequest) =>
      ask<OpenNetwork>(`/networks/${id}/draft/edits`, { body: request, version: version() }),
    onSuccess: keep,
    onError,
  });
  const step = useMutation({
    mutationFn: ({ step, note }: { step: DraftStep; note?: string }) =>
      ask<OpenNetwork>(`/networks/${id}/draft/${step}`, {
        method: "POST",
        body: step === "apply" ? { note: note ?? "" } : undefined,
        version: version(),
      }),
    onSuccess: keep,
    onError,
  });
  const restore = useMutation({
    mutationFn: (revision: number) =>
      ask<OpenNetwork>(`/networks/${id}/revisions/${revision}/restore`, {
        method: "POST",
        version: version(),
      }),
    onSuccess: keep,
    onError,
  });
  return { edit, step, restore };
}

export type Draft = ReturnType<typeof useDraft>;
