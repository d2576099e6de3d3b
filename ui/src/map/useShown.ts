import { useMemo } from "react";
import type { Network, Placement } from "../api/client";
import { useForeseen } from "../workbench/foreseen";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";

/** Where lists stand in what is shown: in the draft, or as the trial would have it. */
export function useShownPlacements(): Placement[] {
  const { network } = useOpened();
  const { viewing } = useTrial();
  const { placements } = useForeseen();
  return viewing === "trial" && placements ? placements : network.draft.placements;
}

/** The draft, with the lists where they stand in what is shown. */
export function useShownNetwork(): Network {
  const { network } = useOpened();
  const placements = useShownPlacements();
  return useMemo(() => ({ ...network.draft, placements }), [network.draft, placements]);
}
