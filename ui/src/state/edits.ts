import type {
  AccessList,
  Change,
  Device,
  FindingItem,
  Network,
  Placement,
  PointReport,
  Requirement,
  TestFlow,
} from "../api/client";
import type { EditRequest } from "../api/queries";
import type { Plate } from "../map/geometry";

/** Edits as the server takes them: changes that belong together, and what undoing them is called. */

export const pointKey = (point: { device: string; at: string; direction: string }) =>
  `${point.device}:${point.at}:${point.direction}`;

const placementKey = (placement: Placement) => `${pointKey(placement)}:${placement.list}`;

const put = (collection: Change["collection"], key: string, item: object): Change => ({
  collection,
  key,
  item: item as Record<string, unknown>,
});

const remove = (collection: Change["collection"], key: string): Change => ({ collection, key, item: null });

export const putList = (list: AccessList, label = `edit ${list.name}`): EditRequest => ({
  label,
  changes: [put("lists", list.name, list)],
});

export function removeList(network: Network, name: string): EditRequest {
  const placed = network.placements.filter((placement) => placement.list === name);
  return {
    label: `remove ${name}`,
    changes: [
      ...placed.map((placement) => remove("placements", placementKey(placement))),
      remove("lists", name),
    ],
  };
}

/** Place a list; `from` is the placement it is picked up from, when it is moved. */
export function place(list: string, point: PointReport, from: Placement | null): EditRequest {
  const placement: Placement = { list, device: point.device, at: point.at, direction: point.direction };
  return {
    label: from
      ? `move ${list} to ${point.device} ${point.at}`
      : `place ${list} ${point.words.split(",")[0]}`,
    changes: [
      ...(from ? [remove("placements", placementKey(from))] : []),
      put("placements", placementKey(placement), placement),
    ],
  };
}

/** Place a list where another one of its family stands, which is taken off. */
export function replace(
  list: string,
  point: PointReport,
  other: string,
  from: Placement | null,
): EditRequest {
  const edit = place(list, point, from);
  const taken: Placement = { list: other, device: point.device, at: point.at, direction: point.direction };
  return {
    label: `replace ${other} by ${list}`,
    changes: [remove("placements", placementKey(taken)), ...edit.changes],
  };
}

/** Placements as they would be after changes that are not made. */
export function placementsAfter(placements: Placement[], changes: Change[]): Placement[] {
  const spoken = changes.filter((change) => change.collection === "placements");
  const touched = new Set(spoken.map((change) => change.key));
  return [
    ...placements.filter((placement) => !touched.has(placementKey(placement))),
    ...spoken.flatMap((change) => (change.item ? [change.item as unknown as Placement] : [])),
  ];
}

export const takeOff = (placement: Placement): EditRequest => ({
  label: `take ${placement.list} off ${placement.device} ${placement.at}`,
  changes: [remove("placements", placementKey(placement))],
});

export const putTest = (test: TestFlow, label: string): EditRequest => ({
  label,
  changes: [put("tests", test.id, test)],
});

/** Several new test flows in one edit, as they are written. */
export function putTests(network: Network, flows: string[], group: string, label: string): EditRequest {
  const ids = freeTestIds(network);
  const changes = flows.map((flow) => {
    const id = ids.next().value;
    return put("tests", id, { id, flow, group, note: "" });
  });
  return { label, changes };
}

export function putRequirement(requirement: Requirement, label: string): EditRequest {
  return { label, changes: [put("requirements", requirement.id, requirement)] };
}

export const removeRequirement = (requirement: Requirement): EditRequest => ({
  label: `remove ${requirement.statement}`,
  changes: [remove("requirements", requirement.id)],
});

/** Say that a finding is as it should be; without a reason, that it is not. */
export const accept = (finding: FindingItem, reason: string | null): EditRequest => ({
  label: `${reason === null ? "no longer accept" : "accept"} ${finding.kind}`,
  changes: [
    reason === null
      ? remove("accepted", finding.key)
      : put("accepted", finding.key, { finding: finding.key, evidence: finding.digest, reason }),
  ],
});

