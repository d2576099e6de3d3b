import { type Advice, ask, type Findings, type Policy } from "../api/client";
import { useWork, type Work } from "../api/work";

/** The policy of a version, proved beside the page; the answers before stay until the new ones are there. */
export const usePolicy = (id: string, version: number, any: boolean) =>
  useWork<Policy>({
    queryKey: ["policy", id, version],
    begin: (signal) => ask<Work<Policy>>(`/networks/${id}/policy`, { method: "POST", signal }),
    enabled: any,
  });

export const useFindings = (id: string, version: number) =>
  useWork<Findings>({
    queryKey: ["findings", id, version],
    begin: (signal) => ask<Work<Findings>>(`/networks/${id}/findings`, { method: "POST", signal }),
  });

/** Where a requirement or a test flow's expectation could be made to hold, once it is asked for. */
export const useAdvice = (id: string, version: number, text: string, asked: boolean) =>
  useWork<Advice>({
    queryKey: ["advice", id, version, text],
    begin: (signal) => ask<Work<Advice>>(`/networks/${id}/advice`, { body: { text }, signal }),
    enabled: asked,
    keep: false,
  });
