import type { Network } from "../api/client";

/** Examples for empty fields, in the names of the network that is open: nobody else's are of use there. */

/** Two hosts, or other devices, of a network: the first two, by name if there are fewer. */
function twoOf({ devices }: Network): [string, string] {
  const hosts = devices.filter(({ kind }) => kind === "host");
  const [one, other] = [...hosts, ...devices.filter(({ kind }) => kind !== "host" && kind !== "switch")];
  return [one?.name ?? "SENDER", other?.name ?? "DESTINATION"];
}

export const flowLike = (network: Network) => `${twoOf(network).join(" → ")} tcp/443 pass`;

export const requirementLike = (network: Network, service = "ssh") =>
  `block ${twoOf(network).join(" → ")} ${service}`;

export const DEVICE_LIKE = "host desk 203.0.113.10/24 to floor";
