import { useQuery } from "@tanstack/react-query";
import { type Advice, ask, type Findings, type Policy } from "../api/client";
import { useDone, type Work, worked } from "../api/work";

/** The policy of a version, proved beside the page; the answers before stay until the new ones are there. */
export function usePolicy(id: string, version: number, any: boolean) {
  const [done, setDone] = useDone();
  const found = useQuery({
    queryKey: ["policy", id, version],
    queryFn: ({ signal }) =>
      worked(
        () => ask<Work<Policy>>(`/networks/${id}/policy`, { method: "POST", signal }),
        "/policy",
        signal,
        setDone,
      ),
    placeholderData: (before) => before,
    enabled: any,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  return { ...found, done };
}

export function useFindings(id: string, version: number) {
  const [done, setDone] = useDone();
  const found = useQuery({
    queryKey: ["findings", id, version],
    queryFn: ({ signal }) =>
      worked(
        () => ask<Work<Findings>>(`/networks/${id}/findings`, { method: "POST", signal }),
        "/findings",
        signal,
        setDone,
      ),
    placeholderData: (before) => before,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  return { ...found, done };
}

/** Where a requirement or a test flow's expectation could be made to hold, once it is asked for. */
export function useAdvice(id: string, version: number, text: string, asked: boolean) {
  const [done, setDone] = useDone();
  const found = useQuery({
    queryKey: ["advice", id, version, text],
    queryFn: ({ signal }) =>
      worked(
        () => ask<Work<Advice>>(`/networks/${id}/advice`, { body: { text }, signal }),
        "/advice",
        signal,
        setDone,
      ),
    enabled: asked,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  return { ...found, done };
}
