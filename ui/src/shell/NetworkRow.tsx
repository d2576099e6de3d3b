import { useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { askAnew } from "../api/anew";
import { answer, api, basedOn, type NetworkSummary, of } from "../api/client";
import { counted } from "../state/words";

const Menu = lazy(async () => ({ default: (await import("../kit/Menu")).Menu }));

/** What was done to a network here, and how it is taken back. */
export interface Undo {
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

/** A network of the list, and what can be done to it. */
export function NetworkRow({ network, onOpen, onUndo, onFail }: NetworkRowProps) {
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
        words: `${before} is now called ${to}.`,
        label: "Undo the rename",
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

/** What was done, until it is taken back or closed. */
export function UndoLine({
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
