// The service's answers, and the calls that get them. Every failure is a Problem.
import { type Json, parseExact, writeExact } from "./json";
import type { components } from "./schema";
import { figure, say } from "./words";

export type { Json };

/** Bodies as the service describes them: `npm run types` makes them anew. */
type S = components["schemas"];
/** A body of which more is known than the description says. */
type Refined<Base, More> = Omit<Base, keyof More> & More;
/** An answer has every field, though a request may leave some out. */
type Answer<T> = T extends (infer Item)[] ? Answer<Item>[] : T extends object ? { [K in keyof T]-?: Answer<Exclude<T[K], undefined>> } : T;

export type QueryError = Refined<S["QueryError"], { severity: "error" | "warning" }>;

export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly hint: string | undefined,
    readonly errors: QueryError[],
  ) {
    super(detail);
  }
}

export type GraphSummary = S["GraphSummary"];

export type Names = S["Names"];

export interface GraphElement {
  type: "node" | "edge";
  id: string;
  labels: string[];
  key: string[];
  properties: { [key: string]: Json };
  directed?: boolean;
  source?: string;
  target?: string;
}

export interface Summary {
  rows: number;
  truncated?: boolean;
  execute_us?: number;
  graph?: string;
  version?: number;
  changed?: { [what: string]: number };
}

export interface QueryResult {
  columns: { name: string; kind: "node" | "edge" | "path" | "value" }[];
  rows: Json[][];
  summary: Summary;
  warnings: QueryError[];
}

export interface Hop {
  hop: number;
  side: string;
  frontier: number;
  edges_looked: number;
  failed: number;
  reached: number;
  known: number;
  largest_degree: number;
  /** The node that has it. */
  largest_node?: string;
  time_us: number;
}

/** A way to do what an operator does, and why it was taken or not. */
export interface Alternative {
  method: string;
  cost?: number;
  chosen: boolean;
  reason: string;
}

export interface PlanTree {
  operator: string;
  details: [string, string][];
  estimate: { rows: number; cost: number; basis: string; source: string };
  alternatives?: Alternative[];
  actual?: {
    rows_in: number;
    rows_out: number;
    batches: number;
    own_us: number;
    total_us: number;
    peak_bytes: number;
    edges_looked: number;
    properties_read: number;
    index_probes: number;
    estimate_factor: number;
    hops?: Hop[];
    notes?: string[];
  };
  inputs: PlanTree[];
}

export interface PlanFinding {
  rule: string;
  operator: string;
  message: string;
  advice: string;
  statement?: string;
}

export interface PlanAnswer {
  plan: PlanTree;
  findings?: PlanFinding[];
  /** The query changes the graph: it was run, and nothing of it was kept. */
  rolled_back?: boolean;
  rows?: number;
  parse_us: number;
  check_us: number;
  plan_us: number;
  execute_us?: number;
  /** Of several runs. */
  timing?: { runs: number; first_us: number; median_us: number; least_us: number; most_us: number };
  /** Keys and indexes that were supposed. */
  with?: string[];
  /** The number under which it is kept. */
  run?: number;
  /** Why it ended early. */
  error?: QueryError;
  warnings: QueryError[];
}

/** A kept profile. */
export type RunInfo = Refined<S["RunInfo"], { kind: "profile" | "slow" }>;

export type WholeRun = RunInfo & Refined<S["WholeRun"], { kind: RunInfo["kind"]; parameters: { [name: string]: Json }; profile: PlanAnswer }>;

export interface Work {
  rows_out: number;
  edges_looked: number;
  properties_read: number;
  index_probes: number;
}

export interface Figures {
  estimated_rows: number;
  work?: Work;
  own_us: number;
  peak_bytes: number;
}

export interface Comparison {
  same_plan: boolean;
  same_work: boolean;
  work: [Work, Work];
  own_us: [number, number];
  operators: {
    depth: number;
    change: "same" | "changed" | "removed" | "added";
    operator: string;
    on: string;
    instead_of?: string;
    before?: Figures;
    after?: Figures;
  }[];
}

