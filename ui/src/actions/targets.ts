import { wantFocus } from "../state/focus";
import { go, goToTest } from "../state/location";
import { pointKey } from "../state/points";
import { bareFlow, listWords } from "../state/words";
import { pickUp } from "../workbench/picking";
import { type Here, keyWords, labelOf } from "./action";
import { ACTIONS } from "./registry";

/** Something that the palette can do. `inspects`: it shows in the inspector, which then has the focus. */
export interface Target {
  key: string;
  label: string;
  detail: string;
  run: () => void;
  inspects?: true;
}

/** Everything that can be done or gone to from where one is. */
export const targetsOf = (here: Here): Target[] => [
  ...ACTIONS.filter((action) => !action.byKeyOnly && (action.when?.(here) ?? true)).map((action) => ({
    key: action.id,
    label: labelOf(action, here),
    detail: action.detail?.(here) ?? keyWords(action),
    run: () => action.run(here),
  })),
  ...itemsOf(here),
];

/** The test flows, requirements, lists, devices and places of the draft. */
function itemsOf({ network, places, run }: Here): Target[] {
  const { tests, requirements, lists, devices } = network.draft;
  return [
    ...[...new Set(tests.map((test) => test.group))].filter(Boolean).map((group) => ({
      key: `run ${group}`,
      label: `Run ${group}`,
      detail: "the test flows of a group",
      run: () => run(tests.filter((test) => test.group === group)),
    })),
    ...tests.map((test) => ({
      key: `test ${test.id}`,
      label: bareFlow(test.flow),
      detail: `test flow${test.group ? `, ${test.group}` : ""}`,
      run: () => goToTest(test.id),
      inspects: true as const,
    })),
    ...requirements.map((requirement) => ({
      key: `requirement ${requirement.id}`,
      label: requirement.statement,
      detail: `requirement${requirement.group ? `, ${requirement.group}` : ""}`,
      run: () => go({ view: "map", test: null, chosen: `requirement:${requirement.id}` }),
      inspects: true as const,
    })),
    ...lists.flatMap((list) => [
      {
        key: `list ${list.name}`,
        label: `Open ${list.name}`,
        detail: `list: ${listWords(list)}`,
        run: () => {
          go({ view: "lists", list: list.name });
          wantFocus(`list:${list.name}`);
        },
      },
      {
        key: `place ${list.name}`,
        label: `Place ${list.name}`,
        detail: "pick it up, then choose with the arrow keys",
        run: () => pickUp(list, null),
      },
    ]),
    ...devices.map((device) => ({
      key: `device ${device.name}`,
      label: device.name,
      detail: `${device.kind}${device.note ? `: ${device.note}` : ""}`,
      run: () => go({ view: "map", chosen: `device:${device.name}` }),
      inspects: true as const,
    })),
    ...(places?.points ?? []).map((point) => ({
      key: `point ${pointKey(point)}`,
      label: `${point.device} ${point.at} ${point.direction}`,
      detail: point.placed.length ? `${point.placed.join(", ")} placed` : "nothing placed",
      run: () => go({ view: "map", chosen: `point:${pointKey(point)}` }),
      inspects: true as const,
    })),
  ];
}

const MOST = 40;

/** The targets in which every typed word occurs; those that begin with what is typed come first. */
export function matching(targets: Target[], typed: string): Target[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const rank = ({ label }: Target) => {
    const lower = label.toLowerCase();
    if (lower === words.join(" ")) return -1;
    if (lower.startsWith(words[0] ?? "")) return 0;
    return lower.includes(words[0] ?? "") ? 1 : 2;
  };
  return targets
    .filter(({ label, detail }) => {
      const text = `${label} ${detail}`.toLowerCase();
      return words.every((word) => text.includes(word));
    })
    .sort((a, b) => rank(a) - rank(b))
    .slice(0, MOST);
}
