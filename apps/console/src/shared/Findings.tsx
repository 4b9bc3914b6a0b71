// What a look at a graph found: how often, such as, and the query that finds all of it.
import { Link } from "react-router-dom";
import type { ModelFinding } from "./api";
import { figure, say } from "./words";

export function Findings({ title, findings, graph }: { title: string; findings: ModelFinding[]; graph: string }) {
  if (findings.length === 0) return null;
  return (
    <>
      <h3>{title}</h3>
      <ul className="findings">
        {findings.map((f, i) => (
          <li key={i}>
            <strong>{figure(f.count)} ×</strong> {f.message}
            {f.examples.length > 0 && <div className="faint">{say("such as {{examples}}", { examples: f.examples.join(", ") })}</div>}
            {f.query !== null && <div><Link to={`/?graph=${encodeURIComponent(graph)}&text=${encodeURIComponent(f.query)}`}>{say("find them all")}</Link></div>}
          </li>
        ))}
      </ul>
    </>
  );
}
