import { readAuthor } from "../start/kept";
import type { components } from "./generated";

type Schemas = components["schemas"];
export type OpenNetwork = Schemas["OpenNetwork"];
export type Network = Schemas["Network"];
export type Device = Schemas["Device"];
export type AccessList = Schemas["AccessList"];
export type Placement = Schemas["Placement"];
export type TestFlow = Schemas["TestFlow"];
export type Change = Schemas["Change"];
export type Book = Schemas["Book"];
export type TestMarks = Schemas["TestMarks"];
export type Mark = Schemas["Mark"];
export type Verdict = Schemas["Verdict"];
export type TraceReport = Schemas["TraceReport"];
export type ExchangeReport = Schemas["ExchangeReport"];
export type LegReport = Schemas["LegReport"];
export type HopReport = Schemas["HopReport"];
export type StepReport = Schemas["StepReport"];
export type Places = Schemas["Places"];
export type PointReport = Schemas["PointReport"];
export type NetworkSummary = Schemas["NetworkSummary"];
export type ListReading = Schemas["ListReading"];
export type FlowReading = Schemas["FlowReading"];
export type Options = Schemas["Options"];
export type ReachForeseen = Schemas["ReachForeseen"];
export type ReachChange = Schemas["ReachChange"];
export type ReachMatrix = Schemas["ReachMatrix"];
export type Fault = Schemas["Fault"];
export type Ready = Schemas["Ready"];
export type ReachQuestion = Omit<Required<Schemas["ReachRequest"]>, "changes"> & { changes?: Change[] };
export type Difference = Schemas["Difference"];
export type DiffLine = Schemas["DiffLine"];
export type Parting = Schemas["Parting"];
export type PastResult = Schemas["PastResult"];
export type Derivation = Schemas["Derivation"];
export type Count = Schemas["Count"];
export type Written = Schemas["Written"];
export type Requirement = Schemas["Requirement"];
export type RequirementMarks = Schemas["RequirementMarks"];
export type RequirementReading = Schemas["RequirementReading"];
export type ProofReport = Schemas["ProofReport"];
export type Policy = Schemas["Policy"];
export type Findings = Schemas["Findings"];
export type FindingItem = Schemas["FindingItem"];
export type Advice = Schemas["Advice"];
export type Choice = Schemas["Choice"];
export type Run = Schemas["Run"];
export type Sent = Schemas["Sent"];
export type DeviceFacts = Schemas["DeviceFacts"];
export type ItemText = Schemas["ItemText"];
export type Renaming = Schemas["Renaming"];
export type PartLines = Schemas["PartLines"];
export type Section = PartLines["section"];
export type Completion = Schemas["Completion"];
export type ItemReading = Schemas["ItemReading"];
export type RevisionItem = Schemas["RevisionItem"];
export type ProblemItem = Schemas["ProblemItem"];
export type ProblemDocument = Schemas["ProblemDocument"];
export type State = "baseline" | "running" | "draft";

/** An error that the server explained (RFC 9457), or that there was no server to ask. */
export class ApiError extends Error {
  readonly status: number;
  readonly problems: ProblemItem[];

  constructor(document: Pick<ProblemDocument, "status" | "detail"> & { problems?: ProblemItem[] }) {
    super(document.detail);
    this.status = document.status;
    this.problems = document.problems ?? [];
  }

  get conflict(): boolean {
    return this.status === 412;
  }
}

interface Sending {
  method?: "GET" | "POST" | "DELETE";
  body?: unknown;
  text?: string;
  version?: number;
  signal?: AbortSignal;
}

/** Ask the server. Throws ApiError with a sentence that says what to do. */
export async function ask<T>(path: string, sending: Sending = {}): Promise<T> {
  const headers: Record<string, string> = {};
  const author = readAuthor();
  if (author) headers["Grey-Heron-Author"] = encodeURIComponent(author);
  if (sending.version !== undefined) headers["If-Match"] = `"${sending.version}"`;
  if (sending.body !== undefined) headers["Content-Type"] = "application/json";
  if (sending.text !== undefined) headers["Content-Type"] = "application/yaml";
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method: sending.method ?? (sending.body === undefined && sending.text === undefined ? "GET" : "POST"),
      headers,
      body: sending.text ?? (sending.body === undefined ? undefined : JSON.stringify(sending.body)),
      signal: sending.signal,
    });
  } catch (error) {
    if (sending.signal?.aborted) throw error;
    throw new ApiError({
      status: 0,
      detail: "The server does not answer. Start it again; what you typed is still here.",
    });
  }
  if (!response.ok) {
    const document: ProblemDocument | null = await response.json().catch(() => null);
    throw new ApiError(
      document ?? { status: response.status, detail: `The server answered ${response.status}.` },
    );
  }
  return (response.status === 204 ? undefined : await response.json()) as T;
}
