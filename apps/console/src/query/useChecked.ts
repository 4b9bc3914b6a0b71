// Errors as one types: the service checks the text, without running it, when typing pauses.
import { useEffect, useState } from "react";
import { Problem, type PlanAnswer, type QueryError, post } from "../shared/api";
import { parameterNames, parameterValues } from "./parameters";

const PAUSE_MS = 600;

export function useChecked(text: string, parameters: Record<string, string>, graph: string | null): QueryError[] {
  const [found, setFound] = useState<{ text: string; errors: QueryError[] }>({ text: "", errors: [] });
  useEffect(() => {
    // Several statements are checked when they run: each may need what the one before it made.
    if (graph === null || text.trim() === "" || text.includes(";")) return;
    const abort = new AbortController();
    const values = parameterValues(text, parameters);
    for (const name of parameterNames(text)) values[name] ??= null;
    const timer = setTimeout(() => {
      void post<PlanAnswer>("/v1/plan", { text, graph, parameters: values }, abort.signal).then(
        (plan) => setFound({ text, errors: plan.warnings }),
        (error: unknown) => {
          if (error instanceof Problem) setFound({ text, errors: error.errors });
        },
      );
    }, PAUSE_MS);
    return () => {
      clearTimeout(timer);
      abort.abort();
    };
  }, [text, parameters, graph]);
  return found.text === text ? found.errors : [];
}
