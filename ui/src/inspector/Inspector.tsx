import { type ReactNode, useRef } from "react";
import { MakeAllHold } from "../policy/MakeAllHold";
import { RequirementPanel } from "../policy/RequirementPanel";
import { useFocusTaker } from "../state/focus";
import { go, useLocation } from "../state/location";
import { useOpened } from "../workbench/opened";
import { DevicePanel } from "./DevicePanel";
import { ListPanel } from "./ListPanel";
import { OverviewPanel } from "./OverviewPanel";
import { PointPanel } from "./PointPanel";
import { TestPanel } from "./TestPanel";

/** The right side: whatever is chosen. */
export function Inspector() {
  const { network } = useOpened();
  const side = useRef<HTMLElement>(null);
  useFocusTaker("inspector", () => side.current?.focus());
  const location = useLocation();
  const [kind, ...rest] = (location.chosen ?? "").split(":");
  const name = rest.join(":");
  let panel: ReactNode = null;
  const device = kind === "device" && network.draft.devices.find((each) => each.name === name);
  const list = kind === "list" && network.draft.lists.find((each) => each.name === name);
  const test = kind === "test" && network.draft.tests.find((each) => each.id === name);
  const requirement = kind === "requirement" && network.draft.requirements.find((each) => each.id === name);
  if (device) panel = <DevicePanel key={device.name} device={device} />;
  else if (list) panel = <ListPanel key={list.name} list={list} />;
  else if (test) panel = <TestPanel key={test.id} test={test} />;
  else if (requirement) panel = <RequirementPanel key={requirement.id} requirement={requirement} />;
  else if (kind === "policy") panel = <MakeAllHold />;
  else if (kind === "point") panel = <PointPanel key={name} point={name} />;
  return (
    <aside
      ref={side}
      aria-label="Inspector"
      tabIndex={-1}
      className="min-h-0 min-w-0 overflow-y-auto break-words outline-none"
    >
      {panel && (
        <button
          type="button"
          title="Esc"
          className="quiet mt-2 -mb-1.5 block px-4 text-fine hover:text-ink"
          onClick={() => go({ chosen: null })}
        >
          ‹ all lists
        </button>
      )}
      {panel ?? <OverviewPanel />}
    </aside>
  );
}
