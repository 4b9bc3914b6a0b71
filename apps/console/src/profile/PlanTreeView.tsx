// The tree of operators: links as wide as their rows, bars as long as their time; details where one looks.
import { type CSSProperties, useState } from "react";
import { type PlanTree, duration } from "../shared/api";
import { FlameView } from "./FlameView";
import { count, rows } from "./figures";
import { say } from "../shared/words";

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
    <li style={{ "--flow": `${flow(passed)}px`, "--beside": `${beside}px` } as CSSProperties} title={tree.actual ? rows(passed) : say("{{rows}}, as estimated", { rows: rows(passed) })}>
      <button type="button" className={tree === chosen ? "operator is-chosen" : "operator"} aria-pressed={tree === chosen} onClick={() => onChoose(tree)}>
        <span className="operator-head">
          <strong>{tree.operator}</strong>
          <span className="operator-detail">{tree.details.filter(([k]) => k !== "because").map(([, v]) => v).join("  ")}</span>
        </span>
        <span className="operator-figures">
          {tree.actual ? (
            <>
              <span>{rows(tree.actual.rows_out)}</span>
              <span className={off ? "off" : "faint"}>{say("estimate {{rows}}", { rows: count(tree.estimate.rows) })}</span>
              <span>{duration(tree.actual.own_us)}</span>
              {tree.actual.edges_looked > 0 && <span>{say("{{edges}} edges", { edges: count(tree.actual.edges_looked) })}</span>}
              <span className="bar" role="img" aria-label={say("{{share}} % of the time", { share: Math.round(share * 100) })}><span style={{ width: `${share * 100}%` }} /></span>
            </>
          ) : <><span>{say("estimate {{rows}}", { rows: rows(tree.estimate.rows) })}</span><span>{say("cost {{cost}}", { cost: count(tree.estimate.cost) })}</span></>}
        </span>
      </button>
      {tree.inputs.length > 0 && <ul>{tree.inputs.map((input, i) => <Operator key={i} tree={input} total={total} chosen={chosen} beside={Math.max(0, ...tree.inputs.slice(i + 1).map((next) => flow(passes(next))))} onChoose={onChoose} />)}</ul>}
    </li>
  );
}

function Details({ tree }: { tree: PlanTree }) {
  const figures: [string, string][] = [
    ...tree.details,
    [say("estimate"), `${rows(tree.estimate.rows)}, ${say("cost {{cost}}", { cost: count(tree.estimate.cost) })}; ${tree.estimate.basis}: ${tree.estimate.source}`],
    ...(tree.actual ? [
      [say("rows"), say("{{in}} in, {{out}} out, in {{batches}} batches", { in: count(tree.actual.rows_in), out: count(tree.actual.rows_out), batches: count(tree.actual.batches) })] as [string, string],
      [say("time"), say("{{own}} of its own, {{all}} with what is below", { own: duration(tree.actual.own_us), all: duration(tree.actual.total_us) })] as [string, string],
      [say("work"), say("{{edges}} edges looked at, {{properties}} properties read, {{lookups}} lookups", { edges: count(tree.actual.edges_looked), properties: count(tree.actual.properties_read), lookups: count(tree.actual.index_probes) })] as [string, string],
      [say("memory"), say("{{kib}} KiB at most", { kib: count(tree.actual.peak_bytes / 1024) })] as [string, string],
      ...(tree.actual.notes ?? []).map((n) => [say("note"), n] as [string, string]),
    ] : []),
  ];
  return (
    <aside className="operator-details" aria-label={say("Details of {{operator}}", { operator: tree.operator })}>
      <h3>{tree.operator}</h3>
      <dl className="properties-list">{figures.map(([k, v], i) => <div key={i}><dt>{k}</dt><dd>{v}</dd></div>)}</dl>
      {(tree.alternatives ?? []).length > 0 && (
        <>
          <h3>{say("Why this way")}</h3>
          <ul className="alternatives">
            {tree.alternatives?.map((a) => <li key={a.method}>{a.chosen ? <strong>{a.method}</strong> : <>{say("not {{method}}", { method: a.method })}</>}{a.cost !== undefined && <span className="faint"> {say("cost {{cost}}", { cost: count(a.cost) })}</span>}<div>{a.reason}</div></li>)}
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
          <summary>{say("Time as bars")}</summary>
          <FlameView plan={plan} chosen={chosen} onChoose={choose} />
          <p className="faint">{say("Each operator is as wide as the time that it and what is below it took; under a search are its hops. Choose one for its details.")}</p>
        </details>
      )}
      <div className="plan-frame">
        <ul className="plan-tree"><Operator tree={plan} total={total} chosen={chosen} beside={0} onChoose={choose} /></ul>
        <Details tree={chosen} />
      </div>
    </>
  );
}
