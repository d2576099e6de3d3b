import { useCallback, useEffect, useMemo, useState } from "react";
import type {
  AccessList,
  Change,
  Choice,
  OpenNetwork,
  Placement,
  PointReport,
  TestFlow,
} from "../api/client";
import {
  type EditRequest,
  useBook,
  useDraft,
  useNetwork,
  usePlaces,
  usePreview,
  useReachPreview,
  useTrace,
  useTraffic,
} from "../api/queries";
import { Book } from "../book/Book";
import { Inspector } from "../inspector/Inspector";
import { MapView } from "../map/MapView";
import { Strip } from "../start/Strip";
import { place as placeEdit, placementsAfter, pointKey, replace as replaceEdit } from "../state/edits";
import { usePlace } from "../state/location";
import { useSettled } from "../state/useSettled";
import { bareFlow, runWords } from "../state/words";
import { Trace } from "../trace/Trace";
import { ChangesView } from "../views/ChangesView";
import { FindingsView } from "../views/FindingsView";
import { ListsView } from "../views/ListsView";
import { LogView } from "../views/LogView";
import { ReachView } from "../views/ReachView";
import {
  type Carried,
  type Workbench as Context,
  type Previewed,
  type Viewing,
  WorkbenchContext,
} from "./context";
import { NoticeBar, NoticesProvider, useNotices } from "./notices";
import { OccupiedDialog } from "./OccupiedDialog";
import { Palette } from "./Palette";
import { ShortcutsDialog } from "./ShortcutsDialog";
import { Split, suited } from "./Split";
import { Stage } from "./Stage";
import { TopBar } from "./TopBar";
import { focusMap, useShortcuts } from "./useShortcuts";

export function Workbench({ id }: { id: string }) {
  const network = useNetwork(id);
  const [, go] = usePlace();
  if (network.data) {
    return (
      <NoticesProvider>
        <Opened id={id} network={network.data} />
      </NoticesProvider>
    );
  }
  return (
    <main className="h-full overflow-y-auto p-16" aria-busy={network.isPending}>
      {network.error ? (
        <>
          <p role="alert" className="mb-3">
            {network.error.message}
          </p>
          <button type="button" className="button mr-2" onClick={() => network.refetch()}>
            Try again
          </button>
          <button type="button" className="button" onClick={() => go({ network: null })}>
            All networks
          </button>
        </>
      ) : (
        <Stage words="Opening the network: its lists are read" done={network.done} />
      )}
    </main>
  );
}

