import { download } from "../state/download";
import { configuration } from "../state/edits";
import type { View } from "../state/location";
import { useTheme } from "../state/theme";
import { useWorkbench } from "./context";
import { Heron } from "./Heron";
import { Menu } from "./Menu";

const VIEWS: [View, string][] = [
  ["map", "Map"],
  ["lists", "Lists"],
  ["reach", "Reach"],
  ["findings", "Findings"],
  ["changes", "Changes"],
  ["log", "Log"],
];

export function TopBar({ onShortcuts }: { onShortcuts: () => void }) {
  const { id, network, place, go, draft, notices, trial } = useWorkbench();
  const edits = configuration(network.changes).length;
  const others = network.changes.length - edits;
  const busy = draft.step.isPending;
  const [theme, setTheme] = useTheme();
  const other = theme === "dark" ? "light" : "dark";
  const step = (name: "undo" | "redo" | "discard") =>
    draft.step.mutate({ step: name }, { onError: notices.fail });
  return (
    <header className="flex min-h-[2.9rem] flex-wrap items-center gap-x-3 border-b border-rule px-4">
      <button type="button" aria-label="Grey Heron: all networks" onClick={() => go({ network: null })}>
        <Heron />
      </button>
      <Menu
        className="flex max-w-[220px] items-center gap-2 truncate font-semibold"
        items={[
          ["Export the draft", () => download(`/api/networks/${id}/file?state=draft`)],
          ["Export what is running", () => download(`/api/networks/${id}/file?state=running`)],
          [`Use the ${other} theme`, () => setTheme(other)],
          ["All networks", () => go({ network: null })],
        ]}
      >
        {network.draft.name}{" "}
        <span aria-hidden="true" className="quiet">
          ▾
        </span>
      </Menu>
      <nav aria-label="Views" className="flex self-stretch">
        {VIEWS.map(([view, label]) => (
          <button
            key={view}
            type="button"
            aria-current={place.view === view ? "page" : undefined}
            onClick={() => go({ view })}
            className={`min-h-[2.9rem] border-b-2 px-2.5 ${place.view === view ? "border-ink" : "quiet border-transparent hover:text-ink"}`}
          >
            {label}
            {view === "changes" && edits > 0 && (
              <span className="ml-1 font-semibold text-ochre">{edits}</span>
            )}
          </button>
        ))}
      </nav>
      <div className="ml-auto flex items-center gap-1.5">
        {trial && <span className="rounded bg-ochrewash px-1.5 font-semibold text-ochre">Trial</span>}
        <span className={edits ? "font-semibold text-ochre" : "quiet"} data-testid="draft-state">
          {edits ? `Draft: ${edits} ${edits === 1 ? "edit" : "edits"}` : "Draft as running"}
        </span>
        <button
          type="button"
          className="button"
          disabled={!network.undo || busy}
          title={network.undo ? `Undo: ${network.undo}` : "Nothing to undo"}
          onClick={() => step("undo")}
        >
          Undo
        </button>
        <button
          type="button"
          className="button"
          disabled={!network.redo || busy}
          title={network.redo ? `Redo: ${network.redo}` : "Nothing to redo"}
          onClick={() => step("redo")}
        >
          Redo
        </button>
        <button
          type="button"
          className="button"
          disabled={edits + others === 0 || busy}
          onClick={() => step("discard")}
        >
          Discard
        </button>
        <button
          type="button"
          className="button button-strong"
          disabled={edits + others === 0 || busy}
          onClick={() => go({ view: "changes" })}
        >
          Apply…
        </button>
        <button type="button" className="button" aria-label="Shortcuts" onClick={onShortcuts}>
          ?
        </button>
      </div>
    </header>
  );
}
