// What a plan or a profile gives reason to change, with what to do; a statement can be tried in a sheet of its own.
import Button from "react-bootstrap/Button";
import type { PlanFinding } from "../shared/api";
import { bring } from "../query/sheets";

export function PlanFindings({ findings }: { findings: PlanFinding[] }) {
  if (findings.length === 0) return null;
  return (
    <section className="plan-findings" aria-label="Findings">
      <h3>Findings</h3>
      <ul>
        {findings.map((f) => (
          <li key={`${f.rule} ${f.message}`}>
            <strong>{f.message}</strong> <span className="faint">{f.operator}, {f.rule}</span>
            <div>{f.advice}</div>
            {f.statement !== undefined && <div className="tools"><code>{f.statement}</code><Button size="sm" variant="outline-secondary" onClick={() => bring(f.statement ?? "")}>Open in a sheet</Button></div>}
          </li>
        ))}
      </ul>
    </section>
  );
}