function Opened({ id, network }: { id: string; network: OpenNetwork }) {
  const [place, go] = usePlace();
  const notices = useNotices();
  const draft = useDraft(id);
  const book = useBook(id, network.version);
  const trying = { working: book.working, done: book.done, stale: book.isPlaceholderData };
  const places = usePlaces(id, network.version).data;
  const test = network.draft.tests.find((each) => each.id === place.test);
  const flow = test ? bareFlow(test.flow) : null;
  const [exchange, setExchange] = useState(0);
  const [hop, setHop] = useState<Context["hop"]>(null);
  const [shown, show] = useState<Previewed | null>(null);
  const [carriedList, setCarried] = useState<Pick<Carried, "list" | "from"> | null>(null);
  const [over, setOver] = useState<PointReport | null>(null);
  const [choices, setChoices] = useState<Choice[]>([]);
  const [choice, setChoice] = useState<Choice | null>(null);
  const [occupied, setOccupied] = useState<PointReport | null>(null);

  useEffect(() => {
    document.title = `${network.draft.name}: Grey Heron`;
  }, [network.draft.name]);

  // A trial is a state like the others: it is shown until another one is asked for.
  const trial = shown;
  const [aside, setAside] = useState(false);
  useEffect(() => setAside(false), [trial?.kind, trial?.list]);
  const viewing: Viewing = trial && !aside ? "trial" : place.state;
  const view = useCallback(
    (state: Viewing) => {
      setAside(state !== "trial");
      if (state !== "trial") go({ state });
    },
    [go],
  );
  const tried = viewing === "trial" ? (trial?.edit.changes ?? null) : null;
  const trace = useTrace(id, network.version, flow, tried ? "draft" : place.state, tried).data;
  const after = useMemo(
    () =>
      tried
        ? { ...network.draft, placements: placementsAfter(network.draft.placements, tried) }
        : network.draft,
    [network.draft, tried],
  );

  useEffect(() => {
    setExchange(0);
    setHop(null);
  }, [flow, viewing]);

  const carried = useMemo<Carried | null>(() => {
    if (!carriedList) return null;
    const { list, from } = carriedList;
    const linked = new Set(network.draft.links.flatMap((link) => link.ends));
    for (const device of network.draft.devices) {
      for (const { name, parent } of device.interfaces) {
        if (parent && linked.has(`${device.name}:${parent}`)) linked.add(`${device.name}:${name}`);
      }
    }
    const targets = (places?.points ?? []).filter(
      (point) =>
        !point.placed.includes(list.name) && (linked.has(`${point.device}:${point.at}`) || point.line),
    );
    return { list, from, targets, over };
  }, [carriedList, places, over, network.draft]);

  const hovered = useMemo<EditRequest | null>(() => {
    if (!carried?.over) return null;
    const { list, from, over: point } = carried;
    const other = occupant(network, list, point);
    return other ? replaceEdit(list.name, point, other, from) : placeEdit(list.name, point, from);
  }, [carried, network]);
  const previewed = hovered ?? shown?.edit ?? null;
  // A list that is picked up will be hovered somewhere: what reach is like now is asked for at once.
  const foreseen = useSettled(hovered?.changes ?? (carriedList ? NO_CHANGES : null), RESTED);
  const reach = useReachPreview(id, network.version, foreseen).data?.change;
  const previewBook = usePreview(id, network.version, previewed?.changes ?? null).data;

  const make = useCallback(
    async (edit: EditRequest) => {
      notices.clear();
      try {
        await draft.edit.mutateAsync(edit);
        return true;
      } catch (error) {
        notices.fail(error);
        return false;
      }
    },
    [draft.edit, notices],
  );

  const { run: running } = useTraffic(id);
  const run = useCallback(
    (tests: TestFlow[] | null) =>
      running.mutate(
        { tests: tests?.map((each) => each.id) ?? null, state: place.state },
        { onSuccess: (report) => notices.say(runWords(report, place.state)), onError: notices.fail },
      ),
    [running, place.state, notices],
  );

  const putDown = useCallback(() => {
    setCarried(null);
    setOver(null);
    setOccupied(null);
  }, []);
  const pickUp = useCallback(
    (list: AccessList, from: Placement | null) => {
      go({ view: "map" });
      setOver(null);
      setCarried({ list, from });
    },
    [go],
  );
  const settle = useCallback(
    async (edit: EditRequest, point: PointReport) => {
      putDown();
      if (await make(edit)) go({ chosen: `point:${pointKey(point)}` });
      focusMap();
    },
    [putDown, make, go],
  );
  const drop = useCallback(
    (point: PointReport) => {
      if (!carriedList) return;
      const { list, from } = carriedList;
      if (occupant(network, list, point)) setOccupied(point);
      else settle(placeEdit(list.name, point, from), point);
    },
    [carriedList, network, settle],
  );

  const workbench: Context = {
    id,
    network,
    book: book.data,
    trying,
    trial,
    shown: after,
    viewing,
    view,
    places,
    trace,
    exchange: Math.min(exchange, Math.max((trace?.exchanges.length ?? 1) - 1, 0)),
    setExchange,
    hop,
    setHop,
    draft,
    place,
    go,
    notices,
    preview: {
      shown,
      book: previewed ? previewBook : undefined,
      reach: hovered?.changes === foreseen ? reach : undefined,
      show,
    },
    lens: { choices, shown: choice, open: setChoices, show: setChoice },
    carried,
    pickUp,
    hover: setOver,
    drop,
    putDown,
    make,
    run,
  };
  const shortcuts = useShortcuts(workbench);
  const other = carriedList && occupied ? occupant(network, carriedList.list, occupied) : null;

  return (
    <WorkbenchContext value={workbench}>
      <div className="grid h-full grid-rows-[auto_minmax(0,1fr)]">
        <div>
          <TopBar onShortcuts={shortcuts.open} />
          <Strip />
        </div>
        {place.view === "map" && <MapAndBook traced={test !== undefined} />}
        {place.view === "lists" && <ListsView />}
        {place.view === "reach" && <ReachView />}
        {place.view === "findings" && <FindingsView />}
        {place.view === "changes" && <ChangesView />}
        {place.view === "log" && <LogView />}
      </div>
      <NoticeBar />
      <Palette open={shortcuts.finding} onClose={shortcuts.stopFinding} openShortcuts={shortcuts.open} />
      <ShortcutsDialog open={shortcuts.shown} onClose={shortcuts.close} />
      {carriedList && occupied && other && (
        <OccupiedDialog
          point={occupied}
          other={other}
          list={carriedList.list.name}
          onCancel={() => setOccupied(null)}
          onReplace={() =>
            settle(replaceEdit(carriedList.list.name, occupied, other, carriedList.from), occupied)
          }
        />
      )}
    </WorkbenchContext>
  );
}

/** The view that one works in: the book, the map, whatever is chosen, and the trace below. */
function MapAndBook({ traced }: { traced: boolean }) {
  const above = (
    <Split
      id="above"
      across="horizontal"
      sides={[
        { id: "map", least: 240, content: <MapView /> },
        { id: "inspector", size: suited(0.23, 232, 336), label: "the inspector", content: <Inspector /> },
      ]}
    />
  );
  return (
    <Split
      id="workbench"
      across="horizontal"
      sides={[
        { id: "book", size: suited(0.22, 216, 320), label: "the book", content: <Book /> },
        {
          id: "rest",
          least: 480,
          content: traced ? (
            <Split
              id="rest"
              across="vertical"
              sides={[
                { id: "above", least: 160, content: above },
                { id: "trace", size: suited(0.17, 190, 230), label: "the trace", content: <Trace /> },
              ]}
            />
          ) : (
            <div className="grid min-h-0 grid-rows-[minmax(0,1fr)_auto]">
              {above}
              <Trace />
            </div>
          ),
        },
      ]}
    />
  );
}

const NO_CHANGES: Change[] = [];
/** Milliseconds over one place before reach is asked for: places that are only passed are not worth it. */
const RESTED = 80;

/** The list of the same family that stands at a place already. */
function occupant(network: OpenNetwork, list: AccessList, point: PointReport): string | null {
  if (point.takes.includes(list.family)) return null;
  const families = new Map(network.draft.lists.map((each) => [each.name, each.family]));
  return point.placed.find((name) => name !== list.name && families.get(name) === list.family) ?? null;
}
