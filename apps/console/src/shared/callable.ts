// What can stand behind CALL: measures, and saved queries.
import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { type Measure, type SavedQuery, get } from "./api";

const NONE: never[] = [];

function asMeasure({ name, description, parameters }: SavedQuery): Measure {
  const takes = parameters.map((p) => ({ name: p.name, type: p.type, required: p.default === undefined || p.default === null, default: p.default ?? null, description: "" }));
  const shown = takes.map((a) => `${a.name}: ${a.type}${a.default === null ? "" : ` = ${a.default}`}`).join(", ");
  return { name, description: description || "A saved query.", signature: `${name}(${shown === "" ? "" : `{${shown}}`})`, arguments: takes, columns: [], once_an_element: false };
}

export function useCallable(): Measure[] {
  const measures = useQuery({ queryKey: ["measures"], queryFn: () => get<Measure[]>("/v1/measures"), staleTime: Infinity }).data ?? NONE;
  const saved = useQuery({ queryKey: ["saved"], queryFn: () => get<SavedQuery[]>("/v1/saved-queries"), staleTime: 30_000 }).data ?? NONE;
  return useMemo(() => [...measures, ...saved.map(asMeasure)], [measures, saved]);
}
