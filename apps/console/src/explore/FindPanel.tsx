// Where an exploration begins: a node by its key, its name, or a query.
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { type GraphElement, type Names, Problem, ask, elementName } from "../shared/api";
import { ProblemBox } from "../shared/Problems";
import { found } from "./queries";
import type { Exploration } from "./useExploration";

/** Properties that people look for, in this order; of those that the graph has. */
const LIKELY = ["code", "name", "title", "number", "id", "key", "label", "email", "text"];

export function FindPanel({ graph, names, exploration, onFound }: { graph: string; names: Names | undefined; exploration: Exploration; onFound: (ids: Set<string>) => void }) {
  const [text, setText] = useState("");
  const [hits, setHits] = useState<GraphElement[] | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const known = names?.node_properties ?? [];
  const likely = LIKELY.filter((p) => known.includes(p));
  const properties = likely.length > 0 ? likely : known.slice(0, 6);
  const look = async () => {
    if (text.trim() === "" || properties.length === 0) return;
    setProblem(null);
    try {
      const answer = await ask(graph, found(text.trim(), properties), 25);
      setHits(answer.rows.map((row) => row[0] as unknown as GraphElement));
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      setProblem(error);
    }
  };
  const take = (elements: GraphElement[]) => {
    exploration.take(elements.length === 1 && elements[0] ? elementName(elements[0]) : `${elements.length} found nodes`, [elements as never], found(text.trim(), properties));
    onFound(new Set(elements.map((e) => e.id)));
    setHits(null);
    setText("");
  };
  return (
    <div className="find">
      <Form className="find-form" onSubmit={(e) => {
        e.preventDefault();
        void look();
      }}>
        <Form.Control size="sm" type="search" aria-label="Find nodes" placeholder={`Find nodes by ${properties.slice(0, 3).join(", ") || "a property"}`} value={text} onChange={(e) => setText(e.target.value)} />
        <Button size="sm" type="submit" id="find">Find</Button>
        {exploration.busy && <span className="status" role="status">working…</span>}
      </Form>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      {hits && (
        <div className="find-hits" role="listbox" aria-label="Found nodes">
          {hits.length === 0 && <p className="faint">No node has “{text}” in {properties.join(", ")}.</p>}
          {hits.map((hit) => (
            <button key={hit.id} type="button" role="option" aria-selected="false" onClick={() => take([hit])}>
              <strong>{elementName(hit)}</strong> <span className="faint">{String(hit.properties["name"] ?? "")}</span>
            </button>
          ))}
          <div className="tools">
            {hits.length > 1 && <Button size="sm" variant="outline-secondary" onClick={() => take(hits)}>Draw all {hits.length}{hits.length === 25 ? " (there may be more)" : ""}</Button>}
            <Button size="sm" variant="outline-secondary" onClick={() => setHits(null)}>Close</Button>
          </div>
        </div>
      )}
    </div>
  );
}
