// Puts a query with its result into a notebook.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Dropdown from "react-bootstrap/Dropdown";
import { Link } from "react-router-dom";
import { get } from "../shared/api";
import { type CellView, type NotebookInfo, append, cell, resultOf } from "../notebooks/notebook";
import type { Run } from "./sheets";
import { say } from "../shared/words";

export function IntoNotebook({ run, view, attempt }: { run: Run; view: string; attempt: (what: string, work: () => Promise<void>) => Promise<void> }) {
  const [open, setOpen] = useState(false);
  const [into, setInto] = useState<string | null>(null);
  const all = useQuery({ queryKey: ["notebooks"], queryFn: () => get<NotebookInfo[]>("/v1/notebooks"), enabled: open });
  const put = (name: string) => attempt("notebook", async () => {
    if (!run.result || run.graph === null) return;
    const shown: CellView = view === "drawing" || view === "chart" ? view : "table";
    await append(name, [{ ...cell("query", run.text.trim()), parameters: run.parameters, view: shown, result: resultOf(run.result, run.graph) }]);
    setInto(name);
  });
  if (into !== null) return <Link className="btn btn-sm btn-outline-secondary" to={`/notebooks?notebook=${encodeURIComponent(into)}`}>{say("Open {{name}}", { name: into })}</Link>;
  return (
    <Dropdown align="end" show={open} onToggle={setOpen}>
      <Dropdown.Toggle size="sm" variant="outline-secondary" id="into-notebook">{say("Into a notebook")}</Dropdown.Toggle>
      <Dropdown.Menu>
        {(all.data ?? []).map((n) => <Dropdown.Item key={n.name} onClick={() => void put(n.name)}>{n.name}</Dropdown.Item>)}
        {(all.data ?? []).length > 0 && <Dropdown.Divider />}
        <Dropdown.Item onClick={() => {
          const name = prompt(say("Name of the new notebook"))?.trim();
          if (name) void put(name);
        }}>{say("A new one …")}</Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  );
}
