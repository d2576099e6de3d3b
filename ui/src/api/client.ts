import createClient, { type Middleware } from "openapi-fetch";
import { readAuthor } from "./author";
import type { components, paths } from "./generated";

type Schemas = components["schemas"];
export type ToldNetwork = Schemas["OpenNetwork"];
/** What is running, and the draft: each whole. */
export type OpenNetwork = Omit<ToldNetwork, "running"> & { running: Network };
export type Differing = Schemas["Differing"];
export type NetworkPatch = Schemas["NetworkPatch"];
export type Network = Schemas["Network"];
export type Device = Schemas["Device"];
export type AccessList = Schemas["AccessList"];
export type Placement = Schemas["Placement"];
export type TestFlow = Schemas["TestFlow"];
export type Change = Schemas["Change"];
export type Book = Schemas["Book"];
export type Foreseen = Schemas["Foreseen"];
export type TestMarks = Schemas["TestMarks"];
export type Mark = Schemas["Mark"];
export type TimeReport = Schemas["TimeReport"];
export type Verdict = Schemas["Verdict"];
export type TraceReport = Schemas["TraceReport"];
export type ExchangeReport = Schemas["ExchangeReport"];
export type LogLine = Schemas["LogLine"];
export type PacketReport = Schemas["PacketReport"];
export type HopReport = Schemas["HopReport"];
export type StepReport = Schemas["StepReport"];
export type Places = Schemas["Places"];
export type PointReport = Schemas["PointReport"];
export type Customary = Schemas["Customary"];
export type NetworkSummary = Schemas["NetworkSummary"];
export type ListReading = Schemas["ListReading"];
export type ChangedList = Schemas["ChangedList"];
export type ChangedPackets = Schemas["ChangedPackets"];
export type ChangedPlace = Schemas["ChangedPlace"];
export type PolicyPlan = Schemas["PolicyPlan"];
export type PacketChanges = Schemas["PacketChanges"];
export type TidiedList = Schemas["TidiedList"];
export type ReachChange = Schemas["ReachChange"];
export type ReachMatrix = Schemas["ReachMatrix"];
export type ReachQuestion = Omit<Schemas["ReachRequest"], "changes" | "intent">;
export type Difference = Schemas["Difference"];
export type DiffLine = Schemas["DiffLine"];
export type Derivation = Schemas["Derivation"];
export type Count = Schemas["Count"];
export type Requirement = Schemas["Requirement"];
export type ProofReport = Schemas["ProofReport"];
export type FindingItem = Schemas["FindingItem"];
export type Choice = Schemas["Choice"];
export type Run = Schemas["Run"];
export type Mended = Schemas["Mended"];
export type PartLines = Schemas["PartLines"];
export type Section = PartLines["section"];
export type Completion = Schemas["Completion"];
export type ItemReading = Schemas["ItemReading"];
export type ProblemItem = Schemas["ProblemItem"];
export type Collection = Change["collection"];
export type FlowReading = Schemas["FlowReading"];
export type RequirementReading = Schemas["RequirementReading"];
export type Options = Schemas["Options"];
export type Fault = Schemas["Fault"];
export type State = "baseline" | "running" | "draft";

type AnyIntent = Exclude<Schemas["Trial"]["intent"], null | undefined>;
type Defaulted = "label" | "group" | "instead" | "name";
type Written<I> = I extends { do: "new-list" | "new-tests" | "require" | "place" }
  ? Omit<I, Defaulted> & Partial<Pick<I, keyof I & Defaulted>>
  : Omit<I, "label"> & { label?: string };

interface Together {
  do: "together";
  label?: string;
  intents: Intent[];
}

/** What somebody wants done to the draft; what it takes is worked out by the server. */
export type Intent = Written<Exclude<AnyIntent, { do: "together" }>> | Together;

/** An intent as the server reads it: what is left out has its default there. */
export const asWritten = (intent: Intent) => intent as AnyIntent;

/** An intent that is only tried, or none, as the server reads it. */
export const trying = (intent: Intent | null) => ({ intent: intent && asWritten(intent), changes: [] });

/** An error that the server explained (RFC 9457), or that there was no server to ask. */
export class ApiError extends Error {
  readonly status: number;
  readonly problems: ProblemItem[];

  constructor({
    status,
    detail,
    problems,
  }: Pick<Schemas["ProblemDocument"], "status" | "detail"> & { problems?: ProblemItem[] }) {
    super(detail);
    this.status = status;
    this.problems = problems ?? [];
  }

  get conflict(): boolean {
    return this.status === 412;
  }
}

const signed: Middleware = {
  onRequest({ request }) {
    const author = readAuthor();
    if (author) request.headers.set("Grey-Heron-Author", encodeURIComponent(author));
  },
  onError({ request, error }) {
    if (request.signal.aborted) return error instanceof Error ? error : undefined;
    return new ApiError({
      status: 0,
      detail: "The server does not answer. Start it again; what you typed is still here.",
    });
  },
};

/** The API, typed by its OpenAPI document: every path, parameter, body and answer. */
export const api = createClient<paths>({ baseUrl: window.location.origin });
api.use(signed);

interface Answered<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** What was asked for. Throws ApiError with a sentence that says what to do. */
export async function answer<T>(asked: Promise<Answered<T>>): Promise<T> {
  const { data, error, response } = await asked;
  if (response.ok) return data as T;
  const { status } = response;
  const explained = typeof error === "object" && error !== null && "detail" in error;
  throw new ApiError(
    explained ? (error as Schemas["ProblemDocument"]) : { status, detail: `The server answered ${status}.` },
  );
}

/** The version that a write is based on (RFC 9110 13.1.1). */
export const basedOn = (version: number | undefined) =>
  version === undefined ? {} : { "if-match": `"${version}"` };

/** The path parameters of a network. */
export const of = (network_id: string) => ({ path: { network_id } });

/** The same at a moment (`tue 14:00`, or a date and an hour), or at all times. */
export const seen = (network_id: string, at: string | null) => ({
  ...of(network_id),
  query: at ? { at } : {},
});
