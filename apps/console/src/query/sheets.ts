// The sheets of the Query page: texts with their parameters, and what came of running them. They live outside the
// page: a query goes on while another page is looked at, and texts outlive a reload, in this tab alone.
import { useSyncExternalStore } from "react";
import { type PlanAnswer, Problem, type QueryError, type QueryResult, post } from "../shared/api";
import { read, write } from "../shared/kept";
import { remember } from "./history";
import { parameterValues } from "./parameters";

export type RunKind = "query" | "plan" | "profile";

export interface Run {
  kind: RunKind;
  text: string;
  graph: string | null;
  parameters: Record<string, string>;
  at: number;
  /** Set while it runs. */
  abort: AbortController | null;
  result: QueryResult | null;
  plan: PlanAnswer | null;
  problem: Problem | null;
  cancelled: boolean;
}

export interface Sheet {
  id: number;
  text: string;
  parameters: Record<string, string>;
  run: Run | null;
  marks: QueryError[];
}

export const MAX_ROWS = 100_000;

interface KeptSheet {
  text: string;
  parameters: Record<string, string>;
}

let count = 0;

function sheet(text: string, parameters: Record<string, string> = {}): Sheet {
  return { id: ++count, text, parameters, run: null, marks: [] };
}

let state: { sheets: Sheet[]; open: number } = (() => {
  const kept = read<KeptSheet[]>("sheets", []);
  const sheets = kept.length > 0 ? kept.map((k) => sheet(k.text, k.parameters)) : [sheet("")];
  return { sheets, open: sheets[Math.min(read("sheet", 0), sheets.length - 1)]?.id ?? 1 };
})();

const listeners = new Set<() => void>();

function set(next: typeof state): void {
  state = next;
  write("sheets", state.sheets.map(({ text, parameters }) => ({ text, parameters })));
  write("sheet", state.sheets.findIndex((s) => s.id === state.open));
  listeners.forEach((l) => l());
}

function change(id: number, with_: (sheet: Sheet) => Partial<Sheet>): void {
  set({ ...state, sheets: state.sheets.map((s) => (s.id === id ? { ...s, ...with_(s) } : s)) });
}

export function useSheets(): typeof state {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, () => state);
}

export const openSheet = (id: number): void => set({ ...state, open: id });

export function setText(id: number, text: string): void {
  change(id, () => ({ text, marks: [] }));
}

export function setParameter(id: number, name: string, value: string): void {
  change(id, (s) => ({ parameters: { ...s.parameters, [name]: value } }));
}

/** A text in a sheet of its own; in the open one where that is empty. */
export function bring(text: string, parameters: Record<string, string> = {}): number {
  const same = state.sheets.find((s) => s.text.trim() === text.trim());
  if (same) {
    openSheet(same.id);
    return same.id;
  }
  const open = state.sheets.find((s) => s.id === state.open);
  if (open && open.text.trim() === "" && !open.run) {
    change(open.id, () => ({ text, parameters }));
    return open.id;
  }
  const added = sheet(text, parameters);
  set({ sheets: [...state.sheets, added], open: added.id });
  return added.id;
}

export function addSheet(): void {
  const added = sheet("");
  set({ sheets: [...state.sheets, added], open: added.id });
}

export function closeSheet(id: number): void {
  state.sheets.find((s) => s.id === id)?.run?.abort?.abort();
  const sheets = state.sheets.filter((s) => s.id !== id);
  if (sheets.length === 0) sheets.push(sheet(""));
  const open = state.open === id ? (sheets[sheets.length - 1]?.id ?? 0) : state.open;
  set({ sheets, open });
}

export async function run(id: number, kind: RunKind, text: string, graph: string | null): Promise<void> {
  const before = state.sheets.find((s) => s.id === id);
  if (!before || before.run?.abort || text.trim() === "") return;
  const abort = new AbortController();
  const parameters = before.parameters;
  const started: Run = { kind, text, graph, parameters, at: Date.now(), abort, result: null, plan: null, problem: null, cancelled: false };
  change(id, () => ({ run: started, marks: [] }));
  const end = (found: Partial<Run>, marks: QueryError[]) => {
    const ended = { ...started, ...found, abort: null };
    change(id, (s) => ({ run: ended, marks: s.text === text ? marks : [] }));
    if (kind === "query") remember({ text, graph, at: started.at, rows: ended.result?.summary.rows ?? null, failed: ended.problem?.message ?? null, us: ended.result?.summary.execute_us ?? null });
  };
  try {
    const body = { text, graph, parameters: parameterValues(text, parameters), ...(kind === "query" ? { max_rows: MAX_ROWS, truncate: true } : {}) };
    if (kind === "query") {
      const result = await post<QueryResult>("/v1/query", body, abort.signal);
      end({ result }, result.warnings);
    } else {
      const plan = await post<PlanAnswer>(`/v1/${kind}`, body, abort.signal);
      end({ plan }, plan.warnings);
    }
  } catch (error) {
    if (error instanceof Problem) end({ problem: error }, error.errors);
    else if (abort.signal.aborted) end({ cancelled: true }, []);
    else {
      end({ problem: new Problem(0, String(error), undefined, []) }, []);
    }
  }
}
