// The tree of operators: links as wide as their rows, bars as long as their time; details where one looks.
import { type CSSProperties, useState } from "react";
import { type PlanTree, duration } from "../shared/api";
import { FlameView } from "./FlameView";
import { count, rows } from "./figures";

const passes = (tree: PlanTree) => tree.actual?.rows_out ?? tree.estimate.rows;

/** How wide the link is along which so many rows pass: by the powers of ten. */
export function flow(rows: number): number {
  return Math.min(18, 1 + Math.log10(Math.max(rows, 1)) * 2.4);
}

/** `beside` is how wide the link is that goes on to the operator's next sibling; 0 where there is none. */
function Operator({ tree, total, onChoose, chosen, beside }: { tree: PlanTree; total: number; chosen: PlanTree | null; beside: number; onChoose: (tree: PlanTree) => void }) {
  const passed = passes(tree);
  const share = tree.actual ? tree.actual.own_us / Math.max(total, 1e-9) : 0;
  const off = tree.actual && Math.abs(tree.actual.estimate_factor) >= 10;
  return (
    <li style={{ "--flow": `${flow(passed)}px`, "--beside": `${beside}px` } as CSSProperties} title={`${rows(passed)}${tree.actual ? "" : ", as estimated"}`}>
      <button type="button" className={tree === chosen ? "operator is-chosen" : "operator"} aria-pressed={tree === chosen} onClick={() => onChoose(tree)}>
        <span className="operator-head">
          <strong>{tree.operator}</strong>
          <span className="operator-detail">{tree.details.filter(([k]) => k !== "because").map(([, v]) => v).join("  ")}</span>
        </span>
        <span className="operator-figures">
          {tree.actual ? (
            <>
              <span>{rows(tree.actual.rows_out)}</span>
              <span className={off ? "off" : "faint"}>estimate {count(tree.estimate.rows)}</span>
              <span>{duration(tree.actual.own_us)}</span>
              {tree.actual.edges_looked > 0 && <span>{count(tree.actual.edges_looked)} edges</span>}
              <span className="bar" role="img" aria-label={`${Math.round(share * 100)} % of the time`}><span style={{ width: `${share * 100}%` }} /></span>
            </>
          ) : <><span>estimate {rows(tree.estimate.rows)}</span><span>cost {count(tree.estimate.cost)}</span></>}
        </span>
      </button>
      {tree.inputs.length > 0 && <ul>{tree.inputs.map((input, i) => <Operator key={i} tree={input} total={total} chosen={chosen} beside={Math.max(0, ...tree.inputs.slice(i + 1).map((next) => flow(passes(next))))} onChoose={onChoose} />)}</ul>}
    </li>
  );
}

function Details({ tree }: { tree: PlanTree }) {
  const figures: [string, string][] = [
    ...tree.details,
    ["estimate", `${rows(tree.estimate.rows)}, cost ${count(tree.estimate.cost)}; ${tree.estimate.basis}: ${tree.estimate.source}`],
    ...(tree.actual ? [
      ["rows", `${count(tree.actual.rows_in)} in, ${count(tree.actual.rows_out)} out, in ${count(tree.actual.batches)} batches`] as [string, string],
      ["time", `${duration(tree.actual.own_us)} of its own, ${duration(tree.actual.total_us)} with what is below`] as [string, string],
      ["work", `${count(tree.actual.edges_looked)} edges looked at, ${count(tree.actual.properties_read)} properties read, ${count(tree.actual.index_probes)} lookups`] as [string, string],
      ["memory", `${count(tree.actual.peak_bytes / 1024)} KiB at most`] as [string, string],
      ...(tree.actual.notes ?? []).map((n) => ["note", n] as [string, string]),
    ] : []),
  ];
  return (
    <aside className="operator-details" aria-label={`Details of ${tree.operator}`}>
      <h3>{tree.operator}</h3>
      <dl className="properties-list">{figures.map(([k, v], i) => <div key={i}><dt>{k}</dt><dd>{v}</dd></div>)}</dl>
      {(tree.alternatives ?? []).length > 0 && (
        <>
          <h3>Why this way</h3>
          <ul className="alternatives">
            {tree.alternatives?.map((a) => <li key={a.method}>{a.chosen ? <strong>{a.method}</strong> : <>not {a.method}</>}{a.cost !== undefined && <span className="faint"> cost {count(a.cost)}</span>}<div>{a.reason}</div></li>)}
          </ul>
        </>
      )}
    </aside>
  );
}

export function PlanTreeView({ plan, total, first }: { plan: PlanTree; total: number; first: PlanTree }) {
  const [chosen, choose] = useState<PlanTree>(first);
  return (
    <>
      {total > 0 && (
        <details className="flame-frame">
          <summary>Time as bars</summary>
          <FlameView plan={plan} chosen={chosen} onChoose={choose} />
          <p className="faint">Each operator is as wide as the time that it and what is below it took; under a search are its hops. Choose one for its details.</p>
        </details>
      )}
      <div className="plan-frame">
        <ul className="plan-tree"><Operator tree={plan} total={total} chosen={chosen} beside={0} onChoose={choose} /></ul>
        <Details tree={chosen} />
      </div>
    </>
  );
}
