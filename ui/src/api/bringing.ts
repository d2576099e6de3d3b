import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { answer, api, basedOn, of } from "./client";
import { formOf } from "./files";
import type { components } from "./generated";
import { opened } from "./patched";
import { finished, useStanding } from "./work";

/** What exists is brought in: files are read by the server, looked at, and then made or merged. */

export type BroughtReport = components["schemas"]["BroughtReport"];
export type MergeItem = components["schemas"]["MergeItem"];
export type NoticeItem = components["schemas"]["NoticeItem"];

/** A bundle that was read: what the server calls it, and what is in it. */
export interface Brought {
  id: string;
  report: BroughtReport;
}

const READING = ["bringing"];

/** Files on their way in: chosen, dropped or pasted. */
export function useBringing() {
  const client = useQueryClient();
  const { done } = useStanding(READING);
  const [reading, setReading] = useState<string | null>(null);
  const [brought, setBrought] = useState<Brought | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const ending = useRef<AbortController | null>(null);
  useEffect(() => () => ending.current?.abort(), []);

  const begin = async (files: readonly File[]) => {
    const [first] = files;
    if (!first) return;
    ending.current?.abort();
    const stop = new AbortController();
    ending.current = stop;
    setReading(files.length === 1 ? first.name : `${files.length} files`);
    setBrought(null);
    setError(null);
    try {
      let id = "";
      const report = await finished<BroughtReport>(
        client,
        READING,
        async (signal) => {
          const work = await answer(
            api.POST("/api/bring", { body: { files: [] }, bodySerializer: () => formOf(files), signal }),
          );
          id = work.id;
          return work;
        },
        stop.signal,
      );
      setBrought({ id, report });
    } catch (failed) {
      if (!stop.signal.aborted) setError(failed as Error);
    } finally {
      if (ending.current === stop) setReading(null);
    }
  };
  const leave = () => {
    ending.current?.abort();
    setReading(null);
    setBrought(null);
    setError(null);
  };
  return { begin, leave, reading, done, brought, error, setError };
}

export const makeBrought = (id: string, name: string) =>
  answer(api.POST("/api/bring/{job_id}/network", { params: { path: { job_id: id } }, body: { name } }));

export const offerOf = (network: string, id: string) =>
  answer(
    api.GET("/api/networks/{network_id}/bring/{job_id}", {
      params: { path: { network_id: network, job_id: id } },
    }),
  );

export const mergeInto = async (network: string, version: number, id: string, items: readonly MergeItem[]) =>
  opened(
    await answer(
      api.POST("/api/networks/{network_id}/bring/{job_id}", {
        params: { path: { ...of(network).path, job_id: id }, header: basedOn(version) },
        body: { items: items.map(({ collection, key }) => ({ collection, key })) },
      }),
    ),
  );

/** What a paste holds, as files. */
export function pasted(data: DataTransfer | null): File[] {
  if (!data) return [];
  if (data.files.length > 0) return [...data.files];
  const text = data.getData("text/plain");
  if (!text.trim()) return [];
  return [new File([text], text.trimStart().startsWith("{") ? "pasted.json" : "pasted.yaml")];
}
