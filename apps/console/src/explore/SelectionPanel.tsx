// What is chosen: its properties, its neighbours counted before any is drawn, ways between two, what leads here.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import { type GraphElement, type Names, Problem, ask, cellText, elementName } from "../shared/api";
import { ProblemBox } from "../shared/Problems";
import { PathForm } from "./PathForm";
import { type Way, neighbourCounts, neighbours } from "./queries";
import type { Exploration } from "./useExploration";
import { figure, say } from "../shared/words";

/** So many neighbours are drawn without asking. */
const HUB = 60;
const SAMPLE = 30;

const ARROWS: Record<Way, [string, string]> = { out: ["-[", "]→"], in: ["←[", "]-"], undirected: ["~[", "]~"], any: ["-[", "]-"] };

function Neighbours({ graph, node, exploration }: { graph: string; node: GraphElement; exploration: Exploration }) {
  const [hub, setHub] = useState<string | null>(null);
  const counts = useQuery({ queryKey: ["neighbours", graph, node.id], queryFn: () => ask(graph, neighbourCounts(node)) });
  const draw = (labels: string[], way: Way, limit: number, all: number) => {
    setHub(null);
    const [before, after] = ARROWS[way];
    void exploration.run(`${elementName(node)} ${before}${labels.join("&")}${after}${limit < all ? ` (${say("{{shown}} of {{all}}", { shown: figure(limit), all: figure(all) })})` : ""}`, neighbours(node, labels, way, limit));
  };
  if (counts.error instanceof Problem) return <ProblemBox problem={counts.error} />;
  if (counts.data?.rows.length === 0) return <p className="faint">{say("It has no edges.")}</p>;
  return (
    <ul className="neighbours" aria-label={say("Neighbours")}>
      {counts.data?.rows.map((row) => {
        const [labels, way, count] = [row[0] as string[], row[1] as Way, Number(row[2])];
        const key = `${labels.join("&")} ${way}`;
        const [before, after] = ARROWS[way];
        return (
          <li key={key}>
            <button type="button" className="expand" onClick={() => (count > HUB ? setHub(key) : draw(labels, way, count, count))}>
              <code>{before}{labels.join("&")}{after}</code> <span className="count">{figure(count)}</span>
            </button>
            {hub === key && (
              <div className="hub" role="alert">
                {say("{{edges}} edges are many.", { edges: figure(count) })}
                <Button size="sm" variant="outline-secondary" onClick={() => draw(labels, way, SAMPLE, count)}>{say("{{sample}} of them", { sample: SAMPLE })}</Button>
                <Button size="sm" variant="outline-secondary" onClick={() => draw(labels, way, Math.min(count, 5000), count)}>{count > 5000 ? say("{{sample}} of them", { sample: figure(5000) }) : say("all")}</Button>
              </div>
            )}
          </li>
        );
      })}
    </ul>
  );
}

export function Properties({ element }: { element: GraphElement }) {
  const entries = Object.entries(element.properties);
  return (
    <>
      <h3>{elementName(element)}</h3>
      {entries.length === 0 ? <p className="faint">{say("It has no properties.")}</p> : <dl className="properties-list">{entries.map(([k, v]) => <div key={k}><dt>{k}</dt><dd>{cellText(v)}</dd></div>)}</dl>}
    </>
  );
}

interface Given {
  graph: string;
  selected: GraphElement[];
  edges: GraphElement[];
  exploration: Exploration;
  names: Names | undefined;
  onChoose: (ids: ReadonlySet<string>) => void;
}

export function SelectionPanel({ graph, selected, edges, exploration, names, onChoose }: Given) {
  const only = selected.length === 1 ? selected[0] : undefined;
  const edge = edges.length === 1 && selected.length === 0 ? edges[0] : undefined;
  return (
    <section className="side-part" aria-label={say("Selection")}>
      {only && <><Properties element={only} /><Neighbours graph={graph} node={only} exploration={exploration} /></>}
      {edge && <Properties element={edge} />}
      {selected.length > 1 && (
        <>
          <h3>{say("{{nodes}} nodes are chosen", { nodes: figure(selected.length) })}</h3>
          {selected.length <= 12 && <ul className="chosen-list">{selected.map((n) => <li key={n.id}><button type="button" className="link" onClick={() => onChoose(new Set([n.id]))}>{elementName(n)}</button></li>)}</ul>}
        </>
      )}
      {selected.length > 0 && <PathForm selected={selected} exploration={exploration} names={names} onChoose={onChoose} />}
      {selected.length === 0 && !edge && exploration.picture.nodes.size > 0 && <p className="faint">{say("Choose a node to see its properties and neighbours. Shift adds to the choice; dragging with Shift chooses an area.")}</p>}
    </section>
  );
}
