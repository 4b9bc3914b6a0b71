// The steps so far: each can be gone back to, and each that was a query shows it.
import { Link } from "react-router-dom";
import type { Exploration } from "./useExploration";
import { figure, say } from "../shared/words";

export function StepsPanel({ exploration, graph }: { exploration: Exploration; graph: string }) {
  if (exploration.steps.length < 2) return null;
  return (
    <section className="side-part" aria-label={say("Steps")}>
      <h3>{say("Steps")}</h3>
      <ol className="steps">
        {exploration.steps.map((step, i) => (i === 0 ? null : (
          <li key={i} className={i > exploration.at ? "is-off" : ""} aria-current={i === exploration.at ? "step" : undefined}>
            <button type="button" className="link" onClick={() => exploration.goTo(i)}>{step.what}</button>
            <span className="count">{figure(step.picture.nodes.size)}</span>
            {step.query !== null && <Link to={`/?graph=${encodeURIComponent(graph)}&text=${encodeURIComponent(step.query)}`}>{say("query")}</Link>}
          </li>
        )))}
      </ol>
    </section>
  );
}