export type ComparisonAnswer = Refined<S["ComparisonAnswer"], { before: RunInfo; after: RunInfo; comparison: Comparison }>;

/** A request that runs now. */
export interface RunningInfo {
  id: number;
  kind: S["RunningKind"];
  graph: string;
  text: string;
  client: string;
  age_ms: number;
  phase: S["Phase"];
  operator?: string;
  hop?: number;
  work: number;
  rows: number;
  memory_bytes: number;
}

export interface RuleAccount {
  rule: string;
  rows: number;
  created: number;
  changed?: number;
  unchanged?: number;
  duplicates: number;
  skipped: number;
  rejects: number;
  created_ends?: number;
}

export type Job = Refined<
  Answer<S["Job"]>,
  {
    detail: {
      error?: string;
      changed?: boolean;
      version?: number;
      /** A load that published nothing, and which limits a load would break. */
      check?: boolean;
      breaks?: string[];
      /** Of a model that was applied. */
      differences?: { message: string }[];
      account?: { tables: { table: string; rows: number; rules: RuleAccount[] }[]; nodes_created: number; edges_created: number; rejects: number };
    };
  }
>;

export type Rejects = Answer<S["Rejects"]>;

export type ModelProperty = Answer<S["ModelProperty"]>;

export type ModelNodeType = Answer<S["ModelNodeType"]>;

export type ModelEdgeType = Answer<S["ModelEdgeType"]>;

/** A graph type as JSON. */
export type ModelTypes = Answer<S["ModelTypes"]>;

export type ModelForms = Answer<S["ModelForms"]>;

export type Model = Answer<S["ModelAnswer"]>;

export type ModelFinding = Answer<S["ModelFinding"]>;

export type ModelReport = Answer<S["ModelReport"]>;

export type ModelDiff = Answer<S["ModelDiff"]>;

export interface SavedQuery {
  name: string;
  folder: string;
  description: string;
  parameters: { name: string; type: string; not_null?: boolean; default?: string | null }[];
  text: string;
  changes: boolean;
  changed: string;
}

export type Measure = Omit<S["MeasureInfo"], "source" | "cost">;

export type Draft = S["DraftAnswer"];

async function send(path: string, init?: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(path, init);
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Problem(0, say("The service does not answer."), say("Is it running? This page goes on when it is back."), []);
  }
  if (response.ok) return response;
  const text = await response.text();
  try {
    const problem = JSON.parse(text) as { detail: string; hint?: string; errors?: QueryError[] };
    throw new Problem(response.status, problem.detail, problem.hint, problem.errors ?? []);
  } catch (error) {
    if (error instanceof Problem) throw error;
    throw new Problem(response.status, text || response.statusText, undefined, []);
  }
}

export async function get<T>(path: string): Promise<T> {
  return parseExact(await (await send(path)).text()) as T;
}

export async function post<T>(path: string, body: unknown, signal?: AbortSignal): Promise<T> {
  const init: RequestInit = { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(body) };
  if (signal) init.signal = signal;
  const answer = parseExact(await (await send(path, init)).text()) as { error?: { status: number; detail: string; hint?: string; errors?: QueryError[] } };
  // A result that failed after part of its rows was sent.
  if (answer.error?.detail !== undefined) throw new Problem(answer.error.status, answer.error.detail, answer.error.hint, answer.error.errors ?? []);
  return answer as T;
}

export async function postForm<T>(path: string, form: FormData): Promise<T> {
  return (await (await send(path, { method: "POST", body: form })).json()) as T;
}

/** Calls `take` with each line of JSON, as they come. */
export async function lines<T>(path: string, signal: AbortSignal, take: (line: T) => void): Promise<void> {
  const body = (await send(path, { signal })).body;
  if (body === null) return;
  const reader = body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) break;
    const parts = (rest + value).split("\n");
    rest = parts.pop() ?? "";
    parts.forEach((part) => take(parseExact(part) as T));
  }
}

