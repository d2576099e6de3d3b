import type { ReactNode } from "react";
import type { OpenNetwork } from "../api/client";
import { CarryingProvider } from "./carrying";
import { ForeseenProvider } from "./foreseen";
import { LensProvider } from "./lens";
import { OpenedProvider } from "./opened";
import { TracingProvider } from "./tracing";
import { TrialProvider } from "./trial";

interface Props {
  id: string;
  network: OpenNetwork;
  children: ReactNode;
}

/** What the parts of the workbench share, each thing in a context of its own: who reads one is drawn anew with it alone. */
export function Providers({ id, network, children }: Props) {
  return (
    <OpenedProvider id={id} network={network}>
      <TrialProvider>
        <TracingProvider>
          <CarryingProvider>
            <ForeseenProvider>
              <LensProvider>{children}</LensProvider>
            </ForeseenProvider>
          </CarryingProvider>
        </TracingProvider>
      </TrialProvider>
    </OpenedProvider>
  );
}
