// A notebook as the service keeps it, and as it is worked on.
import { type Json, type QueryResult, get, put } from "../shared/api";
import { parameterValues } from "../query/parameters";

export type CellKind = "text" | "query";
export type CellView = "table" | "drawing" | "chart";

export interface CellResult {
  graph: string;
  version: number;
  at: string;
  row_count: number;
  columns: QueryResult["columns"];
  rows: Json[][];
}

export interface Cell {
  kind: CellKind;
  text: string;
  parameters: Record<string, string>;
  view: CellView;
  result: CellResult | null;
  drawing: string | null;
}

export interface NotebookInfo {
  name: string;
  revision: number;
  cell_count: number;
  changed: string;
}

interface StoredCell {
  kind: CellKind;
  text: string;
  parameters?: Record<string, string>;
  view?: CellView;
  result?: CellResult;
  drawing?: string;
}

/** Rows of a result that are kept with the notebook. */
export const KEPT_ROWS = 200;
export const ASKED_ROWS = 1000;

export const pathOf = (name: string): string => `/v1/notebooks/${encodeURIComponent(name)}`;

export function cell(kind: CellKind, text = ""): Cell {
  return { kind, text, parameters: {}, view: "table", result: null, drawing: null };
}

export async function opened(name: string): Promise<{ revision: number; cells: Cell[] }> {
  const found = await get<{ revision: number; cells: StoredCell[] }>(pathOf(name));
  return { revision: found.revision, cells: found.cells.map((c) => ({ ...cell(c.kind, c.text), ...c })) };
}

function stored({ kind, text, parameters, view, result, drawing }: Cell): Json {
  if (kind === "text") return { kind, text };
  const out: { [field: string]: Json } = { kind, text, view };
  if (Object.keys(parameters).length > 0) out["parameters"] = parameters;
  if (result) out["result"] = { ...result, rows: result.rows.slice(0, KEPT_ROWS) } as unknown as Json;
  if (drawing !== null && view === "drawing") out["drawing"] = drawing;
  return out;
}

export async function kept(name: string, revision: number, cells: Cell[]): Promise<void> {
  await put(pathOf(name), { revision, cells: cells.map(stored) });
}

/** What a query cell is asked with. */
export function request(of: Cell, graph: string): { [field: string]: unknown } {
  return { text: of.text, graph, parameters: parameterValues(of.text, of.parameters), max_rows: ASKED_ROWS, truncate: true };
}

export function resultOf(answer: QueryResult, graph: string): CellResult {
  const { rows, graph: of, version } = answer.summary;
  return { graph: of ?? graph, version: version ?? 0, at: new Date().toISOString(), row_count: rows, columns: answer.columns, rows: answer.rows };
}

/** The result of a cell as the views of the Query page take it. */
export function asAnswer(result: CellResult): QueryResult {
  return { columns: result.columns, rows: result.rows, summary: { rows: result.row_count, graph: result.graph, version: result.version }, warnings: [] };
}

/** Puts cells behind those of a notebook; one that is not there is begun. */
export async function append(name: string, cells: Cell[]): Promise<void> {
  const all = await get<NotebookInfo[]>("/v1/notebooks");
  const there = all.some((n) => n.name === name) ? await opened(name) : { revision: 0, cells: [] };
  await kept(name, there.revision, [...there.cells, ...cells]);
}
