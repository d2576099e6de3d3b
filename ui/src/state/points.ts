import type { Change, Device, PointReport } from "../api/client";

/** An attachment point, as far as its key says it. */
export interface AttachmentPoint {
  device: string;
  at: string;
  direction: string;
}

export const pointKey = (point: AttachmentPoint) => `${point.device}:${point.at}:${point.direction}`;

/** What a management line is called as a place: one of several has its numbers behind. */
export const lineAt = ({ name, numbers }: Device["lines"][number]) => (numbers ? `${name}/${numbers}` : name);

/** The point alone, of what says more about it. */
export const pointOf = ({ device, at, direction }: Pick<PointReport, "device" | "at" | "direction">) => ({
  device,
  at,
  direction,
});

/** Changes that would reach a device: moving plates, writing tests and the policy are not among them. */
export const configuration = (changes: Change[]) =>
  changes.filter((change) => !["positions", "tests", "requirements", "accepted"].includes(change.collection));

/** How often each list is placed. */
export function timesPlaced(placements: { list: string }[]): Map<string, number> {
  const times = new Map<string, number>();
  for (const { list } of placements) times.set(list, (times.get(list) ?? 0) + 1);
  return times;
}
