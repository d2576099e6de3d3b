import { createContext, type ReactNode, useContext, useEffect, useMemo, useState } from "react";
import type { ExchangeReport, TestFlow, TraceReport } from "../api/client";
import { useTrace } from "../api/queries";
import { useLocation } from "../state/location";
import { notRunningYet } from "../state/running";
import { bareFlow } from "../state/words";
import { useOpened } from "./opened";
import { useTrial } from "./trial";

/** A hop that is looked at: which way, and its number on it. */
export interface LookedAt {
  way: "out" | "home";
  index: number;
}

interface Tracing {
  /** The test flow that is traced. */
  test: TestFlow | null;
  /** The ends of it that are not running yet, where that is what is looked at. */
  missing: string;
  trace: TraceReport | undefined;
  /** The conversation shown, of those over several equal paths. */
  shown: ExchangeReport | undefined;
  exchange: number;
  setExchange: (index: number) => void;
  hop: LookedAt | null;
  setHop: (hop: LookedAt | null) => void;
  error: Error | null;
  refetch: () => void;
}

const TracingContext = createContext<Tracing | null>(null);

export function useTracing(): Tracing {
  const tracing = useContext(TracingContext);
  if (!tracing) throw new Error("useTracing needs a TracingProvider above it");
  return tracing;
}

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
  const [picked, setExchange] = useState(0);
  const [hop, setHop] = useState<LookedAt | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another way has other hops
  useEffect(() => {
    setExchange(0);
    setHop(null);
  }, [flow, viewing]);
  const missing = absent.join(", ");
  const queries = trace?.queries.length ?? 0;
  // Queries for the destination's name come before the conversation's own paths, and are picked by numbers below 0.
  const exchange = Math.max(-queries, Math.min(picked, Math.max((trace?.exchanges.length ?? 1) - 1, 0)));
  const shown = exchange < 0 ? trace?.queries[queries + exchange]?.exchange : trace?.exchanges[exchange];
  const tracing = useMemo(
    () => ({
      test,
      missing,
      trace,
      shown,
      exchange,
      setExchange,
      hop,
      setHop,
      error,
      refetch,
    }),
    [test, missing, trace, shown, exchange, hop, error, refetch],
  );
  return <TracingContext value={tracing}>{children}</TracingContext>;
}
