import { ActionButton } from "../actions/ActionButton";
import { ActionMenu } from "../actions/ActionMenu";
import { useFindings } from "../api/computed";
import { Heron } from "../kit/Heron";
import { EVERY_VIEW, go, useLocation, VIEWS } from "../state/location";
import { configuration } from "../state/points";
import { useSettled } from "../state/useSettled";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";
import { Moment } from "./Moment";

export function TopBar() {
  const { network, draft } = useOpened();
  const { trial } = useTrial();
  const location = useLocation();
  const edits = configuration(network.changes).length;
  const unchanged = network.changes.length === 0;
  const busy = draft.stepping;
  const findings = useOpenFindings();
  return (
    <header className="flex min-h-[2.9rem] flex-wrap items-center gap-x-1.5 border-b xl:gap-x-3 border-rule px-4">
      <button type="button" aria-label="Grey Heron: all networks" onClick={() => go({ network: null })}>
        <Heron />
      </button>
      <ActionMenu
        className="flex max-w-[220px] items-center gap-2 truncate font-semibold"
        actions={["bring", "out", "theme", "networks"]}
      >
        {network.draft.name}{" "}
        <span aria-hidden="true" className="quiet">
          ▾
        </span>
      </ActionMenu>
      <nav aria-label="Views" className="flex self-stretch">
        {EVERY_VIEW.map((view) => (
          <button
            key={view}
            type="button"
            aria-current={location.view === view ? "page" : undefined}
            aria-description={
              view === "findings" && findings.count > 0 ? `${findings.count} to look at` : undefined
            }
            onClick={() => go({ view })}
            className={`min-h-[2.9rem] border-b-2 px-1.5 xl:px-2.5 ${location.view === view ? "border-ink" : "quiet border-transparent hover:text-ink"}`}
          >
            {VIEWS[view]}
            {view === "changes" && edits > 0 && (
              <span className="ml-1 font-semibold text-ochre">{edits}</span>
            )}
            {view === "findings" && findings.count > 0 && (
              <span
                aria-hidden="true"
                className={`ml-1 font-semibold ${findings.faults ? "text-clay" : "text-ochre"}`}
              >
                {findings.count}
              </span>
            )}
          </button>
        ))}
      </nav>
      <div className="ml-auto flex items-center gap-1.5">
        <Moment />
        {trial && <span className="rounded bg-ochrewash px-1.5 font-semibold text-ochre">Trial</span>}
        <span className={edits ? "font-semibold text-ochre" : "quiet"} data-testid="draft-state">
          {edits ? `Draft: ${edits} ${edits === 1 ? "edit" : "edits"}` : "No changes"}
        </span>
        <ActionButton
          action="draft.undo"
          disabled={!network.undo || busy}
          title={network.undo ? `Undo: ${network.undo}` : "Nothing to undo"}
        >
          Undo
        </ActionButton>
        <ActionButton
          action="draft.redo"
          disabled={!network.redo || busy}
          title={network.redo ? `Redo: ${network.redo}` : "Nothing to redo"}
        >
          Redo
        </ActionButton>
        <ActionButton action="draft.discard" disabled={unchanged || busy}>
          Discard
        </ActionButton>
        <button
          type="button"
          className="button button-strong"
          disabled={unchanged || busy}
          onClick={() => go({ view: "changes" })}
        >
          Apply…
        </button>
        <ActionButton action="shortcuts" label="Shortcuts">
          ?
        </ActionButton>
      </div>
    </header>
  );
}

/** Networks with more devices are searched when somebody looks at what was found. */
const MOST_SEARCHED = 60;
const SETTLED = 2500;

/** Faults and warnings that are not accepted, once nobody has edited for a moment. */
function useOpenFindings() {
  const { id, network, at } = useOpened();
  const version = useSettled(network.version, SETTLED);
  const found = useFindings(id, version, at, network.draft.devices.length <= MOST_SEARCHED);
  const open = (found.data?.findings ?? []).filter(
    ({ accepted, severity }) => accepted === null && severity !== "note",
  );
  return { count: open.length, faults: open.some(({ severity }) => severity === "fault") };
}
