import type { AccessList } from "../api/client";

/** A test flow without its expectation. */
export const bareFlow = (flow: string) => flow.replace(/ (pass|block)$/, "");

export const familyWord = (family: AccessList["family"]) => (family === "ipv4" ? "IPv4" : "IPv6");

/** With a capital at its beginning. */
export const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);
