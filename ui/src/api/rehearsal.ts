import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { askAnew } from "./anew";
import { answer, api, of } from "./client";
import type { components } from "./generated";
import { finished, useStanding } from "./work";

/** Rehearsals: the draft in a real kernel. */

export type TriedReport = components["schemas"]["TriedReport"];
type LastRehearsal = components["schemas"]["LastRehearsal"];

const stateKey = (id: string, version: number) => ["rehearsal", id, version];
const workKey = (id: string) => ["rehearsing", id];

/** What the last rehearsal of a network saw; it grows stale when the draft changes. */
export const useLastRehearsal = (id: string, version: number) =>
  useQuery({
    queryKey: stateKey(id, version),
    queryFn: () => answer(api.GET("/api/networks/{network_id}/rehearsal", { params: of(id) })),
  });

/** The same, and a new one, which can be begun and cancelled. */
export function useRehearsal(id: string, version: number) {
  const client = useQueryClient();
  const read = useLastRehearsal(id, version);
  const [working, setWorking] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  const standing = useStanding(workKey(id));
  const ending = useRef<AbortController | null>(null);
  useEffect(() => () => ending.current?.abort(), []);
  const begin = async () => {
    ending.current = new AbortController();
    const { signal } = ending.current;
    setWorking(true);
    setError(null);
    try {
      await finished(
        client,
        workKey(id),
        () => answer(api.POST("/api/networks/{network_id}/rehearsal", { params: of(id), signal })),
        signal,
      );
      await askAnew(client, ["rehearsal", id]);
    } catch (failed) {
      if (!signal.aborted) setError(failed as Error);
    } finally {
      setWorking(false);
    }
  };
  const cancel = () => ending.current?.abort();
  return {
    state: read.data,
    error: error ?? read.error,
    refetch: read.refetch,
    working,
    standing,
    begin,
    cancel,
  };
}

/** What was seen of a test flow, or of the query for its name: where it went otherwise, else the first time. */
export function seenOf(
  last: LastRehearsal | null | undefined,
  test: string,
  query: boolean,
): TriedReport | undefined {
  const found = last?.report.tried.filter((each) => each.test === test && each.query === query) ?? [];
  return found.find((each) => !each.agrees) ?? found[0];
}

/** Whether all that was tried for each test flow, or each requirement, went as predicted, by its id. */
export function agreeing(
  last: LastRehearsal | null | undefined,
  kind: "test" | "requirement",
): ReadonlyMap<string, boolean> {
  const found = new Map<string, boolean>();
  for (const each of last?.report.tried ?? []) {
    const of = each[kind];
    if (of) found.set(of, each.agrees && (found.get(of) ?? true));
  }
  return found;
}
