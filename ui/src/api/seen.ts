import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { askAnew } from "./anew";
import { answer, api, of } from "./client";
import { formOf } from "./files";
import type { components } from "./generated";
import { finished, useStanding, useWork } from "./work";

/** Traffic that was really there: brought in, and judged in every state. */

export type TrafficRow = components["schemas"]["TrafficRow"];
export type TrafficRead = components["schemas"]["TrafficRead"];

const readKey = (id: string) => ["seen", "read", id];
const verdictsKey = (id: string) => ["seen", "verdicts", id];

/** The traffic of a network, new files for it, and what becomes of it in a version. */
export function useSeen(id: string, version: number, at: string | null) {
  const client = useQueryClient();
  const [reading, setReading] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  const standing = useStanding(readKey(id));
  const read = useQuery<TrafficRead | null>({
    queryKey: ["seen", "told", id],
    queryFn: () => null,
    initialData: null,
    enabled: false,
    gcTime: Number.POSITIVE_INFINITY,
  });
  const verdicts = useWork({
    queryKey: [...verdictsKey(id), version, at],
    begin: (signal) =>
      answer(
        api.POST("/api/networks/{network_id}/traffic/verdicts", {
          params: { ...of(id), query: at ? { at } : {} },
          signal,
        }),
      ),
  });
  const bring = async (files: readonly File[]) => {
    if (files.length === 0) return;
    setReading(true);
    setError(null);
    const stop = new AbortController();
    try {
      const found = await finished<TrafficRead>(
        client,
        readKey(id),
        (signal) =>
          answer(
            api.POST("/api/networks/{network_id}/traffic", {
              params: of(id),
              body: { files: [], columns: "{}" },
              bodySerializer: () => formOf(files),
              signal,
            }),
          ),
        stop.signal,
      );
      client.setQueryData(["seen", "told", id], found);
      await askAnew(client, verdictsKey(id));
    } catch (failed) {
      setError(failed as Error);
    } finally {
      setReading(false);
    }
  };
  return { read: read.data, reading, standing, error, bring, verdicts };
}

/** The entries that would let conversations through. */
export const entriesFor = (id: string, rows: readonly number[]) =>
  answer(
    api.POST("/api/networks/{network_id}/traffic/entries", { params: of(id), body: { rows: [...rows] } }),
  );
