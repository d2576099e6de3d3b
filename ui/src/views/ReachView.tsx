import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import type { Network, ReachQuestion } from "../api/client";
import { useReach } from "../api/computed";
import { Failed } from "../kit/Failed";
import { Menu } from "../kit/Menu";
import { useNotices } from "../kit/notices";
import { Stage } from "../kit/Stage";
import { CellPanel } from "../reach/CellPanel";
import { CellShape } from "../reach/CellShape";
import { cellsOf, foldCells, groupKey, isHome, linesOf } from "../reach/fold";
import { type Chosen, Matrix } from "../reach/Matrix";
import { MOST_LINES, matrixPicture } from "../reach/matrixPicture";
import { tableOf } from "../reach/table";
import { go, useLocation } from "../state/location";
import { saveAs, savePng, saveSvg } from "../state/picture";
import { FAMILY_WORDS } from "../state/words";
import { useHandler } from "../workbench/handlers";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";

const MANY = 60;
const USUAL = "services, ping";

/** The family to begin with: the one that the network has. */
const familyOf = ({ devices }: Network) => {
  const addresses = devices.flatMap((device) => device.interfaces.flatMap((each) => each.addresses));
  return addresses.length > 0 && addresses.every((each) => each.includes(":")) ? "ipv6" : "ipv4";
};

/** Who can talk to whom: every device by every other, for some services. */
export function ReachView() {
  const { id, network, at } = useOpened();
  const { trial } = useTrial();
  const location = useLocation();
  const [services, family] = (location.reach ?? `${USUAL};${familyOf(network.draft)}`).split(";");
  const [text, setText] = useState(services ?? USUAL);
  const devices = network.draft.devices.length;
  const question = useMemo<ReachQuestion>(
    () => ({
      services: (services ?? USUAL).split(/[\s,]+/).filter(Boolean),
      family: family === "ipv6" ? "ipv6" : "ipv4",
      hosts_only: devices > 320,
    }),
    [services, family, devices],
  );
  const intent = trial?.intent ?? null;
  const found = useReach(id, network.version, at, question, intent);
  const { data: matrix, error, isFetching, isPlaceholderData, done } = found;
  const client = useQueryClient();
  const { say, fail } = useNotices();
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set());
  const [onlyChanged, setOnlyChanged] = useState(false);
  const [chosen, setChosen] = useState<Chosen | null>(null);

  const folded = useMemo(() => {
    const groups = matrix?.groups.map(groupKey) ?? [];
    const usual = (matrix?.devices.length ?? 0) > MANY;
    return new Set(groups.filter((key) => turned.has(key) !== usual));
  }, [matrix, turned]);
  const every = useMemo(() => (matrix ? linesOf(matrix, folded) : []), [matrix, folded]);
  const single = useMemo(() => (matrix ? cellsOf(matrix) : null), [matrix]);
  const { lines, cells } = useMemo(() => {
    if (!single) return { lines: [], cells: { bits: [], changed: [] } };
    const whole = foldCells(single, every);
    if (!onlyChanged) return { lines: every, cells: whole };
    const lines = every.filter(
      (_, place) => whole.changed[place]?.includes(1) || whole.changed.some((row) => row[place] === 1),
    );
    return { lines, cells: foldCells(single, lines) };
  }, [single, every, onlyChanged]);
  const changedCells = single?.changedCount ?? 0;
  const fold = useCallback((group: string) => {
    setTurned((before) => {
      const after = new Set(before);
      if (!after.delete(group)) after.add(group);
      return after;
    });
  }, []);
  /** Every group with its devices, or every group as one line. */
  const unfold = (open: boolean) => {
    const usual = (matrix?.devices.length ?? 0) > MANY;
    setTurned(new Set(open === usual ? matrix?.groups.map(groupKey) : []));
  };
  const ask = (services: string, family: string) => go({ reach: `${services};${family}` });
  const [from, to] = [
    lines.find((line) => line.key === chosen?.row),
    lines.find((line) => line.key === chosen?.column),
  ];
  const drawn = () => {
    if (lines.length <= MOST_LINES) return matrixPicture(lines, cells);
    say(`A picture holds ${MOST_LINES} lines, and there are ${lines.length}: fold groups, or take CSV.`);
    return null;
  };
  const saveMatrix = () => {
    const picture = drawn();
    if (picture) saveSvg(picture, "reach");
  };
  const saveMatrixDots = () => {
    const picture = drawn();
    if (picture) savePng(picture, "reach").catch(fail);
  };
  const saveTable = () => saveAs(new Blob([tableOf(lines, cells)], { type: "text/csv" }), "reach.csv");
  const ready = lines.length > 0;
  useHandler("reach.svg", ready ? saveMatrix : null);
  useHandler("reach.png", ready ? saveMatrixDots : null);
  useHandler("reach.csv", ready ? saveTable : null);
  const openPair = (source: number, destination: number) => {
    if (!matrix) return;
    const homeOf = (place: number) =>
      matrix.groups
        .filter((group) => isHome(group) && group.members.includes(place))
        .map(groupKey)
        .join();
    setTurned((before) => {
      const after = new Set(before);
      const usual = matrix.devices.length > MANY;
      for (const home of [homeOf(source), homeOf(destination)]) {
        if (usual) after.add(home);
        else after.delete(home);
      }
      return after;
    });
    const key = (place: number) => `${homeOf(place)}/${place}`;
    setChosen({ row: key(source), column: key(destination) });
  };

  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)_clamp(232px,25vw,336px)]">
      <div className="flex min-h-0 min-w-0 flex-col">
        <form
          className="flex flex-wrap items-center gap-2 border-b border-rule px-4 py-2"
          onSubmit={(event) => {
            event.preventDefault();
            ask(text, question.family);
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
            value={question.family}
            onChange={(event) => ask(text, event.target.value)}
          >
            <option value="ipv4">IPv4</option>
            <option value="ipv6">IPv6</option>
          </select>
          <button
            type="button"
            className="button aria-pressed:border-ochre aria-pressed:bg-ochrewash"
            aria-pressed={onlyChanged}
            onClick={() => setOnlyChanged(!onlyChanged)}
          >
            Changed only
          </button>
          {matrix && lines.length > 0 && (
            <Menu
              className="button"
              items={[
                ["Unfold all groups", () => unfold(true)],
                ["Fold all groups", () => unfold(false)],
                ["Save as SVG", saveMatrix],
                ["Save as PNG", saveMatrixDots],
                ["Save as CSV", saveTable],
              ]}
            >
              Matrix ▾
            </Menu>
          )}
          <span className="quiet ml-auto" role="status" data-testid="reach-state">
            {isFetching
              ? matrix && `Working it out again, ${Math.round(done * 100)}%`
              : matrix &&
                `${trial ? `Trial, ${trial.label}: ` : ""}${changedCells} ${changedCells === 1 ? "cell differs" : "cells differ"} from what is running`}
          </span>
          {isFetching && (
            <button
              type="button"
              className="button"
              onClick={() => client.cancelQueries({ queryKey: ["reach", id] })}
            >
              Cancel
            </button>
          )}
        </form>
        <Failed of={found} className="px-4 py-3" />
        {!matrix && isFetching && (
          <div className="px-4 py-6">
            <Stage words="Every device is tried against every other" done={done} />
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
            onOpen={openPair}
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
