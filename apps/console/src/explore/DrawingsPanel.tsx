// The graph's saved drawings: opened, saved over, shared by a link, removed.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { get, remove } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { ProblemBox } from "../shared/Problems";
import { type Arrangement, type DrawingInfo, drawingPath, drawingsPath, keepDrawing } from "./drawings";
import type { Picture } from "./picture";
import { figure, moment, say } from "../shared/words";

interface Properties {
  graph: string;
  picture: Picture;
  arrangement: () => Arrangement;
  /** The drawing that is open, with the revision that was opened. */
  open: { name: string; revision: number } | null;
  onOpen: (name: string) => void;
  onSaved: (name: string, revision: number) => void;
}

export function DrawingsPanel({ graph, picture, arrangement, open, onOpen, onSaved }: Properties) {
  const all = useQuery({ queryKey: ["drawings", graph], queryFn: () => get<DrawingInfo[]>(drawingsPath(graph)) });
  const [typed, setTyped] = useState<string | null>(null);
  const { busy, problem, setProblem, attempt } = useAttempt();
  const name = (typed ?? open?.name ?? "").trim();
  const over = open?.name === name;
  const save = () => attempt(say("Saving …"), async () => {
    const revision = over && open ? open.revision : 0;
    await keepDrawing(graph, name, revision, picture, arrangement());
    onSaved(name, revision + 1);
    setTyped(null);
    await all.refetch();
  });
  const drop = (of: string) => attempt(say("Removing …"), async () => {
    if (!confirm(say("Remove the drawing {{name}}? It cannot be brought back.", { name: of }))) return;
    await remove(drawingPath(graph, of));
    await all.refetch();
  });
  const link = (of: string) => `/explore?graph=${encodeURIComponent(graph)}&drawing=${encodeURIComponent(of)}`;
  const list = all.data ?? [];
  if (list.length === 0 && picture.nodes.size === 0) return null;
  return (
    <section className="side-part" aria-label={say("Saved drawings")}>
      <h3>{say("Saved drawings")}</h3>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      {picture.nodes.size > 0 && (
        <Form className="drawing-save" onSubmit={(e) => {
          e.preventDefault();
          void save();
        }}>
          <Form.Control size="sm" aria-label={say("Name of the drawing")} placeholder={say("name of the drawing")} value={typed ?? open?.name ?? ""} onChange={(e) => setTyped(e.target.value)} />
          <Button size="sm" type="submit" id="save-drawing" variant="outline-secondary" disabled={busy !== null || name === ""}>{over ? say("Save over it") : say("Save")}</Button>
        </Form>
      )}
      <ul className="drawings-list">
        {list.map((d) => (
          <li key={d.name} aria-current={d.name === open?.name ? "true" : undefined}>
            <button type="button" className="link" title={moment(d.changed)} onClick={() => onOpen(d.name)}>{d.name}</button>
            <span className="count">{figure(d.node_count)}</span>
            <a href={link(d.name)} aria-label={say("Link to {{name}}", { name: d.name })}>{say("link")}</a>
            <button type="button" className="link" aria-label={say("Remove {{name}}", { name: d.name })} onClick={() => void drop(d.name)}>{say("remove")}</button>
          </li>
        ))}
      </ul>
    </section>
  );
}
