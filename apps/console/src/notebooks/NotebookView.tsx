// One notebook: its cells in order, run, saved, and written as files.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Dropdown from "react-bootstrap/Dropdown";
import { type Names, get } from "../shared/api";
import { useCallable } from "../shared/callable";
import { ProblemBox } from "../shared/Problems";
import { QueryCell } from "./QueryCell";
import { TextCell } from "./TextCell";
import { pathOf } from "./notebook";
import { useNotebook } from "./useNotebook";
import { say } from "../shared/words";

function Between({ onAdd }: { onAdd: (kind: "text" | "query") => void }) {
  return (
    <div className="cell-between">
      <button type="button" onClick={() => onAdd("query")}>{say("+ query")}</button>
      <button type="button" onClick={() => onAdd("text")}>{say("+ text")}</button>
    </div>
  );
}

export function NotebookView({ name, graph, onRemove }: { name: string; graph: string | null; onRemove: () => void }) {
  const work = useNotebook(name, graph);
  const [editing, setEditing] = useState<number | null>(null);
  const names = useQuery({ queryKey: ["names", graph], queryFn: () => get<Names>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/names`), enabled: graph !== null });
  const callable = useCallable();
  const { draft, running } = work;
  if (!draft) return work.problem ? <ProblemBox problem={work.problem} /> : <p className="empty" role="status">{say("Opening…")}</p>;
  const add = (place: number, kind: "text" | "query") => {
    work.add(place, kind);
    setEditing(place);
  };
  const edit = (place: number, on: boolean) => setEditing((now) => (on ? place : now === place ? null : now));
  return (
    <section className="notebook" aria-label={say("Notebook {{name}}", { name })} onKeyDown={(e) => {
      if ((e.ctrlKey || e.metaKey) && e.key === "s") {
        e.preventDefault();
        void work.save();
      }
    }}>
      <div className="tools notebook-tools">
        <h2>{name}</h2>
        <span className="spacer" />
        <Button size="sm" id="run-all" disabled={running !== null || graph === null} onClick={() => void work.runAll()}>{say("Run all")}</Button>
        {running !== null && <Button size="sm" variant="outline-danger" onClick={work.cancel}>{say("Cancel")}</Button>}
        <Button size="sm" variant={draft.changed ? "primary" : "outline-secondary"} id="save-notebook" disabled={!draft.changed} onClick={() => void work.save()} title={say("Ctrl+S")}>{draft.changed ? say("Save") : say("Saved")}</Button>
        <Dropdown align="end">
          <Dropdown.Toggle size="sm" variant="outline-secondary">{say("More")}</Dropdown.Toggle>
          <Dropdown.Menu>
            <Dropdown.Header>{say("As it was saved")}</Dropdown.Header>
            <Dropdown.Item href={`${pathOf(name)}/file?format=markdown`} download={`${name}.md`}>{say("Markdown")}</Dropdown.Item>
            <Dropdown.Item href={`${pathOf(name)}/file?format=ipynb`} download={`${name}.ipynb`}>{say("Notebook file (.ipynb)")}</Dropdown.Item>
            <Dropdown.Item onClick={() => window.print()}>{say("Print")}</Dropdown.Item>
            <Dropdown.Divider />
            {draft.changed && <Dropdown.Item onClick={() => void work.reopen()}>{say("Go back to what is saved")}</Dropdown.Item>}
            <Dropdown.Item className="text-danger" onClick={onRemove}>{say("Remove the notebook")}</Dropdown.Item>
          </Dropdown.Menu>
        </Dropdown>
      </div>
      {graph === null && <p className="faint">{say("Choose a graph above to run its queries.")}</p>}
      {work.problem && <ProblemBox problem={work.problem} />}
      {draft.cells.length === 0 && <p className="empty">{say("Nothing in it yet. A query keeps its result with it; a text says what it shows.")}</p>}
      {draft.cells.map((cell, place) => (
        <div key={place} className="notebook-place">
          <div className="cell-head">
            <Between onAdd={(kind) => add(place, kind)} />
            <div className="cell-tools" role="group" aria-label={say("Tools of cell {{place}}", { place: place + 1 })}>
              {cell.kind === "query" && <button type="button" disabled={running !== null || graph === null} onClick={() => void work.run(place)} title={say("Ctrl+Enter")}>{say("Run")}</button>}
              <button type="button" onClick={() => edit(place, editing !== place)}>{editing === place ? say("Done") : say("Write")}</button>
              <button type="button" aria-label={say("Move up")} disabled={place === 0} onClick={() => work.move(place, -1)}>↑</button>
              <button type="button" aria-label={say("Move down")} disabled={place === draft.cells.length - 1} onClick={() => work.move(place, 1)}>↓</button>
              <button type="button" aria-label={say("Remove this cell")} onClick={() => work.remove(place)}>×</button>
            </div>
          </div>
          <article className={`notebook-cell ${cell.kind}`} aria-label={say("Cell {{place}}", { place: place + 1 })}>
            {cell.kind === "text"
              ? <TextCell text={cell.text} editing={editing === place} onEdit={(on) => edit(place, on)} onChange={(text) => work.change(place, { text })} />
              : <QueryCell cell={cell} editing={editing === place} running={running === place} problem={work.problems.get(place) ?? null} names={names.data} measures={callable} onEdit={(on) => edit(place, on)} onChange={(with_) => work.change(place, with_)} onRun={() => void work.run(place)} />}
          </article>
        </div>
      ))}
      <Between onAdd={(kind) => add(draft.cells.length, kind)} />
    </section>
  );
}
