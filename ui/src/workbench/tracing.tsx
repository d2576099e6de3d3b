import { createContext, type ReactNode, useEffect, useMemo } from "react";
import type { ExchangeReport, TestFlow, TraceReport } from "../api/client";
import { useTrace } from "../api/queries";
import { useLocation } from "../state/location";
import { notRunningYet } from "../state/running";
import { bareFlow } from "../state/words";
import { useOpened } from "./opened";
import { useProvided } from "./provided";
import { share, useShared } from "./store";
import { useTrial } from "./trial";

interface Tracing {
  /** The test flow that is traced. */
  test: TestFlow | null;
  /** The ends of it that are not running yet, where that is what is looked at. */
  missing: string;
  trace: TraceReport | undefined;
  /** The conversation shown, of those over several equal paths. */
  shown: ExchangeReport | undefined;
  exchange: number;
  error: Error | null;
  refetch: () => void;
}

const TracingContext = createContext<Tracing | null>(null);

export const useTracing = () => useProvided(TracingContext);

export function TracingProvider({ children }: { children: ReactNode }) {
  const { id, network, at } = useOpened();
  const { trial, viewing } = useTrial();
  const { test: chosen, state } = useLocation();
  const test = network.draft.tests.find((each) => each.id === chosen) ?? null;
  const flow = test && bareFlow(test.flow);
  const absent = test && viewing === "running" ? notRunningYet(network, test.flow) : [];
  const tried = viewing === "trial" ? (trial?.intent ?? null) : null;
  const {
    data: trace,
    error,
    refetch,
  } = useTrace(id, network.version, at, absent.length ? null : flow, tried ? "draft" : state, tried);
  const picked = useShared((shared) => shared.exchange);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another way has other hops
  useEffect(() => {
    share({ exchange: 0, hop: null });
  }, [flow, viewing]);
  const missing = absent.join(", ");
  const queries = trace?.queries.length ?? 0;
  // Queries for the destination's name come before the conversation's own paths, and are picked by numbers below 0.
  const exchange = Math.max(-queries, Math.min(picked, Math.max((trace?.exchanges.length ?? 1) - 1, 0)));
  const shown = exchange < 0 ? trace?.queries[queries + exchange]?.exchange : trace?.exchanges[exchange];
  const tracing = useMemo(
    () => ({ test, missing, trace, shown, exchange, error, refetch }),
    [test, missing, trace, shown, exchange, error, refetch],
  );
  return <TracingContext value={tracing}>{children}</TracingContext>;
}
