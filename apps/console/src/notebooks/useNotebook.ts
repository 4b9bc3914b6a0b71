// A notebook that is worked on: its cells outlive the page and a reload until they are saved.
import { useEffect, useState } from "react";
import { Problem, type QueryResult, post } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { useHeld } from "../shared/held";
import { type Cell, type CellKind, cell, kept, opened, request, resultOf } from "./notebook";
import { say } from "../shared/words";

interface Draft {
  revision: number;
  cells: Cell[];
  changed: boolean;
}

export interface Work {
  draft: Draft | null;
  /** The cell that runs, by its place. */
  running: number | null;
  problem: Problem | null;
  problems: ReadonlyMap<number, Problem>;
  change: (place: number, with_: Partial<Cell>) => void;
  add: (place: number, kind: CellKind) => void;
  remove: (place: number) => void;
  move: (place: number, by: number) => void;
  run: (place: number) => Promise<boolean>;
  runAll: () => Promise<void>;
  cancel: () => void;
  save: () => Promise<void>;
  reopen: () => Promise<void>;
}

export function useNotebook(name: string, graph: string | null): Work {
  const [draft, setDraft] = useHeld<Draft | null>(`notebook ${name}`, null, "reloads");
  const { problem, attempt } = useAttempt();
  const [problems, setProblems] = useState<ReadonlyMap<number, Problem>>(new Map());
  const [running, setRunning] = useState<{ place: number; abort: AbortController } | null>(null);
  const reopen = () => attempt("", async () => {
    const found = await opened(name);
    setProblems(new Map());
    setDraft({ ...found, changed: false });
  });
  const unread = draft === null || !draft.changed;
  useEffect(() => {
    // What is not changed here is as the service has it.
    if (unread) void reopen();
    // eslint-disable-next-line react-hooks/exhaustive-deps -- only when another notebook is opened
  }, [name]);
  const cells = (make: (cells: Cell[]) => Cell[], counts = true) => setDraft((now) => now && { ...now, cells: make(now.cells), changed: now.changed || counts });
  // A drawing is made when it is looked at: that alone is nothing to save.
  const change = (place: number, with_: Partial<Cell>) => cells((all) => all.map((c, i) => (i === place ? { ...c, ...with_ } : c)), Object.keys(with_).some((field) => field !== "drawing"));
  const fails = (place: number, failure: Problem | null) => setProblems((now) => {
    const next = new Map(now);
    if (failure) next.set(place, failure);
    else next.delete(place);
    return next;
  });
  const runCell = async (place: number, of: Cell): Promise<boolean> => {
    if (graph === null) return false;
    const abort = new AbortController();
    setRunning({ place, abort });
    fails(place, null);
    try {
      const answer = await post<QueryResult>("/v1/query", request(of, graph), abort.signal);
      change(place, { result: resultOf(answer, graph), drawing: null });
      return true;
    } catch (error) {
      if (error instanceof Problem) fails(place, error);
      else if (!abort.signal.aborted) throw error;
      return false;
    } finally {
      setRunning(null);
    }
  };
  const run = async (place: number): Promise<boolean> => {
    const of = draft?.cells[place];
    return of?.kind === "query" && of.text.trim() !== "" ? runCell(place, of) : false;
  };
  return {
    draft, running: running?.place ?? null, problem, problems, change, run, reopen,
    add: (place, kind) => {
      setProblems(new Map());
      cells((all) => [...all.slice(0, place), cell(kind), ...all.slice(place)]);
    },
    remove: (place) => {
      setProblems(new Map());
      cells((all) => all.filter((_, i) => i !== place));
    },
    move: (place, by) => {
      setProblems(new Map());
      cells((all) => {
        const next = [...all];
        const [moved] = next.splice(place, 1);
        if (moved) next.splice(Math.max(0, place + by), 0, moved);
        return next;
      });
    },
    runAll: async () => {
      for (const [place, of] of (draft?.cells ?? []).entries()) {
        if (of.kind === "query" && of.text.trim() !== "" && !(await runCell(place, of))) return;
      }
    },
    cancel: () => running?.abort.abort(),
    save: () => attempt(say("Saving …"), async () => {
      if (!draft) return;
      await kept(name, draft.revision, draft.cells);
      setDraft((now) => now && { ...now, revision: draft.revision + 1, changed: now.cells !== draft.cells });
    }),
  };
}
