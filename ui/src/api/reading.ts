import { keepPreviousData, useQuery } from "@tanstack/react-query";
import {
  type AccessList,
  answer,
  api,
  type Collection,
  type Completion,
  type Derivation,
  type Intent,
  type Options,
  of,
  type ReachQuestion,
  type Section,
  seen,
  trying,
} from "./client";

/** What somebody writes, as the server reads it: lines, lists, items, names. */

/** How long what a line was read as is kept, in milliseconds. */
const KEPT = 10_000;

export const readFlow = (id: string, text: string) =>
  answer(api.POST("/api/networks/{network_id}/tests/read", { params: of(id), body: { text } }));

export const useFlowReading = (id: string, version: number, text: string, asked: boolean) =>
  useQuery({
    queryKey: ["flow", id, version, text],
    queryFn: () => readFlow(id, text),
    enabled: asked,
    placeholderData: keepPreviousData,
    gcTime: KEPT,
  });

export const readRequirement = (id: string, text: string) =>
  answer(api.POST("/api/networks/{network_id}/requirements/read", { params: of(id), body: { text } }));

export const useListReading = (id: string, version: number, list: Omit<AccessList, "note">) =>
  useQuery({
    queryKey: ["reading", id, version, list],
    queryFn: () => {
      const { name, family, kind, entries } = list;
      return answer(
        api.POST("/api/networks/{network_id}/lists/read", {
          params: of(id),
          body: { name, family, kind, entries: entries ?? "" },
        }),
      );
    },
    placeholderData: keepPreviousData,
    gcTime: KEPT,
  });

/** The collections whose items are sets or periods, each of which is a line. */
export type SetCollection = NonNullable<Completion["collection"]>;

/**
 * A line that makes something: a device, a part of one, or a set. `place` is the part that it changes, `key` the
 * set.
 */
export type LineOf =
  | { of: "device" }
  | { of: "part"; device: string; section: Section; place: number | null }
  | { of: "set"; collection: SetCollection; key: string | null };

export const readLine = (id: string, line: LineOf, text: string | null) => {
  switch (line.of) {
    case "device":
      return answer(
        api.POST("/api/networks/{network_id}/devices/read", { params: of(id), body: { text: text ?? "" } }),
      );
    case "part":
      return answer(
        api.POST("/api/networks/{network_id}/devices/{name}/parts/{section}", {
          params: { path: { network_id: id, name: line.device, section: line.section } },
          body: { place: line.place, text },
        }),
      );
    case "set":
      return answer(
        api.POST("/api/networks/{network_id}/sets/{collection}", {
          params: { path: { network_id: id, collection: line.collection } },
          body: { key: line.key, text },
        }),
      );
  }
};

/** Which interfaces of each side a link between two devices could take. */
export const couldJoin = (id: string, one: string, other: string) =>
  answer(
    api.GET("/api/networks/{network_id}/joining", {
      params: { path: { network_id: id }, query: { one, other } },
    }),
  );

/** A table of devices as it was pasted: what it would add, or what is wrong in which line. */
export const useDeviceTable = (id: string, version: number, text: string) =>
  useQuery({
    queryKey: ["device-table", id, version, text],
    queryFn: () =>
      answer(api.POST("/api/networks/{network_id}/devices/table", { params: of(id), body: { text } })),
    enabled: text.trim() !== "",
    placeholderData: keepPreviousData,
    gcTime: KEPT,
  });

export const useLineReading = (id: string, version: number, line: LineOf, text: string, asked: boolean) =>
  useQuery({
    queryKey: ["line", id, version, line, text],
    queryFn: () => readLine(id, line, text),
    enabled: asked,
    placeholderData: keepPreviousData,
    gcTime: KEPT,
  });

/** An item as the text that stands in a workspace file, read; `key` is null for a new one. */
export const useItemReading = (
  id: string,
  version: number,
  collection: Collection,
  key: string | null,
  text: string,
) =>
  useQuery({
    queryKey: ["item", id, version, collection, key, text],
    queryFn: () =>
      answer(
        api.POST("/api/networks/{network_id}/items/{collection}", {
          params: { path: { network_id: id, collection }, query: { key: key ?? undefined } },
          body: { text },
        }),
      ),
    placeholderData: keepPreviousData,
    gcTime: KEPT,
  });

export const useItemText = (id: string, version: number, collection: Collection, key: string) =>
  useQuery({
    queryKey: ["item-text", id, version, collection, key],
    queryFn: () =>
      answer(
        api.GET("/api/networks/{network_id}/items/{collection}", {
          params: { path: { network_id: id, collection }, query: { key } },
        }),
      ),
  });

/** What a line is, and what its completions depend on beside what is typed. */
export type Asked = Pick<Completion, "of"> & Partial<Omit<Completion, "of" | "text">>;

const ANY_LINE = {
  device: "",
  section: "interfaces",
  collection: "address_sets",
  family: "ipv4",
  kind: "extended",
} as const;

/** What is completed in a line that makes something. */
export const askedOf = (line: LineOf): Asked => {
  switch (line.of) {
    case "device":
      return line;
    case "part":
      return { of: line.of, device: line.device, section: line.section };
    case "set":
      return { of: line.of, collection: line.collection };
  }
};

/** What could stand next in a line. */
export const complete = (id: string, asked: Asked, text: string): Promise<Options> =>
  answer(
    api.POST("/api/networks/{network_id}/complete", {
      params: of(id),
      body: { ...ANY_LINE, ...asked, text },
    }),
  );

/** What gives an item another name, everywhere that it is spoken of. */
export const rename = (id: string, collection: "devices" | "lists", key: string, name: string) =>
  answer(api.POST("/api/networks/{network_id}/rename", { params: of(id), body: { collection, key, name } }));

/** The test flows that are made of another one. */
export const derive = (id: string, text: string, how: Derivation) =>
  answer(api.POST("/api/networks/{network_id}/tests/derive", { params: of(id), body: { text, how } }));

/** A table of test flows (CSV), as changes. */
export const readTable = (id: string, text: string) =>
  answer(
    api.POST("/api/networks/{network_id}/tests/table", {
      params: of(id),
      body: text,
      bodySerializer: String,
      headers: { "Content-Type": "text/csv" },
    }),
  );

/** A cell of the matrix: two devices, in the draft or in a trial. */
export interface CellOf {
  question: ReachQuestion;
  intent: Intent | null;
  source: string;
  destination: string;
}

/** The conversations behind a cell. */
export const useCell = (id: string, version: number, at: string | null, cell: CellOf) =>
  useQuery({
    queryKey: ["reach-cell", id, version, at, cell],
    queryFn: () => {
      const { question, intent, source, destination } = cell;
      return answer(
        api.POST("/api/networks/{network_id}/reach/cell", {
          params: seen(id, at),
          body: { ...question, ...trying(intent), source, destination },
        }),
      );
    },
    enabled: cell.source !== cell.destination,
  });

/** What is wrong in the exercise's network. */
export const useFaults = () =>
  useQuery({
    queryKey: ["exercise"],
    queryFn: () => answer(api.GET("/api/exercise")),
    staleTime: Number.POSITIVE_INFINITY,
  });