export interface VersionInfo {
  version: number;
  kind: "create" | "commit" | "load" | "model" | "restore" | "fold";
  at: string;
  origin: string;
  nodes: number | null;
  edges: number | null;
  changes: number | null;
  base: boolean;
}

export interface Versions {
  newest: number;
  oldest: number;
  retention: { versions: number; days: number };
  versions: VersionInfo[];
}

interface DifferenceSide {
  labels?: string[];
  source?: string;
  target?: string;
  properties: { [name: string]: Json };
}

export interface DifferenceLine {
  change: "added" | "changed" | "removed";
  id: string;
  name: string;
  properties?: { [name: string]: Json };
  before?: DifferenceSide;
  after?: DifferenceSide;
}

export interface DifferenceSummary {
  added: number;
  changed: number;
  removed: number;
}

export async function cancelJob(id: number): Promise<void> {
  await send(`/v1/jobs/${id}`, { method: "DELETE" });
}

export type Parameters = { [name: string]: Json };

function queryAs(text: string, graph: string, mediaType: string, parameters: Parameters = {}): Promise<Response> {
  return send("/v1/query", {
    method: "POST",
    headers: { "content-type": "application/json", accept: mediaType },
    body: JSON.stringify({ text, graph, parameters }),
  });
}

/** The rows of a query in another format, as a file to save. */
export async function download(text: string, graph: string, mediaType: string, parameters: Parameters): Promise<Blob> {
  return (await queryAs(text, graph, mediaType, parameters)).blob();
}

export async function remove(path: string): Promise<void> {
  await send(path, { method: "DELETE" });
}

export async function put(path: string, body: { [field: string]: unknown }): Promise<void> {
  await send(path, { method: "PUT", headers: { "content-type": "application/json" }, body: writeExact(body as Json) });
}

/** The rows of a query on a graph. */
export function ask(graph: string, text: string, maxRows = 5000, signal?: AbortSignal): Promise<QueryResult> {
  return post<QueryResult>("/v1/query", { text, graph, max_rows: maxRows, truncate: true }, signal);
}

export async function queryText(graph: string, text: string, mediaType: string): Promise<string> {
  return (await queryAs(text, graph, mediaType)).text();
}

export function isElement(value: Json | undefined, type: "node" | "edge"): boolean {
  return value !== null && typeof value === "object" && !Array.isArray(value) && value["type"] === type && Array.isArray(value["labels"]);
}

/** `Junction J-00012`: labels and key, never a dump. */
export function elementName(element: GraphElement): string {
  const key = element.key.map((k) => String(element.properties[k] ?? "")).join("/");
  return `${element.labels.join("&")} ${key || element.id}`;
}

export function cellText(value: Json | undefined): string {
  if (value === null || value === undefined) return "null";
  // Twelve digits: enough to read, without the last bits' noise. Downloads have all.
  if (typeof value === "number" && !Number.isInteger(value)) return String(Number(value.toPrecision(12)));
  if (typeof value !== "object") return String(value);
  if (Array.isArray(value)) return `[${value.map(cellText).join(", ")}]`;
  if (isElement(value, "node") || isElement(value, "edge")) return elementName(value as unknown as GraphElement);
  if (value["type"] === "path") {
    const nodes = value["nodes"] as unknown as GraphElement[];
    return nodes.map((n) => n.key.map((k) => String(n.properties[k])).join("/") || n.id).join(" → ");
  }
  return `{${Object.entries(value).map(([k, v]) => `${k}: ${cellText(v)}`).join(", ")}}`;
}

export function duration(us: number | undefined): string {
  if (us === undefined) return "";
  if (us < 999.5) return `${figure(us, 0)} µs`;
  if (us < 1e6) return `${figure(us / 1e3, 2)} ms`;
  return `${figure(us / 1e6, 2)} s`;
}

/** `4 min`, `2 h 5 min`: no more digits than anyone reads. */
export function timeLeft(ms: number): string {
  const seconds = Math.round(ms / 1000);
  if (seconds < 90) return `${seconds} s`;
  const minutes = Math.round(seconds / 60);
  return minutes < 90 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}
