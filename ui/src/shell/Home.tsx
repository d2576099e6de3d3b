import { useQueryClient } from "@tanstack/react-query";
import { type DragEvent, lazy, Suspense, useEffect, useState } from "react";
import { askAnew } from "../api/anew";
import { keepAuthor, readAuthor } from "../api/author";
import { useBringing } from "../api/bringing";
import { ApiError, answer, api } from "../api/client";
import { useNetworks } from "../api/queries";
import { Failed } from "../kit/Failed";
import { Heron } from "../kit/Heron";
import { go } from "../state/location";
import { Beginnings, makeDemo } from "./Beginnings";
import { NetworkRow, type Undo, UndoLine } from "./NetworkRow";

const BringIn = lazy(async () => ({ default: (await import("../bring/BringIn")).BringIn }));

/** What this is for, ways to begin, and every network that is kept here. */
export function Home() {
  const networks = useNetworks();
  const client = useQueryClient();
  const [error, setError] = useState<Error | null>(null);
  const [undo, setUndo] = useState<Undo | null>(null);
  const [asking, setAsking] = useState(false);
  const bringing = useBringing();

  useEffect(() => {
    document.title = "Grey Heron";
  }, []);

  const attempt = async (work: () => Promise<unknown>) => {
    setError(null);
    try {
      await work();
    } catch (failure) {
      setError(failure as Error);
    }
  };
  const open = (id: string) => go({ network: id, view: "map" });
  const opened = (id: string) => {
    askAnew(client, ["networks"]);
    open(id);
  };
  const { over, ...dropping } = useDropping((files) => {
    setAsking(true);
    bringing.begin(files);
  });

  return (
    <main className={`h-full overflow-y-auto ${over ? "bg-tidewash" : ""}`} {...dropping}>
      <div className="mx-auto max-w-[46rem] px-6 py-10">
        <h1 className="mb-2 flex items-center gap-3 text-[1.4rem] font-semibold">
          <Heron /> Grey Heron
        </h1>
        <p className="mb-6 max-w-[38rem] text-head">
          Write access lists, place them on the right device, interface and direction, and prove which traffic
          passes and which is blocked, before anything reaches a device.
        </p>
        <Beginnings networks={networks.data} attempt={attempt} onOpen={opened} />
        <Failed of={networks} className="mb-4" />
        <h2 className="mb-1 font-semibold">Networks</h2>
        {undo && <UndoLine undo={undo} onDone={() => setUndo(null)} onFail={setError} />}
        {networks.data?.length === 0 && (
          <p className="quiet mb-4">None yet. Start the walk, bring in a file, or make one of your own.</p>
        )}
        <ul className="mb-6 border-t border-rule">
          {networks.data?.map((network) => (
            <NetworkRow
              key={network.id}
              network={network}
              onOpen={() => open(network.id)}
              onUndo={setUndo}
              onFail={setError}
            />
          ))}
        </ul>
        <div className="flex flex-wrap items-center gap-3">
          <NewNetwork
            onMake={(name) =>
              attempt(async () => opened((await answer(api.POST("/api/networks", { body: { name } }))).id))
            }
          />
          <button type="button" className="button" onClick={() => setAsking(true)}>
            Bring in…
          </button>
          <span className="quiet">or drop files anywhere here</span>
          <button
            type="button"
            className="quiet ml-auto underline"
            onClick={() => attempt(async () => opened((await makeDemo("saltmarsh")).id))}
          >
            Open a fresh demo
          </button>
        </div>
        {error && <Failure error={error} />}
        <Signature />
        {asking && (
          <Suspense>
            <BringIn open onClose={() => setAsking(false)} bringing={bringing} onMade={opened} />
          </Suspense>
        )}
      </div>
    </main>
  );
}

/** Whether files are held over the page, and what takes them. */
function useDropping(onFiles: (files: File[]) => void) {
  const [over, setOver] = useState(false);
  return {
    over,
    onDragOver: (event: DragEvent) => {
      event.preventDefault();
      setOver(true);
    },
    onDragLeave: () => setOver(false),
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      setOver(false);
      onFiles([...event.dataTransfer.files]);
    },
  };
}

function NewNetwork({ onMake }: { onMake: (name: string) => void }) {
  const [name, setName] = useState("");
  return (
    <form
      className="flex gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        onMake(name.trim() || "My network");
      }}
    >
      <input
        className="field w-[13rem]"
        aria-label="Name of a new network"
        placeholder="Name of a new network"
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <button type="submit" className="button">
        Create
      </button>
    </form>
  );
}

function Failure({ error }: { error: Error }) {
  const problems = error instanceof ApiError && error.problems.length > 1 ? error.problems : [];
  return (
    <div role="alert" className="mt-6 border-l-2 border-clay pl-3">
      <p>{error.message}</p>
      <ul className="quiet mt-1">
        {problems.map((problem) => (
          <li key={`${problem.where}${problem.line}${problem.message}`}>
            {problem.where}
            {problem.line ? `, line ${problem.line}` : ""}: {problem.message}
          </li>
        ))}
      </ul>
    </div>
  );
}

/** Who is sitting here: it stands beside what is changed. */
function Signature() {
  const [name, setName] = useState(readAuthor);
  return (
    <label className="quiet mt-10 flex items-center gap-2 text-fine">
      Changes made in this browser are signed
      <input
        className="field w-[11rem]"
        placeholder="as whoever runs the server"
        maxLength={80}
        value={name}
        onChange={(event) => {
          setName(event.target.value);
          keepAuthor(event.target.value);
        }}
      />
    </label>
  );
}
