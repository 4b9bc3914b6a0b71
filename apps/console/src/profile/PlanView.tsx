// A plan or profile: where the time went, the tree, and the hops of every search.
import { type PlanAnswer, duration } from "../shared/api";
import { PlanFindings } from "./PlanFindings";
import { HopChart } from "./HopChart";
import { PlanTreeView } from "./PlanTreeView";
import { rows, walk } from "./figures";

export function PlanView({ answer }: { answer: PlanAnswer }) {
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
          {off.length > 0 && <> The estimate of {off.map((t) => t.operator).join(", ")} is off by ten times and more.</>}
        </p>
      )}
      {answer.rolled_back === true && <p className="faint">The query changes the graph: it was run to its end, and nothing of it was kept.</p>}
      <PlanFindings findings={answer.findings ?? []} />
      <PlanTreeView plan={answer.plan} total={total} first={answer.execute_us !== undefined ? slowest : answer.plan} />
      {searches.map((search, i) => <HopChart key={i} hops={search.actual?.hops ?? []} name={search.operator} />)}
    </div>
  );
}
