import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { ApiError, ask, type OpenNetwork } from "../api/client";
import { useNetworks } from "../api/queries";
import { usePlace } from "../state/location";
import { Heron } from "./Heron";

/** Every network that is kept here, and the ways to get another one. */
export function Home() {
  const networks = useNetworks();
  const client = useQueryClient();
  const [, go] = usePlace();
  const [error, setError] = useState<Error | null>(null);
  const [name, setName] = useState("");
  const file = useRef<HTMLInputElement>(null);

  useEffect(() => {
    document.title = "Grey Heron";
  }, []);

  const open = async (made: Promise<OpenNetwork>) => {
    setError(null);
    try {
      const network = await made;
      client.invalidateQueries({ queryKey: ["networks"] });
      go({ network: network.id, view: "map" });
    } catch (failure) {
      setError(failure as Error);
    }
  };

  return (
    <main className="mx-auto max-w-[640px] px-6 py-16">
      <h1 className="mb-8 flex items-center gap-3 text-[22px] font-semibold">
        <Heron /> Grey Heron
      </h1>
      {networks.error && <p className="mb-4 text-clay">{networks.error.message}</p>}
      <h2 className="quiet mb-2">Networks</h2>
      {networks.data?.length === 0 && (
        <p className="mb-4">None yet. Import a workspace file, or start with the demo.</p>
      )}
      <ul className="mb-8 border-t border-rule">
        {networks.data?.map((network) => (
          <li key={network.id} className="border-b border-rule">
            <button
              type="button"
              className="flex w-full justify-between px-2 py-2 text-left hover:bg-plate"
              onClick={() => go({ network: network.id, view: "map" })}
            >
              <span className="font-medium">{network.name}</span>
              <span className="quiet">changed {new Date(network.changed_at).toLocaleString()}</span>
            </button>
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap items-center gap-3">
        <button
          type="button"
          className="button"
          onClick={() => open(ask("/networks/demo", { method: "POST" }))}
        >
          Open a fresh demo
        </button>
        <button
          type="button"
          className="button"
          onClick={() => open(ask("/networks/demo?which=storm", { method: "POST" }))}
        >
          After the storm: find the faults
        </button>
        <button type="button" className="button" onClick={() => file.current?.click()}>
          Import a file…
        </button>
        <input
          ref={file}
          type="file"
          accept=".yaml,.yml"
          aria-label="Workspace file"
          className="hidden"
          onChange={async (event) => {
            const chosen = event.target.files?.[0];
            event.target.value = "";
            if (chosen) open(ask("/networks/import", { text: await chosen.text() }));
          }}
        />
        <form
          className="flex gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            open(ask("/networks", { body: { name } }));
          }}
        >
          <input
            className="field w-[180px]"
            aria-label="Name of a new network"
            placeholder="Name of a new network"
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
          <button type="submit" className="button" disabled={!name.trim()}>
            Create
          </button>
        </form>
      </div>
      {error && (
        <div role="alert" className="mt-6 border-l-2 border-clay pl-3">
          <p>{error.message}</p>
          <ul className="quiet mt-1">
            {error instanceof ApiError &&
              error.problems.length > 1 &&
              error.problems.map((problem) => (
                <li key={`${problem.where}${problem.line}${problem.message}`}>
                  {problem.where}
                  {problem.line ? `, line ${problem.line}` : ""}: {problem.message}
                </li>
              ))}
          </ul>
        </div>
      )}
    </main>
  );
}
