import { fail } from "../kit/notices";
import { download } from "../state/download";
import { giveFocus, wantFocus } from "../state/focus";
import { EVERY_VIEW, go, goToTest, type Location, VIEWS } from "../state/location";
import { pointKey } from "../state/points";
import { handlerOf } from "../workbench/handlers";
import { pickUp } from "../workbench/picking";
import { showTrial, view } from "../workbench/trial";
import { type Action, doneBy, type Here, sign } from "./action";

/** Everything that can be done, once. Keys, palette, help, menus and buttons are made from it. */

const step = (name: "undo" | "redo" | "discard") => (here: Here) =>
  here.draft.step({ step: name }, { onError: fail });

/** Write in a field of the book. */
const write = (field: string) => () => {
  go({ view: "map" });
  wantFocus(field);
};

const testAt = ({ network, location }: Here) =>
  network.draft.tests.findIndex((test) => test.id === location.test);

function chooseTest(here: Here, index: number): void {
  const { tests } = here.network.draft;
  const test = tests[(index + tests.length) % tests.length];
  if (test) goToTest(test.id);
}

/** The list that is shown: in its view, or in the inspector. */
function shownList({ location, network }: Here) {
  const chosen = location.chosen?.startsWith("list:") ? location.chosen.slice(5) : null;
  const name = location.view === "lists" ? location.list : chosen;
  return network.draft.lists.find((list) => list.name === name);
}

/** The list that stands at the place that is shown, with its placement. */
function placedHere({ location, network }: Here) {
  const placed = network.draft.placements.find((each) => `point:${pointKey(each)}` === location.chosen);
  const list = network.draft.lists.find((each) => each.name === placed?.list);
  return placed && list ? { list, placed } : null;
}

const isTried = ({ trial }: Here) => trial?.kind === "tried";

/** Out of the inspector first, and only then away from what it shows; a trial is left before both. */
function leave(here: Here): void {
  if (isTried(here)) {
    showTrial(null);
    return;
  }
  const inside = document.activeElement?.closest("[aria-label=Inspector]");
  giveFocus("map");
  if (!inside) go({ chosen: null });
}

const viewAction = (view: Location["view"], place: number): Action => ({
  id: `view.${view}`,
  label: `Go to ${VIEWS[view]}`,
  keys: [`${place + 1}`],
  detail: () => "view",
  run: () => go({ view }),
});

