// Where an exploration begins: a node by its key, its name, or a query.
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { type GraphElement, type Names, Problem, ask, elementName } from "../shared/api";
import { ProblemBox } from "../shared/Problems";
import { found } from "./queries";
import type { Exploration } from "./useExploration";
import { say } from "../shared/words";

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
    exploration.take(elements.length === 1 && elements[0] ? elementName(elements[0]) : say("{{n}} found nodes", { count: elements.length }), [elements as never], found(text.trim(), properties));
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
        <Form.Control size="sm" type="search" aria-label={say("Find nodes")} placeholder={properties.length === 0 ? say("Find nodes by a property") : say("Find nodes by {{properties}}", { properties: properties.slice(0, 3).join(", ") })} value={text} onChange={(e) => setText(e.target.value)} />
        <Button size="sm" type="submit" id="find">{say("Find")}</Button>
        {exploration.busy && <span className="status" role="status">{say("working…")}</span>}
      </Form>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      {hits && (
        <div className="find-hits" role="listbox" aria-label={say("Found nodes")}>
          {hits.length === 0 && <p className="faint">{say("No node has “{{text}}” in {{properties}}.", { text, properties: properties.join(", ") })}</p>}
          {hits.map((hit) => (
            <button key={hit.id} type="button" role="option" aria-selected="false" onClick={() => take([hit])}>
              <strong>{elementName(hit)}</strong> <span className="faint">{String(hit.properties["name"] ?? "")}</span>
            </button>
          ))}
          <div className="tools">
            {hits.length > 1 && <Button size="sm" variant="outline-secondary" onClick={() => take(hits)}>{hits.length === 25 ? say("Draw all {{n}} (there may be more)", { n: hits.length }) : say("Draw all {{n}}", { n: hits.length })}</Button>}
            <Button size="sm" variant="outline-secondary" onClick={() => setHits(null)}>{say("Close")}</Button>
          </div>
        </div>
      )}
    </div>
  );
}
