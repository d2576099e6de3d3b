import {
  keepPreviousData,
  type QueryClient,
  type QueryKey,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { ApiError, answer, api } from "./client";

const BETWEEN_LOOKS = 250;
/** How often work that the server no longer knows is begun anew before that is shown as an error. */
const MOST_BEGUN = 3;

/** How far long work is, what of its result is known already, and all of it once it is there. */
export interface Work<T> {
  id: string;
  done: number;
  stage: string;
  /** Null where no more is known than when it was told last. */
  early?: T | null;
  known?: number;
  result: T | null;
}

/** How much of work is done, 0 to 1, what it is at, where that has a name, and what is known already. */
export interface Standing {
  done: number;
  stage: string;
  early?: unknown;
}

const BEGUN: Standing = { done: 0, stage: "", early: null };

interface LongWork<T> {
  queryKey: QueryKey;
  begin: (signal: AbortSignal) => Promise<Work<T>>;
  enabled?: boolean;
  /** Whether the result before stays until the new one is there. */
  keep?: boolean;
}

/** How far work is stands beside its query, so that whoever looks at it reads the same. */
const progressKey = (queryKey: QueryKey): QueryKey => ["progress", ...queryKey];

/** Tells whoever looks at a query how far its work is. */
export const telling =
  (client: QueryClient, queryKey: QueryKey) =>
  ({ done, stage, early = null }: Standing) =>
    void client.setQueryData<Standing>(progressKey(queryKey), { done, stage, early });

/** How far the work of a query is. */
export function useStanding(queryKey: QueryKey): Standing {
  const { data = BEGUN } = useQuery<Standing>({
    queryKey: progressKey(queryKey),
    queryFn: () => BEGUN,
    enabled: false,
    initialData: BEGUN,
  });
  return data;
}

/** A computation beside the page, as far as it is; leaving it, or asking anew, cancels it. */
export function useWork<T>({ queryKey, begin, enabled = true, keep = true }: LongWork<T>) {
  const client = useQueryClient();
  const found = useQuery<T>({
    queryKey,
    queryFn: ({ signal }) => finished(client, queryKey, begin, signal),
    placeholderData: keep ? keepPreviousData : undefined,
    enabled,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  const { done, early } = useStanding(queryKey);
  return { ...found, done, early: found.isFetching ? (early as T | null) : null, working: found.isFetching };
}

/** The result of work, however long it takes; what the server has forgotten is begun anew. */
export async function finished<T>(
  client: QueryClient,
  queryKey: QueryKey,
  begin: (signal: AbortSignal) => Promise<Work<T>>,
  signal: AbortSignal,
): Promise<T> {
  const tell = telling(client, queryKey);
  let work: Work<T> | null = null;
  const job = () => ({ path: { job_id: work?.id ?? "" } });
  const cancel = () => work && void api.DELETE("/api/jobs/{job_id}", { params: job() }).catch(() => null);
  signal.addEventListener("abort", cancel);
  try {
    for (let begun = 1; ; begun++) {
      tell(BEGUN);
      work = await begin(signal);
      let { early } = work;
      try {
        while (work.result === null) {
          tell({ ...work, early });
          await new Promise((resolve) => setTimeout(resolve, BETWEEN_LOOKS));
          signal.throwIfAborted();
          const params = { ...job(), query: { known: work.known } };
          work = (await answer(api.GET("/api/jobs/{job_id}", { params, signal }))) as Work<T>;
          early = work.early ?? early;
        }
        tell(work);
        return work.result;
      } catch (error) {
        const forgotten = error instanceof ApiError && error.status === 404;
        if (!forgotten || begun === MOST_BEGUN) throw error;
      }
    }
  } finally {
    signal.removeEventListener("abort", cancel);
  }
}
