// What is drawn, as a list: for the keyboard, for search, for those who do not see the drawing.
import { memo, useCallback, useEffect, useMemo, useRef, useState } from "react";
import Form from "react-bootstrap/Form";
import { type GraphElement, cellText, elementName } from "../shared/api";
import type { Picture } from "./picture";
import { figure, say } from "../shared/words";

const SHOWN = 200;

function summary(node: GraphElement): string {
  return Object.entries(node.properties).filter(([k]) => !node.key.includes(k)).slice(0, 4).map(([k, v]) => `${k} ${cellText(v)}`).join(", ");
}

/** A row is drawn again only where it is chosen or no longer. */
const NodeRow = memo(function NodeRow({ node, chosen, onToggle }: { node: GraphElement; chosen: boolean; onToggle: (id: string) => void }) {
  return (
    <li>
      <label><input type="checkbox" checked={chosen} onChange={() => onToggle(node.id)} /> {elementName(node)} <span className="faint">{summary(node)}</span></label>
    </li>
  );
});

export function DrawnTable({ picture, chosen, onChoose }: { picture: Picture; chosen: ReadonlySet<string>; onChoose: (ids: ReadonlySet<string>) => void }) {
  const [text, setText] = useState("");
  const nodes = useMemo(() => {
    const wanted = text.toLowerCase();
    return [...picture.nodes.values()].filter((n) => wanted === "" || `${elementName(n)} ${summary(n)}`.toLowerCase().includes(wanted));
  }, [picture, text]);
  const latest = useRef({ chosen, onChoose });
  useEffect(() => {
    latest.current = { chosen, onChoose };
  });
  const toggle = useCallback((id: string) => {
    const next = new Set(latest.current.chosen);
    if (!next.delete(id)) next.add(id);
    latest.current.onChoose(next);
  }, []);
  if (picture.nodes.size === 0) return null;
  return (
    <details className="drawn-table">
      <summary>{say("Nodes that are drawn")} <span className="faint">{figure(picture.nodes.size)}</span></summary>
      <Form.Control size="sm" type="search" aria-label={say("Search in the drawing")} placeholder={say("Search in the drawing")} value={text} onChange={(e) => setText(e.target.value)} onKeyDown={(e) => {
        if (e.key === "Enter") onChoose(new Set(nodes.map((n) => n.id)));
      }} />
      <ul>
        {nodes.slice(0, SHOWN).map((node) => <NodeRow key={node.id} node={node} chosen={chosen.has(node.id)} onToggle={toggle} />)}
      </ul>
      {nodes.length > SHOWN && <p className="faint">{say("{{shown}} of {{nodes}} are listed; search to see others. Enter chooses all that are found.", { shown: SHOWN, nodes: figure(nodes.length) })}</p>}
    </details>
  );
}
