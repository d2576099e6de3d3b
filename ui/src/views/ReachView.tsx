import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useMemo, useState } from "react";
import type { Network, ReachQuestion } from "../api/client";
import { useReach } from "../api/computed";
import { Failed } from "../kit/Failed";
import { Menu } from "../kit/Menu";
import { Stage } from "../kit/Stage";
import { CellPanel } from "../reach/CellPanel";
import { CellShape } from "../reach/CellShape";
import { type Chosen, Matrix } from "../reach/Matrix";
import { useLines } from "../reach/useLines";
import { useSavedMatrix } from "../reach/useSavedMatrix";
import { go, useLocation } from "../state/location";
import { FAMILY_WORDS } from "../state/words";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";

const USUAL = "services, ping";
/** In networks of more devices only hosts ask. */
const MOST_ASKING = 320;

/** The family to begin with: the one that the network has. */
const familyOf = ({ devices }: Network) => {
  const addresses = devices.flatMap((device) => device.interfaces.flatMap((each) => each.addresses));
  return addresses.length > 0 && addresses.every((each) => each.includes(":")) ? "ipv6" : "ipv4";
};

/** Who can talk to whom: every device by every other, for some services. */
export function ReachView() {
  const { id, network, at } = useOpened();
  const { trial } = useTrial();
  const { services, question } = useQuestion();
  const intent = trial?.intent ?? null;
  const found = useReach(id, network.version, at, question, intent);
  const { data: matrix, error, isFetching, isPlaceholderData, done } = found;
  const [onlyChanged, setOnlyChanged] = useState(false);
  const [chosen, setChosen] = useState<Chosen | null>(null);
  const { lines, cells, changed, fold, unfold, pair } = useLines(matrix, onlyChanged);
  const save = useSavedMatrix(lines, cells);
  const [from, to] = [
    lines.find((line) => line.key === chosen?.row),
    lines.find((line) => line.key === chosen?.column),
  ];
  const differs = `${changed} ${changed === 1 ? "cell differs" : "cells differ"} from what is running`;

  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)_clamp(232px,25vw,336px)]">
      <div className="flex min-h-0 min-w-0 flex-col">
        <AskingBar
          services={services}
          family={question.family ?? "ipv4"}
          onlyChanged={onlyChanged}
          onOnlyChanged={setOnlyChanged}
        >
          {matrix && lines.length > 0 && (
            <Menu
              className="button"
              items={[
                ["Unfold all groups", () => unfold(true)],
                ["Fold all groups", () => unfold(false)],
                ["Save as SVG", save.svg],
                ["Save as PNG", save.png],
                ["Save as CSV", save.csv],
              ]}
            >
              Matrix ▾
            </Menu>
          )}
          <span className="quiet ml-auto" role="status" data-testid="reach-state">
            {matrix &&
              (isFetching
                ? `Recomputing, ${Math.round(done * 100)}%`
                : `${trial ? `Trial, ${trial.label}: ` : ""}${differs}`)}
          </span>
          {isFetching && <Cancelling />}
        </AskingBar>
        <Failed of={found} className="px-4 py-3" />
        {!matrix && isFetching && (
          <div className="px-4 py-6">
            <Stage words="Trying every device against every other" done={done} />
          </div>
        )}
        {matrix && lines.length > 0 && (
          <div className={`flex min-h-0 flex-1 flex-col ${isPlaceholderData ? "opacity-45" : ""}`}>
            <Matrix lines={lines} folded={cells} chosen={chosen} onChoose={setChosen} onFold={fold} />
          </div>
        )}
        {matrix && lines.length === 0 && (
          <p className="quiet px-4 py-6">
            {onlyChanged
              ? "The draft changes nothing for these services."
              : `No device has an ${FAMILY_WORDS[question.family ?? "ipv4"]} address.`}
          </p>
        )}
        {!matrix && !error && !isFetching && <p className="quiet px-4 py-6">Cancelled. Ask again above.</p>}
        {matrix && <Legend />}
      </div>
      <aside aria-label="Inspector" className="min-h-0 overflow-y-auto border-l border-rule">
        {matrix && from && to ? (
          <CellPanel
            question={question}
            intent={intent}
            from={from}
            to={to}
            bits={cells.bits[lines.indexOf(from)]?.[lines.indexOf(to)] ?? 0}
            devices={matrix.devices}
            draft={matrix.draft}
            onOpen={(source, destination) => setChosen(pair(source, destination))}
          />
        ) : (
          matrix && (
            <p className="quiet px-4 py-3">
              Choose a cell: the conversations behind it are shown here. Arrow keys move, Enter opens, the
              space bar folds a group.
            </p>
          )
        )}
      </aside>
    </main>
  );
}

