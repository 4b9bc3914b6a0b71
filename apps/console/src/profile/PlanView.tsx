// A plan or profile: where the time went, the tree, and the hops of every search.
import { useState } from "react";
import Button from "react-bootstrap/Button";
import { Link } from "react-router-dom";
import { type Json, type PlanAnswer, duration, post } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { ProblemBox } from "../shared/Problems";
import { PlanFindings } from "./PlanFindings";
import { HopChart } from "./HopChart";
import { PlanTreeView } from "./PlanTreeView";
import { rows, walk } from "./figures";

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
      <input className="form-control form-control-sm" aria-label="Name of the run" placeholder="name, if you like" value={name} onChange={(e) => setName(e.target.value)} />
      <Button size="sm" type="submit" variant="outline-secondary" disabled={busy !== null}>Run again and keep</Button>
      {kept !== null && <span role="status">Kept as <Link to={`/runs?run=${kept}`}>run {kept}</Link>.</span>}
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
        <span>parse {duration(answer.parse_us)}</span><span>check {duration(answer.check_us)}</span><span>plan {duration(answer.plan_us)}</span>
        {answer.execute_us !== undefined && <span>execute {duration(answer.execute_us)}</span>}
      </p>
      {answer.execute_us !== undefined && total > 0 && (
        <p className="verdict">
          <strong>{slowest.operator}</strong> took {Math.round((own(slowest) / total) * 100)} % of the time
          {slowest.actual && slowest.actual.edges_looked > 0 && <>, looking at {slowest.actual.edges_looked.toLocaleString("en")} edges</>}.
          {off.length > 0 && <> The estimate of {[...new Set(off.map((t) => t.operator))].join(", ")} is off by ten times and more.</>}
        </p>
      )}
      {answer.rolled_back === true && <p className="faint">The query changes the graph: it was run to its end, and nothing of it was kept.</p>}
      {answer.error && <p className="text-danger">It did not come to its end: {answer.error.message}. This is what was done until then.</p>}
      {answer.execute_us !== undefined && asked && <Keep asked={asked} />}
      <PlanFindings findings={answer.findings ?? []} asked={answer.execute_us !== undefined ? asked : undefined} />
      <PlanTreeView plan={answer.plan} total={total} first={answer.execute_us !== undefined ? slowest : answer.plan} />
      {searches.map((search, i) => <HopChart key={i} hops={search.actual?.hops ?? []} name={search.operator} />)}
    </div>
  );
}
