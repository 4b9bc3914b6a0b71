// What a plan or a profile gives reason to change, with what to do; a statement can be tried before it is run.
import { useState } from "react";
import Button from "react-bootstrap/Button";
import { type PlanAnswer, type PlanFinding, duration, post } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { ProblemBox } from "../shared/Problems";
import { bring } from "../query/sheets";
import type { Asked } from "./PlanView";
import { count, work } from "./figures";
import { say } from "../shared/words";

/** The query as it is and as it would be: nothing is changed by it. */
function Try({ statement, asked }: { statement: string; asked: Asked }) {
  const [tried, setTried] = useState<{ before: PlanAnswer; after: PlanAnswer } | null>(null);
  const { attempt, problem, busy, setProblem } = useAttempt();
  const run = () => attempt("trying", async () => {
    const before = await post<PlanAnswer>("/v1/profile", asked);
    setTried({ before, after: await post<PlanAnswer>("/v1/profile", { ...asked, with: [statement] }) });
  });
  const figures = tried && ([
    ["rows", tried.before.rows ?? 0, tried.after.rows ?? 0, count],
    ["edges looked at", work(tried.before.plan, "edges_looked"), work(tried.after.plan, "edges_looked"), count],
    ["properties read", work(tried.before.plan, "properties_read"), work(tried.after.plan, "properties_read"), count],
    ["time", tried.before.execute_us ?? 0, tried.after.execute_us ?? 0, duration],
  ] as [string, number, number, (n: number) => string][]);
  return (
    <>
      <Button size="sm" variant="outline-secondary" disabled={busy !== null} onClick={() => void run()}>{busy === null ? say("Try it") : say("Trying…")}</Button>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      {figures && (
        <table className="result tried" aria-label={say("With {{statement}}", { statement })}>
          <thead><tr><th scope="col" /><th scope="col">{say("as it is")}</th><th scope="col">{say("with it")}</th></tr></thead>
          <tbody>{figures.map(([what, before, after, shown]) => <tr key={what}><th scope="row">{say(what)}</th><td className="number">{shown(before)}</td><td className="number">{shown(after)}</td></tr>)}</tbody>
        </table>
      )}
    </>
  );
}

export function PlanFindings({ findings, asked }: { findings: PlanFinding[]; asked?: Asked | undefined }) {
  if (findings.length === 0) return null;
  return (
    <section className="plan-findings" aria-label={say("Findings")}>
      <h3>{say("What to change")}</h3>
      <ul>
        {findings.map((f) => (
          <li key={`${f.rule} ${f.message}`}>
            <strong>{f.message}</strong> <span className="faint">{f.operator}, {f.rule}</span>
            <div>{f.advice}</div>
            {f.statement !== undefined && (
              <div className="tools">
                <code>{f.statement}</code>
                {asked && <Try statement={f.statement} asked={asked} />}
                <Button size="sm" variant="outline-secondary" onClick={() => bring(f.statement ?? "")}>{say("Open in a sheet")}</Button>
              </div>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
