// A plan or profile: where the time went, the tree, and the hops of every search.
import { useState } from "react";
import Button from "react-bootstrap/Button";
import { Link } from "react-router-dom";
import { Trans } from "react-i18next";
import { type Json, type PlanAnswer, duration, post } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { ProblemBox } from "../shared/Problems";
import { PlanFindings } from "./PlanFindings";
import { HopChart } from "./HopChart";
import { PlanTreeView } from "./PlanTreeView";
import { rows, walk } from "./figures";
import { figure, say } from "../shared/words";

/** What was asked, to ask it again with something more. */
export interface Asked {
  graph: string | null;
  text: string;
  parameters: { [name: string]: Json };
}

/** Runs it once more and keeps that profile. */
function Keep({ asked }: { asked: Asked }) {
  const [name, setName] = useState("");
  const [kept, setKept] = useState<number | null>(null);
  const { attempt, problem, busy, setProblem } = useAttempt();
  const keep = () => attempt("keeping", async () => {
    const answer = await post<PlanAnswer>("/v1/profile", { ...asked, keep: name.trim() === "" ? {} : { name: name.trim() } });
    setKept(answer.run ?? null);
  });
  return (
    <form className="tools keep-run" onSubmit={(e) => { e.preventDefault(); void keep(); }}>
      <input className="form-control form-control-sm" aria-label={say("Name of the run")} placeholder={say("name, if you like")} value={name} onChange={(e) => setName(e.target.value)} />
      <Button size="sm" type="submit" variant="outline-secondary" disabled={busy !== null}>{say("Run again and keep")}</Button>
      {kept !== null && <span role="status"><Trans i18nKey="Kept as <open>run {{id}}</open>." values={{ id: kept }} components={{ open: <Link to={`/runs?run=${kept}`} /> }} /></span>}
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
    </form>
  );
}

export function PlanView({ answer, asked }: { answer: PlanAnswer; asked?: Asked }) {
  const all = walk(answer.plan);
  const own = (t: (typeof all)[number]) => t.actual?.own_us ?? 0;
  const total = all.reduce((sum, t) => sum + own(t), 0);
  const slowest = all.reduce((a, b) => (own(b) > own(a) ? b : a));
  const off = all.filter((t) => t.actual && Math.abs(t.actual.estimate_factor) >= 10);
  const searches = all.filter((t) => (t.actual?.hops?.length ?? 0) > 0);
  return (
    <div className="plan">
      <p className="phases">
        {answer.rows !== undefined && <span>{rows(answer.rows)}</span>}
        <span>{say("parse {{time}}", { time: duration(answer.parse_us) })}</span><span>{say("check {{time}}", { time: duration(answer.check_us) })}</span><span>{say("plan {{time}}", { time: duration(answer.plan_us) })}</span>
        {answer.execute_us !== undefined && <span>{say("execute {{time}}", { time: duration(answer.execute_us) })}</span>}
      </p>
      {answer.execute_us !== undefined && total > 0 && (
        <p className="verdict">
          <Trans i18nKey="<operator>{{name}}</operator> took {{share}} % of the time." values={{ name: slowest.operator, share: Math.round((own(slowest) / total) * 100) }} components={{ operator: <strong /> }} />
          {slowest.actual && slowest.actual.edges_looked > 0 && ` ${say("It looked at {{edges}} edges.", { edges: figure(slowest.actual.edges_looked) })}`}
          {off.length > 0 && ` ${say("The estimate of {{operators}} is off by ten times and more.", { operators: [...new Set(off.map((t) => t.operator))].join(", ") })}`}
        </p>
      )}
      {answer.rolled_back === true && <p className="faint">{say("The query changes the graph: it was run to its end, and nothing of it was kept.")}</p>}
      {answer.error && <p className="text-danger">{say("It did not come to its end: {{message}}. This is what was done until then.", { message: answer.error.message })}</p>}
      {answer.execute_us !== undefined && asked && <Keep asked={asked} />}
      <PlanFindings findings={answer.findings ?? []} asked={answer.execute_us !== undefined ? asked : undefined} />
      <PlanTreeView plan={answer.plan} total={total} first={answer.execute_us !== undefined ? slowest : answer.plan} />
      {searches.map((search, i) => <HopChart key={i} hops={search.actual?.hops ?? []} name={search.operator} />)}
    </div>
  );
}
