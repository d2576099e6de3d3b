import { useQueryClient } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { type ComponentType, useCallback, useEffect, useState } from "react";
import { useKeys } from "../actions/useKeys";
import { useBringing } from "../api/bringing";
import { ApiError, type OpenNetwork } from "../api/client";
import { useNetwork } from "../api/queries";
import { BringIn } from "../bring/BringIn";
import { TakeOut } from "../bring/TakeOut";
import { Failed } from "../kit/Failed";
import { NoticeBar } from "../kit/notices";
import { Stage } from "../kit/Stage";
import { Strip } from "../start/Strip";
import { go, useLocation, type View } from "../state/location";
import { ChangesView } from "../views/ChangesView";
import { FindingsView } from "../views/FindingsView";
import { ListsView } from "../views/ListsView";
import { LogView } from "../views/LogView";
import { MapAndBook } from "../views/MapAndBook";
import { ReachView } from "../views/ReachView";
import { TrafficView } from "../views/TrafficView";
import { useHandler } from "../workbench/handlers";
import { Providers } from "../workbench/Providers";
import { Palette } from "./Palette";
import { ShortcutsDialog } from "./ShortcutsDialog";
import { TopBar } from "./TopBar";
import { Unreadable } from "./Unreadable";

const SCREENS: Record<View, ComponentType> = {
  map: MapAndBook,
  lists: ListsView,
  reach: ReachView,
  findings: FindingsView,
  changes: ChangesView,
  log: LogView,
  traffic: TrafficView,
};

export function Workbench({ id }: { id: string }) {
  const network = useNetwork(id);
  if (network.data) {
    return (
      <Tooltip.Provider delayDuration={300}>
        <Providers id={id} network={network.data}>
          <Screen network={network.data} />
        </Providers>
      </Tooltip.Provider>
    );
  }
  return (
    <main className="h-full overflow-y-auto p-16" aria-busy={network.isPending}>
      {network.error ? (
        <>
          <Failed of={network} className="mb-3" again="Try again" />
          <button type="button" className="button" onClick={() => go({ network: null })}>
            All networks
          </button>
          {network.error instanceof ApiError && network.error.status === 409 && <Unreadable id={id} />}
        </>
      ) : (
        <Stage words="Opening the network: reading its lists" done={network.done} />
      )}
    </main>
  );
}

/** One view of the open network, under the bar; the palette and the keys are there in all of them. */
function Screen({ network }: { network: OpenNetwork }) {
  const { view } = useLocation();
  const [overlay, setOverlay] = useState<"palette" | "shortcuts" | "bring" | "out" | null>(null);
  const close = useCallback(() => setOverlay(null), []);
  useHandler("palette", () => setOverlay("palette"));
  useHandler("shortcuts", () => setOverlay("shortcuts"));
  useHandler("bring", () => setOverlay("bring"));
  useHandler("out", () => setOverlay("out"));
  const { name } = network.draft;
  useEffect(() => {
    document.title = `${name}: Grey Heron`;
  }, [name]);
  const View = SCREENS[view];
  return (
    <>
      <div className="grid h-full grid-rows-[auto_minmax(0,1fr)]">
        <div>
          <TopBar />
          <Strip />
        </div>
        <View />
      </div>
      <Keys />
      <NoticeBar />
      <Palette open={overlay === "palette"} onClose={close} />
      <ShortcutsDialog open={overlay === "shortcuts"} onClose={close} />
      {overlay === "bring" && <BringHere network={network} onClose={close} />}
      {overlay === "out" && <TakeOut id={network.id} version={network.version} onClose={close} />}
    </>
  );
}

/** Bring in, merged into the draft or made a network of its own. */
function BringHere({ network, onClose }: { network: OpenNetwork; onClose: () => void }) {
  const bringing = useBringing();
  const client = useQueryClient();
  const into = {
    id: network.id,
    version: network.version,
    name: network.draft.name,
    onMerged: (next: OpenNetwork) => client.setQueryData(["network", network.id], next),
  };
  return (
    <BringIn
      open
      onClose={onClose}
      bringing={bringing}
      into={into}
      onMade={(id) => go({ network: id, view: "map" })}
    />
  );
}

/** Drawn as nothing, so that what the keys look at draws nothing else anew; after the view, which takes the focus first. */
function Keys() {
  useKeys();
  return null;
}