/** What is asked, as the address of the page says it. */
function useQuestion() {
  const { network } = useOpened();
  const location = useLocation();
  const [services = USUAL, family] = (location.reach ?? `${USUAL};${familyOf(network.draft)}`).split(";");
  const devices = network.draft.devices.length;
  const question = useMemo<ReachQuestion>(
    () => ({
      services: services.split(/[\s,]+/).filter(Boolean),
      family: family === "ipv6" ? "ipv6" : "ipv4",
      hosts_only: devices > MOST_ASKING,
    }),
    [services, family, devices],
  );
  return { services, question };
}

interface BarProps {
  services: string;
  family: string;
  onlyChanged: boolean;
  onOnlyChanged: (only: boolean) => void;
  children: ReactNode;
}

/** Services and family to ask for, and what is shown of the answer. */
function AskingBar({ services, family, onlyChanged, onOnlyChanged, children }: BarProps) {
  const [text, setText] = useState(services);
  const ask = (family: string) => go({ reach: `${text};${family}` });
  return (
    <form
      className="flex flex-wrap items-center gap-2 border-b border-rule px-4 py-2"
      onSubmit={(event) => {
        event.preventDefault();
        ask(family);
      }}
    >
      <label htmlFor="services" className="font-semibold">
        Who reaches whom for
      </label>
      <input
        id="services"
        className="field w-[220px] font-mono"
        value={text}
        onChange={(event) => setText(event.target.value)}
        aria-describedby="services-hint"
      />
      <span id="services-hint" className="sr-only">
        Services with commas between: tcp/443, ssh, ping; services stands for what each device listens on
      </span>
      <button type="submit" className="button" disabled={!text.trim()}>
        Ask
      </button>
      <select
        className="field"
        aria-label="Family"
        value={family}
        onChange={(event) => ask(event.target.value)}
      >
        <option value="ipv4">IPv4</option>
        <option value="ipv6">IPv6</option>
      </select>
      <button
        type="button"
        className="button aria-pressed:border-ochre aria-pressed:bg-ochrewash"
        aria-pressed={onlyChanged}
        onClick={() => onOnlyChanged(!onlyChanged)}
      >
        Changed only
      </button>
      {children}
    </form>
  );
}

function Cancelling() {
  const { id } = useOpened();
  const client = useQueryClient();
  return (
    <button
      type="button"
      className="button"
      onClick={() => client.cancelQueries({ queryKey: ["reach", id] })}
    >
      Cancel
    </button>
  );
}

function Legend() {
  const entries: [number, string][] = [
    [1, "passes"],
    [2, "blocked"],
    [4, "unreachable"],
    [8, "refused"],
    [16, "paths differ"],
    [3, "split inside"],
  ];
  return (
    <div className="quiet flex flex-wrap gap-x-4 border-t border-rule px-4 py-1.5 text-fine">
      {entries.map(([bits, words]) => (
        <span key={words} className="flex items-center gap-1">
          <CellShape bits={bits} /> {words}
        </span>
      ))}
      <span className="flex items-center gap-1">
        <span className="inline-block h-3 w-3 bg-ochrewash ring-1 ring-ochre ring-inset" /> differs from what
        is running
      </span>
    </div>
  );
}
