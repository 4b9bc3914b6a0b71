// A plan or profile: the tree with links as wide as their rows and bars of time, and a row a hop for
// every search.
import Table from "react-bootstrap/Table";
import { type PlanAnswer, type PlanTree, duration } from "./api";

function count(n: number): string {
  if (n < 10 && n % 1 !== 0) return n.toFixed(1);
  return Math.round(n).toLocaleString("en");
}

function rows(n: number): string {
  return `${count(n)} ${n === 1 ? "row" : "rows"}`;
}

function Operator({ tree, total }: { tree: PlanTree; total: number }) {
  const passed = tree.actual?.rows_out ?? tree.estimate.rows;
  const share = tree.actual ? tree.actual.own_us / Math.max(total, 1e-9) : 0;
  const off = tree.actual && Math.abs(tree.actual.estimate_factor) >= 10;
  return (
    <li>
      <div className="operator" style={{ borderLeftWidth: `${Math.min(14, 2 + Math.log10(Math.max(passed, 1)) * 2)}px` }}>
        <div className="operator-head">
          <strong>{tree.operator}</strong>
          <span className="operator-detail">{tree.details.filter(([k]) => k !== "because").map(([, v]) => v).join("  ")}</span>
        </div>
        <div className="operator-figures">
          {tree.actual ? (
            <>
              <span>{rows(tree.actual.rows_out)}</span>
              <span className={off ? "off" : "faint"} title={tree.estimate.source}>estimate {count(tree.estimate.rows)}</span>
              <span>{duration(tree.actual.own_us)}</span>
              {tree.actual.edges_looked > 0 && <span>{count(tree.actual.edges_looked)} edges</span>}
              {tree.actual.properties_read > 0 && <span>{count(tree.actual.properties_read)} properties</span>}
              <span className="bar" aria-label={`${Math.round(share * 100)} % of the time`}><span style={{ width: `${share * 100}%` }} /></span>
            </>
          ) : (
            <>
              <span>estimate {rows(tree.estimate.rows)}</span>
              <span>cost {count(tree.estimate.cost)}</span>
              <span className="faint">{tree.estimate.source}</span>
            </>
          )}
        </div>
        {[...(tree.rejected ?? []).map((r) => `Not taken: ${r}`), ...(tree.actual?.notes ?? [])].map((note) => <div key={note} className="faint note">{note}</div>)}
      </div>
      {tree.inputs.length > 0 && <ul>{tree.inputs.map((input, i) => <Operator key={i} tree={input} total={total} />)}</ul>}
    </li>
  );
}

function walk(tree: PlanTree): PlanTree[] {
  return [tree, ...tree.inputs.flatMap(walk)];
}

export function PlanView({ answer }: { answer: PlanAnswer }) {
  const all = walk(answer.plan);
  const total = all.reduce((sum, t) => sum + (t.actual?.own_us ?? 0), 0);
  const searches = all.filter((t) => (t.actual?.hops?.length ?? 0) > 0);
  return (
    <div className="plan">
      <p className="phases">
        {answer.rows !== undefined && <span>{rows(answer.rows)}</span>}
        <span>parse {duration(answer.parse_us)}</span>
        <span>check {duration(answer.check_us)}</span>
        <span>plan {duration(answer.plan_us)}</span>
        {answer.execute_us !== undefined && <span>execute {duration(answer.execute_us)}</span>}
      </p>
      <ul className="plan-tree"><Operator tree={answer.plan} total={total} /></ul>
      {searches.map((search, i) => (
        <section key={i}>
          <h3>Hops of {search.operator}</h3>
          <Table size="sm" className="result hops">
            <thead><tr>{["hop", "side", "frontier", "edges looked at", "failed", "reached", "known", "largest degree", "time"].map((h) => <th key={h}>{h}</th>)}</tr></thead>
            <tbody>
              {(search.actual?.hops ?? []).map((hop, h) => (
                <tr key={h}>
                  <td className="number">{hop.hop}</td><td>{hop.side}</td><td className="number">{count(hop.frontier)}</td>
                  <td className="number">{count(hop.edges_looked)}</td><td className="number">{count(hop.failed)}</td>
                  <td className="number">{count(hop.reached)}</td><td className="number">{count(hop.known)}</td>
                  <td className="number">{count(hop.largest_degree)}</td><td className="number">{duration(hop.time_us)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      ))}
    </div>
  );
}
