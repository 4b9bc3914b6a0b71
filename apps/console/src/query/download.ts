// A result as a file: the rows that are shown, or, of a query that changes nothing, all of them in the service's formats.
import { type Json, type QueryResult, download } from "../shared/api";
import { writeExact } from "../shared/json";
import { save } from "../shared/save";
import { parameterValues } from "./parameters";
import type { Run } from "./sheets";

export type Format = "CSV" | "JSON" | "NDJSON";
export const FORMATS: Format[] = ["CSV", "JSON", "NDJSON"];

export const SAVED_AGAIN: [string, string, string][] = [
  ["CSV", "text/csv", "csv"],
  ["NDJSON", "application/x-ndjson", "ndjson"],
  ["Arrow", "application/vnd.apache.arrow.stream", "arrows"],
];

function field(value: Json | undefined): string {
  if (value === null || value === undefined) return "";
  const text = typeof value === "string" ? value : writeExact(value);
  return text === "" || /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

export function saveShown(result: QueryResult, format: Format): void {
  const names = result.columns.map((c) => c.name);
  const record = (row: Json[]) => Object.fromEntries(names.map((n, i) => [n, row[i] ?? null]));
  if (format === "CSV") save("result.csv", "text/csv", [names.map(field), ...result.rows.map((row) => row.map(field))].map((cells) => `${cells.join(",")}\r\n`).join(""));
  else if (format === "NDJSON") save("result.ndjson", "application/x-ndjson", result.rows.map((row) => `${writeExact(record(row))}\n`).join(""));
  else save("result.json", "application/json", `${writeExact(result.rows.map(record), 2)}\n`);
}

export async function saveAgain(run: Run, mediaType: string, suffix: string): Promise<void> {
  if (run.graph === null) return;
  save(`result.${suffix}`, mediaType, await download(run.text, run.graph, mediaType, parameterValues(run.text, run.parameters)));
}
