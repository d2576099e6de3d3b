import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { telling, useStanding } from "../api/work";
import { deviceOf } from "./geometry";
import { type Drawn, layOut } from "./layout";

const HOUR = 3_600_000;

/**
 * Where a layout puts the devices of a network, once that is wanted, and how far it is.
 *
 * What is joined in the same way is laid out once: for the map after its preview, and for a map that one comes
 * back to. The layout before stays until the new one is there.
 */
export function useLayout(network: Drawn, wanted = true) {
  const client = useQueryClient();
  const { devices, links } = network;
  const queryKey = useMemo(() => {
    const named = devices.map(({ name, kind }) => [name, kind]);
    return ["layout", JSON.stringify([named, links.map((link) => link.ends.map(deviceOf))])];
  }, [devices, links]);
  const { done } = useStanding(queryKey);
  const found = useQuery({
    queryKey,
    queryFn: async () => {
      const tell = telling(client, queryKey);
      try {
        return await layOut(network, (done) => tell({ done, stage: "" }));
      } catch (error) {
        const cause = error instanceof Error ? error.message : String(error);
        throw new Error(`The map could not be laid out: ${cause}.`);
      }
    },
    enabled: wanted,
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: HOUR,
    retry: false,
  });
  return { ...found, done };
}
