// What can stand behind CALL: measures, procedures of one's own, and saved queries.
import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { type Measure, type SavedQuery, get } from "./api";
import { say } from "./words";

const NONE: never[] = [];

function asMeasure({ name, description, parameters }: SavedQuery): Measure {
  const takes = parameters.map((p) => ({ name: p.name, type: p.type, required: p.default === undefined || p.default === null, default: p.default ?? null, description: "" }));
  const shown = takes.map((a) => `${a.name}: ${a.type}${a.default === null ? "" : ` = ${a.default}`}`).join(", ");
  return { name, description: description || say("A saved query."), signature: `${name}(${shown === "" ? "" : `{${shown}}`})`, arguments: takes, columns: [], once_an_element: false };
}

export interface OwnProcedure {
  name: string;
  description: string;
  /** `name(argument TYPE = value, ...) YIELD column TYPE, ...` */
  signature: string;
}

const SEPARATOR = /,\s*(?=(?:[^']*'[^']*')*[^']*$)/;

export function asCallable({ name, description, signature }: OwnProcedure): Measure {
  const [, inside = "", given = ""] = /^\w+\((.*)\)\s*YIELD\s+(.*)$/.exec(signature) ?? [];
  const parts = (list: string) => (list.trim() === "" ? [] : list.split(SEPARATOR));
  const takes = parts(inside).map((part) => {
    const [, called = "", type = "", usual] = /^(\w+)\s+([^=]*[^=\s])\s*(?:=\s*(.*))?$/.exec(part.trim()) ?? [];
    return { name: called, type, required: usual === undefined, default: usual ?? null, description: "" };
  });
  const columns = parts(given).map((part) => {
    const [called = "", ...type] = part.trim().split(/\s+/);
    return { name: called, type: type.join(" "), description: "" };
  });
  return { name, description, signature, arguments: takes, columns, once_an_element: false };
}

export function useCallable(): Measure[] {
  const measures = useQuery({ queryKey: ["measures"], queryFn: () => get<Measure[]>("/v1/measures"), staleTime: Infinity }).data ?? NONE;
  const own = useQuery({ queryKey: ["procedures"], queryFn: () => get<OwnProcedure[]>("/v1/procedures"), staleTime: 30_000 }).data ?? NONE;
  const saved = useQuery({ queryKey: ["saved"], queryFn: () => get<SavedQuery[]>("/v1/saved-queries"), staleTime: 30_000 }).data ?? NONE;
  return useMemo(() => [...measures, ...own.map(asCallable), ...saved.map(asMeasure)], [measures, own, saved]);
}
