import { wantCursor } from "../state/cursor";
import { pointKey } from "../state/edits";
import type { View } from "../state/location";
import type { Theme } from "../state/theme";
import { bareFlow, familyWord } from "../state/words";
import type { Workbench } from "./context";

/** Something that the palette can do. `inspects`: it shows in the inspector, which then has the focus. */
export interface Command {
  key: string;
  label: string;
  detail: string;
  run: () => void;
  inspects?: true;
}

const VIEWS: [View, string][] = [
  ["map", "Map"],
  ["lists", "Lists"],
  ["reach", "Reach"],
  ["findings", "Findings"],
  ["changes", "Changes"],
  ["log", "Log"],
];

interface Around {
  theme: Theme;
  setTheme: (theme: Theme) => void;
  openShortcuts: () => void;
}

/** Everything that can be done or gone to from where one is. */
export function commandsOf(workbench: Workbench, { theme, setTheme, openShortcuts }: Around): Command[] {
  const { network, go, pickUp, draft, notices, places, run } = workbench;
  const { tests, lists, devices } = network.draft;
  const step = (name: "undo" | "redo" | "discard") => () =>
    draft.step.mutate({ step: name }, { onError: notices.fail });
  const other: Theme = theme === "dark" ? "light" : "dark";
  return [
    ...VIEWS.map(([view, label]) => ({
      key: `view ${view}`,
      label: `Go to ${label}`,
      detail: "view",
      run: () => go({ view }),
    })),
    { key: "run all", label: "Run the whole book", detail: "Shift+X", run: () => run(null) },
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
      run: () => go({ view: "map", test: test.id, chosen: `test:${test.id}` }),
      inspects: true as const,
    })),
    ...network.draft.requirements.map((requirement) => ({
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
        detail: `${familyWord(list.family)} list`,
        run: () => {
          go({ view: "lists", list: list.name });
          wantCursor(`list:${list.name}`);
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
    ...(network.undo ? [{ key: "undo", label: "Undo", detail: network.undo, run: step("undo") }] : []),
    ...(network.redo ? [{ key: "redo", label: "Redo", detail: network.redo, run: step("redo") }] : []),
    {
      key: "theme",
      label: `Use the ${other} theme`,
      detail: "in this browser",
      run: () => setTheme(other),
    },
    { key: "shortcuts", label: "Show the shortcuts", detail: "?", run: openShortcuts },
    {
      key: "networks",
      label: "All networks",
      detail: "leave this one",
      run: () => go({ network: null }),
    },
  ];
}

const MOST = 40;

/** The commands in which every typed word occurs; those that begin with what is typed come first. */
export function found(commands: Command[], typed: string): Command[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const rank = (command: Command) => {
    const label = command.label.toLowerCase();
    if (label === words.join(" ")) return -1;
    if (label.startsWith(words[0] ?? "")) return 0;
    return label.includes(words[0] ?? "") ? 1 : 2;
  };
  return commands
    .filter((command) => {
      const text = `${command.label} ${command.detail}`.toLowerCase();
      return words.every((word) => text.includes(word));
    })
    .sort((a, b) => rank(a) - rank(b))
    .slice(0, MOST);
}
