// The steps of an exploration: each with what it is called, the query it was, and the picture after it.
import { useCallback, useState } from "react";
import { type Json, Problem, ask } from "../shared/api";
import { storeSteps, storedSteps } from "./stored";
import { EMPTY, type Picture, only, withRows, without } from "./picture";
import { figure, say } from "../shared/words";

export interface Step {
  what: string;
  query: string | null;
  picture: Picture;
}

export interface Exploration {
  picture: Picture;
  steps: Step[];
  at: number;
  busy: boolean;
  problem: Problem | null;
  note: string | null;
  run: (what: string, query: string) => Promise<Picture | null>;
  take: (what: string, rows: Json[][], query: string | null) => void;
  /** Draws this picture in place of what is drawn. */
  show: (what: string, picture: Picture, query: string | null) => void;
  tell: (note: string) => void;
  fail: (problem: Problem) => void;
  hide: (ids: ReadonlySet<string>) => void;
  keep: (ids: ReadonlySet<string>) => void;
  goTo: (at: number) => void;
  clear: () => void;
  dismiss: () => void;
}

const FIRST: Step = { what: "Nothing yet", query: null, picture: EMPTY };

// It outlives the page and, unless it is large, a reload.
const kept = new Map<string, { steps: Step[]; at: number }>();

const MOST_ROWS = 25_000;

export function useExploration(graph: string): Exploration {
  const [{ steps, at }, setState] = useState(() => {
    const before = kept.get(graph) ?? storedSteps(graph) ?? { steps: [FIRST], at: 0 };
    kept.set(graph, before);
    return before;
  });
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<Problem | null>(null);
  const [note, setNote] = useState<string | null>(null);
  const set = useCallback((steps: Step[], at: number) => {
    kept.set(graph, { steps, at });
    storeSteps(graph, steps, at);
    setState({ steps, at });
  }, [graph]);
  const push = useCallback((what: string, query: string | null, change: (picture: Picture) => Picture): Picture => {
    const now = kept.get(graph) ?? { steps: [FIRST], at: 0 };
    const picture = change(now.steps[now.at]?.picture ?? EMPTY);
    set([...now.steps.slice(0, now.at + 1), { what, query, picture }], now.at + 1);
    return picture;
  }, [graph, set]);
  const run = useCallback(async (what: string, query: string) => {
    setBusy(true);
    setProblem(null);
    setNote(null);
    try {
      const answer = await ask(graph, query, MOST_ROWS);
      if (answer.rows.length === 0) {
        setNote(say("{{what}}: nothing was found.", { what }));
        return null;
      }
      if (answer.summary.truncated) setNote(say("The first {{rows}} rows are drawn; there are more.", { rows: figure(MOST_ROWS) }));
      return push(what, query, (picture) => withRows(picture, answer.rows));
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      setProblem(error);
      return null;
    } finally {
      setBusy(false);
    }
  }, [graph, push]);
  return {
    picture: steps[at]?.picture ?? EMPTY, steps, at, busy, problem, note, run,
    take: useCallback((what: string, rows: Json[][], query: string | null) => void push(what, query, (picture) => withRows(picture, rows)), [push]),
    show: useCallback((what: string, picture: Picture, query: string | null) => void push(what, query, () => picture), [push]),
    tell: setNote, fail: setProblem,
    hide: useCallback((ids: ReadonlySet<string>) => void push(say("Hide {{elements}}", { elements: figure(ids.size) }), null, (picture) => without(picture, ids)), [push]),
    keep: useCallback((ids: ReadonlySet<string>) => void push(say("Keep {{elements}}", { elements: figure(ids.size) }), null, (picture) => only(picture, ids)), [push]),
    goTo: (to) => set(steps, Math.max(0, Math.min(to, steps.length - 1))),
    clear: () => set([FIRST], 0),
    dismiss: () => {
      setProblem(null);
      setNote(null);
    },
  };
}
