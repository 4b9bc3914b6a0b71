// Two kept profiles side by side: plan, work and time told apart, operators in the place of each other.
import { useQuery } from "@tanstack/react-query";
import { type ComparisonAnswer, type Figures, Problem, duration, get } from "../shared/api";
import { ProblemBox } from "../shared/Problems";
import { count } from "../profile/figures";
import { figure, say } from "../shared/words";

const SIGNS = { same: "", changed: "changed", removed: "only before", added: "only after" } as const;

function times(before: number, after: number): string {
  if (before === after) return say("the same");
  if (before <= 0 || after <= 0) return "";
  const factor = after > before ? after / before : before / after;
  return after > before ? say("{{factor}} times more", { factor: factor < 10 ? figure(factor, 1) : count(factor) }) : say("{{factor}} times less", { factor: factor < 10 ? figure(factor, 1) : count(factor) });
}

function Pair({ before, after }: { before: string | undefined; after: string | undefined }) {
  if (before === after) return <>{after}</>;
  return <>{before ?? "–"} <span className="faint">→</span> {after ?? "–"}</>;
}

export function CompareView({ before, after }: { before: number; after: number }) {
  const found = useQuery({ queryKey: ["compare", before, after], queryFn: () => get<ComparisonAnswer>(`/v1/runs/${before}/compare/${after}`) });
  if (found.error instanceof Problem) return <ProblemBox problem={found.error} />;
  if (!found.data) return <p className="empty" role="status">{say("Comparing…")}</p>;
  const { comparison, same_text, same_version } = found.data;
  const [one, other] = comparison.work;
  const totals: [string, number, number, (n: number) => string][] = [
    ["rows", one.rows_out, other.rows_out, count], ["edges looked at", one.edges_looked, other.edges_looked, count],
    ["properties read", one.properties_read, other.properties_read, count], ["index probes", one.index_probes, other.index_probes, count],
    ["time", comparison.own_us[0], comparison.own_us[1], duration],
  ];
  const of = (figures: Figures | undefined, read: (f: Figures) => string | undefined) => (figures ? read(figures) : undefined);
  return (
    <section aria-label={say("Comparison")} className="comparison">
      <h2>{say("Run {{before}} and run {{after}}", { before, after })}</h2>
      <p className="status" role="status">
        {comparison.same_plan ? say("The plan is the same.") : say("The plan is another.")} {comparison.same_work ? say("Every operator did the same work.") : say("The work differs.")} {say("Work is exact; times differ from run to run.")}
        {!same_text && ` ${say("The texts differ.")}`}{!same_version && ` ${say("They ran on different versions, so that rows and work may differ for that alone.")}`}
      </p>
      <table className="result totals">
        <thead><tr><th scope="col" /><th scope="col">{say("run {{id}}", { id: before })}</th><th scope="col">{say("run {{id}}", { id: after })}</th><th scope="col" /></tr></thead>
        <tbody>{totals.map(([what, a, b, shown]) => <tr key={what}><th scope="row">{say(what)}</th><td className="number">{shown(a)}</td><td className="number">{shown(b)}</td><td>{times(a, b)}</td></tr>)}</tbody>
      </table>
      <div className="scrolls" tabIndex={0} role="region" aria-label={say("Operators side by side")}>
        <table className="result">
          <thead><tr>{["", "operator", "on", "rows", "edges looked at", "properties read", "time"].map((h, i) => <th key={i} scope="col">{h === "" ? "" : say(h)}</th>)}</tr></thead>
          <tbody>
            {comparison.operators.map((o, i) => (
              <tr key={i} className={`is-${o.change}`}>
                <td>{o.change === "same" ? "" : say(SIGNS[o.change])}</td>
                <td style={{ paddingLeft: `${0.5 + o.depth * 0.6}rem` }}>{o.operator}</td>
                <td className="run-on">{o.on}{o.instead_of !== undefined && <div className="faint">{say("instead of {{operator}}", { operator: o.instead_of })}</div>}</td>
                <td className="number"><Pair before={of(o.before, (f) => f.work && count(f.work.rows_out))} after={of(o.after, (f) => f.work && count(f.work.rows_out))} /></td>
                <td className="number"><Pair before={of(o.before, (f) => f.work && count(f.work.edges_looked))} after={of(o.after, (f) => f.work && count(f.work.edges_looked))} /></td>
                <td className="number"><Pair before={of(o.before, (f) => f.work && count(f.work.properties_read))} after={of(o.after, (f) => f.work && count(f.work.properties_read))} /></td>
                <td className="number"><Pair before={of(o.before, (f) => duration(f.own_us))} after={of(o.after, (f) => duration(f.own_us))} /></td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
