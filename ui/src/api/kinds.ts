import type { Device } from "./client";
import { TRAITS } from "./traits";

/** What a kind of device does. */
export const traitsOf = (device: Pick<Device, "kind">) => TRAITS[device.kind];
