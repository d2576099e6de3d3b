import { useQueryClient } from "@tanstack/react-query";
import { type DragEvent, lazy, Suspense, useEffect, useState } from "react";
import { askAnew } from "../api/anew";
import { keepAuthor, readAuthor } from "../api/author";
import { useBringing } from "../api/bringing";
import { ApiError, answer, api, basedOn, type NetworkSummary, of } from "../api/client";
import { useNetworks } from "../api/queries";
import { Failed } from "../kit/Failed";
import { Heron } from "../kit/Heron";
import { STEPS } from "../start/steps";
import { keepExercise, keepWalk, readExercise, readWalk } from "../state/kept";
import { go } from "../state/location";
import { counted } from "../state/words";

const Menu = lazy(async () => ({ default: (await import("../kit/Menu")).Menu }));
const BringIn = lazy(async () => ({ default: (await import("../bring/BringIn")).BringIn }));

/** What this is for, ways to begin, and every network that is kept here. */
export function Home() {
  const networks = useNetworks();
  const client = useQueryClient();
  const [error, setError] = useState<Error | null>(null);
  const [undo, setUndo] = useState<Undo | null>(null);
  const [asking, setAsking] = useState(false);
  const bringing = useBringing();
  const [over, setOver] = useState(false);
  const [name, setName] = useState("");
  const walk = readWalk();
  const exercise = readExercise();
  const kept = (id: string | undefined) => networks.data?.some((each) => each.id === id) ?? false;

  useEffect(() => {
    document.title = "Grey Heron";
  }, []);

  const again = () => askAnew(client, ["networks"]);
  const attempt = async (work: () => Promise<unknown>) => {
    setError(null);
    try {
      await work();
    } catch (failure) {
      setError(failure as Error);
    }
  };
  const opened = (id: string) => {
    again();
    go({ network: id, view: "map" });
  };
  const demo = (which: "saltmarsh" | "storm") =>
    answer(api.POST("/api/networks/demo", { params: { query: { which } } }));
  const begin = () =>
    attempt(async () => {
      if (walk && kept(walk.network) && walk.step < STEPS.length) return opened(walk.network);
      const { id } = await demo("saltmarsh");
      keepWalk({ network: id, step: 0 });
      opened(id);
    });
  const practise = () =>
    attempt(async () => {
      if (exercise && kept(exercise.network) && exercise.found < exercise.of) return opened(exercise.network);
      const [{ id }, faults] = await Promise.all([demo("storm"), answer(api.GET("/api/exercise"))]);
      keepExercise({ network: id, found: 0, of: faults.length });
      opened(id);
    });
  const bringIn = (files: readonly File[]) => {
    setAsking(true);
    bringing.begin(files);
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    bringIn([...event.dataTransfer.files]);
  };

  return (
    <main
      className={`h-full overflow-y-auto ${over ? "bg-tidewash" : ""}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      <div className="mx-auto max-w-[46rem] px-6 py-10">
        <h1 className="mb-2 flex items-center gap-3 text-[1.4rem] font-semibold">
          <Heron /> Grey Heron
        </h1>
        <p className="mb-6 max-w-[38rem] text-head">
          Write access lists, place them on the right device, interface and direction, and prove which traffic
          passes and which is blocked, before anything reaches a device.
        </p>
        <div className="mb-8 grid gap-x-8 gap-y-3 border-y border-rule py-4 sm:grid-cols-2">
          <Beginning
            title="A walk of six steps"
            words="The demo, in the real workbench: a blocked flow, its cause, its repair. Leave at any time."
            label={
              walk && kept(walk.network) && walk.step > 0 && walk.step < STEPS.length
                ? `Go on at step ${walk.step + 1}`
                : "Begin the walk"
            }
            onBegin={begin}
          />
          <Beginning
            title="After the storm"
            words={
              exercise && kept(exercise.network)
                ? `An exercise: ${exercise.found} of ${exercise.of} faults found and mended.`
                : "An exercise: the same network with faults planted in it. How many do you find?"
            }
            label={
              exercise && kept(exercise.network) && exercise.found < exercise.of
                ? "Go on searching"
                : "After the storm: find the faults"
            }
            onBegin={practise}
          />
        </div>
        <Failed of={networks} className="mb-4" />
        <h2 className="mb-1 font-semibold">Networks</h2>
        {undo && <UndoLine undo={undo} onDone={() => setUndo(null)} onFail={setError} />}
        {networks.data?.length === 0 && (
          <p className="quiet mb-4">None yet. Begin the walk, bring in a file, or make one of your own.</p>
        )}
        <ul className="mb-6 border-t border-rule">
          {networks.data?.map((network) => (
            <Row
              key={network.id}
              network={network}
              onOpen={() => go({ network: network.id, view: "map" })}
              onUndo={setUndo}
              onFail={setError}
            />
          ))}
        </ul>
        <div className="flex flex-wrap items-center gap-3">
          <form
            className="flex gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              const made = { name: name.trim() || "My network" };
              attempt(async () => opened((await answer(api.POST("/api/networks", { body: made }))).id));
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
          <button type="button" className="button" onClick={() => setAsking(true)}>
            Bring in…
          </button>
          <span className="quiet">or drop files anywhere here</span>
          <button
            type="button"
            className="quiet ml-auto underline"
            onClick={() => attempt(async () => opened((await demo("saltmarsh")).id))}
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

interface BeginningProps {
  title: string;
  words: string;
  label: string;
  onBegin: () => void;
}

const Beginning = ({ title, words, label, onBegin }: BeginningProps) => (
  <section aria-label={title} className="flex flex-col items-start gap-1">
    <h2 className="font-semibold">{title}</h2>
    <p className="quiet flex-1">{words}</p>
    <button type="button" className="button mt-1" onClick={onBegin}>
      {label}
    </button>
  </section>
);

/** What was done to a network here, and how it is taken back. */
interface Undo {
  words: string;
  label: string;
  act: () => Promise<unknown>;
}

interface NetworkRowProps {
  network: NetworkSummary;
  onOpen: () => void;
  onUndo: (undo: Undo) => void;
  onFail: (error: Error) => void;
}

function Row({ network, onOpen, onUndo, onFail }: NetworkRowProps) {
  const client = useQueryClient();
  const [name, setName] = useState<string | null>(null);
  const { id, version } = network;
  const act = async (work: () => Promise<Undo>) => {
    try {
      onUndo(await work());
    } catch (failure) {
      onFail(failure as Error);
    }
    await askAnew(client, ["networks"]);
    await askAnew(client, ["network", id]);
  };
  const call = (to: string, basis: number) =>
    answer(
      api.POST("/api/networks/{network_id}/name", {
        params: { ...of(id), header: basedOn(basis) },
        body: { name: to },
      }),
    );
  const drop = (dropped: string, basis: number) =>
    answer(api.DELETE("/api/networks/{network_id}", { params: { ...of(dropped), header: basedOn(basis) } }));
  const rename = (to: string) =>
    act(async () => {
      const before = network.name;
      const after = await call(to, version);
      return {
        words: `${before} is called ${to} now.`,
        label: "Call it as before",
        act: () => call(before, after.version),
      };
    });
  const copy = () =>
    act(async () => {
      const title = `${network.name.slice(0, 70)}, copy`;
      const made = await answer(
        api.POST("/api/networks/{network_id}/copy", { params: of(id), body: { name: title } }),
      );
      return {
        words: `${made.name} was made.`,
        label: "Remove it again",
        act: () => drop(made.id, made.version),
      };
    });
  const remove = () =>
    act(async () => {
      await drop(id, version);
      return {
        words: `${network.name} was removed.`,
        label: "Bring it back",
        act: () => answer(api.POST("/api/networks/{network_id}/bring-back", { params: of(id) })),
      };
    });
  return (
    <li className="flex items-center border-b border-rule hover:bg-plate">
      {name === null ? (
        <button
          type="button"
          className="flex min-w-0 flex-1 flex-wrap items-baseline gap-x-4 px-2 py-2 text-left"
          onClick={onOpen}
        >
          <span className="font-medium">{network.name}</span>
          <span className="quiet">
            {counted(network.devices, "device")}, {counted(network.lists, "list")},{" "}
            {counted(network.entries, "entry", "entries")}
          </span>
          <span className={network.surprises ? "text-ochre" : "quiet"}>{surprisesIn(network)}</span>
          <span className="quiet ml-auto">
            changed {ago(network.changed_at)}
            {network.changed_by && ` by ${network.changed_by}`}
          </span>
        </button>
      ) : (
        <form
          className="flex flex-1 gap-2 px-2 py-1"
          onSubmit={(event) => {
            event.preventDefault();
            setName(null);
            if (name.trim() && name !== network.name) rename(name.trim());
          }}
        >
          <input
            ref={(field) => field?.focus()}
            className="field flex-1"
            aria-label={`New name of ${network.name}`}
            value={name}
            maxLength={80}
            onChange={(event) => setName(event.target.value)}
            onKeyDown={(event) => event.key === "Escape" && setName(null)}
          />
          <button type="submit" className="button">
            Rename
          </button>
        </form>
      )}
      <Suspense
        fallback={
          <span className="quiet px-3 py-2" aria-hidden="true">
            ⋯
          </span>
        }
      >
        <Menu
          className="quiet px-3 py-2"
          label={`More for ${network.name}`}
          items={[
            ["Rename…", () => setName(network.name)],
            ["Copy", copy],
            ["Remove", remove],
          ]}
        >
          ⋯
        </Menu>
      </Suspense>
    </li>
  );
}

function UndoLine({
  undo,
  onDone,
  onFail,
}: {
  undo: Undo;
  onDone: () => void;
  onFail: (error: Error) => void;
}) {
  const client = useQueryClient();
  return (
    <p
      role="status"
      className="mb-2 flex items-baseline gap-3 border-l-2 border-ochre bg-ochrewash px-3 py-1"
    >
      {undo.words}
      <button
        type="button"
        className="underline"
        onClick={async () => {
          try {
            await undo.act();
          } catch (failure) {
            onFail(failure as Error);
          }
          onDone();
          askAnew(client, ["networks"]);
        }}
      >
        {undo.label}
      </button>
      <button type="button" className="quiet ml-auto underline" onClick={onDone}>
        Close
      </button>
    </p>
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

function surprisesIn({ surprises }: NetworkSummary): string {
  if (surprises === null) return "not tried since it was changed";
  return surprises ? `${counted(surprises, "flow")} not as expected` : "all flows as expected";
}

const MINUTE = 60_000;

function ago(moment: string): string {
  const minutes = Math.floor((Date.now() - new Date(moment).getTime()) / MINUTE);
  if (minutes < 1) return "just now";
  if (minutes < 60) return `${counted(minutes, "minute")} ago`;
  if (minutes < 1440) return `${counted(Math.floor(minutes / 60), "hour")} ago`;
  return new Date(moment).toLocaleDateString();
}
