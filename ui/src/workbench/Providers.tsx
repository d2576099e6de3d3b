import { type ReactNode, useEffect } from "react";
import type { OpenNetwork } from "../api/client";
import { CarryingProvider } from "./carrying";
import { ForeseenProvider } from "./foreseen";
import { OpenedProvider } from "./opened";
import { shareNothing } from "./store";
import { TracingProvider } from "./tracing";

interface Props {
  id: string;
  network: OpenNetwork;
  children: ReactNode;
}

/** What is worked out once from the open network, for all parts of the workbench; what somebody is at stands in the store. */
export function Providers({ id, network, children }: Props) {
  useEffect(() => shareNothing, []);
  return (
    <OpenedProvider id={id} network={network}>
      <TracingProvider>
        <CarryingProvider>
          <ForeseenProvider>{children}</ForeseenProvider>
        </CarryingProvider>
      </TracingProvider>
    </OpenedProvider>
  );
}