export const removeTest = (test: TestFlow): EditRequest => ({
  label: `remove ${test.flow}`,
  changes: [remove("tests", test.id)],
});

/** A device goes with its links, placements and place on the map; test flows and entries that name it stay. */
export function removeDevice(network: Network, name: string): EditRequest {
  const { links, placements, positions } = network;
  return {
    label: `remove ${name}`,
    changes: [
      ...links
        .filter((link) => link.ends.some((end) => end.startsWith(`${name}:`)))
        .map((link) => remove("links", link.ends.join(" "))),
      ...placements
        .filter((placed) => placed.device === name)
        .map((placed) => remove("placements", placementKey(placed))),
      ...positions.filter((at) => at.device === name).map((at) => remove("positions", at.device)),
      remove("devices", name),
    ],
  };
}

/** An interface of a device that no link ends at, and the device with it: a new one where there is none. */
function freeInterface(network: Network, device: Device): { device: Device; name: string } {
  const linked = new Set(network.links.flatMap((link) => link.ends));
  const free = device.interfaces.find(
    ({ name, parent }) => !parent && !name.startsWith("lo") && !linked.has(`${device.name}:${name}`),
  );
  if (free) return { device, name: free.name };
  const stem = device.kind === "switch" ? "p" : "eth";
  const taken = new Set(device.interfaces.map((each) => each.name));
  let number = stem === "p" ? 1 : 0;
  while (taken.has(`${stem}${number}`)) number += 1;
  const added = { name: `${stem}${number}` } as Device["interfaces"][number];
  return { device: { ...device, interfaces: [...device.interfaces, added] }, name: added.name };
}

/** Link two devices, at interfaces that are free or made for it. */
export function joinDevices(network: Network, one: Device, other: Device): EditRequest {
  const ends = [freeInterface(network, one), freeInterface(network, other)];
  const link = { ends: ends.map(({ device, name }) => `${device.name}:${name}`) };
  return {
    label: `link ${one.name} and ${other.name}`,
    changes: [
      ...ends.map(({ device }) => put("devices", device.name, device)),
      put("links", link.ends.join(" "), link),
    ],
  };
}

export const removeLink = (ends: string[]): EditRequest => ({
  label: `remove the link ${ends.join(" – ")}`,
  changes: [remove("links", ends.join(" "))],
});

interface Spot {
  name: string;
  at: { x: number; y: number };
}

/** A plate goes where it is put; the others stay where they lie, also those that a layout has put there. */
export function keepPlates(network: Network, plates: Plate[], moved: Spot): Change[] {
  const kept = new Set(network.positions.map(({ device }) => device));
  const lying = plates
    .filter(({ device }) => !kept.has(device.name) && device.name !== moved.name)
    .map(({ device, centre }) => ({ name: device.name, at: centre }));
  return [...lying, moved].map(({ name, at }) =>
    put("positions", name, { device: name, x: Math.round(at.x), y: Math.round(at.y) }),
  );
}

export const movePlate = (network: Network, plates: Plate[], moved: Spot): EditRequest => ({
  label: `move ${moved.name} on the map`,
  changes: keepPlates(network, plates, moved),
});

function* freeIds(begins: string, items: { id: string }[]): Generator<string, never> {
  const taken = new Set(items.map((item) => item.id));
  for (let number = items.length + 1; ; number += 1) {
    if (!taken.has(`${begins}${number}`)) yield `${begins}${number}`;
  }
}

const freeTestIds = (network: Network) => freeIds("t", network.tests);

export const freeTestId = (network: Network): string => freeTestIds(network).next().value;

export const freeRequirementId = (network: Network): string =>
  freeIds("r", network.requirements).next().value;

/** Changes that would reach a device: moving plates, writing tests and the policy are not among them. */
export const configuration = (changes: Change[]) =>
  changes.filter((change) => !["positions", "tests", "requirements", "accepted"].includes(change.collection));