export const ACTIONS: Action[] = [
  {
    id: "palette",
    label: "Find anything",
    keys: ["$mod+k"],
    byKeyOnly: true,
    run: () => handlerOf("palette")?.(),
  },
  ...EVERY_VIEW.map(viewAction),

  { id: "test.write", label: "Write a new test flow", keys: sign("/"), run: write("New test flow") },
  {
    id: "requirement.write",
    label: "Write a new requirement",
    keys: sign("="),
    run: write("New requirement"),
  },
  { ...doneBy("device.add"), label: "Add a device to the map", keys: sign("+") },
  {
    id: "device.link",
    label: "Link the selected device",
    keys: ["l"],
    byKeyOnly: true,
    run: () => giveFocus("link"),
  },
  {
    ...doneBy("advice.ask"),
    label: "Get advice for the selected requirement or test flow",
    keys: ["w"],
  },
  { ...doneBy("policy.hold"), label: "Make all requirements hold", keys: ["h"] },
  {
    id: "choice.try",
    label: "Preview the selected choice, or end the preview",
    keys: ["v"],
    byKeyOnly: true,
    run: (here) => {
      const attempt = handlerOf("choice.try");
      if (attempt) attempt();
      else if (isTried(here)) showTrial(null);
    },
  },
  {
    id: "choice.take",
    label: "Apply the selected choice or the preview to the draft",
    keys: ["a"],
    byKeyOnly: true,
    run: (here) => {
      const take = handlerOf("choice.take");
      const { trial } = here;
      if (take) take();
      else if (trial?.kind === "tried") {
        showTrial(null);
        here.make(trial.intent);
      }
    },
  },

  {
    id: "test.next",
    label: "Next test flow",
    keys: ["j"],
    byKeyOnly: true,
    run: (here) => chooseTest(here, testAt(here) + 1),
  },
  {
    id: "test.previous",
    label: "Previous test flow",
    keys: ["k"],
    byKeyOnly: true,
    run: (here) => {
      const at = testAt(here);
      chooseTest(here, at < 0 ? -1 : at - 1);
    },
  },
  {
    id: "test.run",
    label: "Run the selected test flow (counts and logs)",
    keys: ["x"],
    when: (here) => testAt(here) >= 0,
    run: (here) => here.run(here.network.draft.tests.slice(testAt(here)).slice(0, 1)),
  },
  { id: "book.run", label: "Run all test flows", keys: ["Shift+x"], run: (here) => here.run(null) },
  {
    id: "state.baseline",
    label: "Trace with no lists",
    keys: ["b"],
    run: () => view("baseline"),
  },
  { id: "state.running", label: "Trace as running", keys: ["r"], run: () => view("running") },
  { id: "state.draft", label: "Trace on the draft", keys: ["d"], run: () => view("draft") },
  { ...doneBy("trace.enter"), label: "Focus the trace (arrow keys step through hops)", keys: ["t"] },

  {
    id: "list.place",
    label: "Place the selected list",
    keys: ["p"],
    when: (here) => shownList(here) !== undefined,
    run: (here) => {
      const list = shownList(here);
      if (list) pickUp(list, null);
    },
  },
  {
    id: "list.move",
    label: "Move the list at the selected place",
    keys: ["m"],
    when: (here) => placedHere(here) !== null,
    run: (here) => {
      const found = placedHere(here);
      if (found) pickUp(found.list, found.placed);
    },
  },

  {
    id: "draft.undo",
    label: "Undo",
    keys: ["$mod+z"],
    detail: ({ network }) => network.undo ?? "",
    when: ({ network }) => network.undo !== null,
    run: step("undo"),
  },
  {
    id: "draft.redo",
    label: "Redo",
    keys: ["$mod+Shift+z"],
    detail: ({ network }) => network.redo ?? "",
    when: ({ network }) => network.redo !== null,
    run: step("redo"),
  },
  {
    id: "draft.discard",
    label: "Discard",
    detail: () => "the draft becomes what is running",
    when: ({ network }) => network.changes.length > 0,
    run: step("discard"),
  },

  { ...doneBy("map.fit"), label: "Fit the map to the window", keys: ["f"] },
  { ...doneBy("map.neighbours"), label: "Show only the selected device and its neighbours", keys: ["n"] },
  {
    ...doneBy("map.layout"),
    label: "Lay out the map again (selected device and neighbours, or all)",
    keys: ["Shift+f"],
  },
  { ...doneBy("map.svg"), label: "Save the map as SVG" },
  { ...doneBy("map.png"), label: "Save the map as PNG" },
  { ...doneBy("reach.svg"), label: "Save the matrix as SVG" },
  { ...doneBy("reach.png"), label: "Save the matrix as PNG" },
  { ...doneBy("reach.csv"), label: "Save the matrix as CSV" },
  {
    id: "leave",
    label: "Leave the field; then return to all lists",
    keys: ["Escape"],
    byKeyOnly: true,
    run: leave,
  },

  { ...doneBy("bring"), label: "Bring in…", detail: () => "import files into this draft or a new network" },
  { ...doneBy("out"), label: "Take out…", detail: () => "export files" },
  {
    id: "book.export",
    label: "Export as CSV",
    detail: () => "the test flows",
    run: ({ id }) => download(`/api/networks/${id}/tests/table`),
  },
  { ...doneBy("book.import"), label: "Import CSV…", detail: () => "test flows" },
  {
    id: "theme",
    label: ({ theme }) => `Use the ${theme === "dark" ? "light" : "dark"} theme`,
    detail: () => "in this browser",
    run: ({ theme, setTheme }) => setTheme(theme === "dark" ? "light" : "dark"),
  },
  {
    id: "shortcuts",
    label: "Show keyboard shortcuts",
    keys: sign("?"),
    run: () => handlerOf("shortcuts")?.(),
  },
  {
    id: "networks",
    label: "All networks",
    detail: () => "close this network",
    run: () => go({ network: null }),
  },
];

const BY_ID = new Map(ACTIONS.map((action) => [action.id, action]));

/** The action of an id. Raises an error for one that there is not. */
export function actionOf(id: string): Action {
  const action = BY_ID.get(id);
  if (!action) throw new Error(`there is no action ${id}`);
  return action;
}

/** Keys that mean something in one place only, and what they do there. */
export const KEYS_ELSEWHERE: [place: string, keys: string, does: string][] = [
  ["In a list", "Ctrl+S", "save it to the draft"],
  ["In a list", "Alt+↑ ↓", "move an entry"],
  ["In a list", "Alt+Shift+↓", "copy an entry"],
  ["In a list", "Ctrl+/", "make an entry a remark, and back"],
  ["With a list picked up", "← → ↑ ↓", "the next place, the one before"],
  ["With a list picked up", "a letter", "the next device that begins with it"],
  ["With a list picked up", "Enter, Esc", "place it, put it down"],
  ["In the trace", "← → ↑ ↓", "the next hop, the other way"],
];
