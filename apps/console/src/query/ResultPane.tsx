// What came of a run: how it went, and its rows as table, drawing, chart and JSON, or its plan. It says which graph and
// which text it is of, and whether that has moved on.
import { Suspense, lazy, useEffect, useState } from "react";
import Dropdown from "react-bootstrap/Dropdown";
import { useNavigate } from "react-router-dom";
import { duration } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { writeExact } from "../shared/json";
import { ProblemBox, Warnings } from "../shared/Problems";
import { Tabs } from "../shared/Tabs";
import { handOver } from "../explore/handOver";
import { PlanView } from "../profile/PlanView";
import { parameterValues } from "./parameters";
import { FORMATS, SAVED_AGAIN, saveAgain, saveShown } from "./download";
import { IntoNotebook } from "./IntoNotebook";
import { ResultTable } from "./ResultTable";
import { MAX_ROWS, type Run, type Sheet } from "./sheets";
import { figure, say, timeOfDay } from "../shared/words";

const Drawing = lazy(() => import("./Drawing"));
const Chart = lazy(() => import("./Chart"));

type View = "table" | "drawing" | "chart" | "json" | "plan";

function Clock({ since }: { since: number }) {
  const [now, setNow] = useState(since);
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 100);
    return () => clearInterval(timer);
  }, []);
  return <>{`${figure(Math.max(0, now - since) / 1000, 1)} s`}</>;
}

/** By what the service counts. */
const CHANGES: Record<string, string> = {
  nodes_inserted: "{{n}} nodes inserted", edges_inserted: "{{n}} edges inserted", nodes_deleted: "{{n}} nodes deleted", edges_deleted: "{{n}} edges deleted",
  properties_set: "{{n}} properties set", labels_changed: "{{n}} labels changed",
};

function changes(run: Run): string[] {
  return Object.entries(run.result?.summary.changed ?? {}).filter(([, n]) => n > 0).map(([what, n]) => {
    const text = CHANGES[what];
    return text === undefined ? `${figure(n)} ${what}` : say(text, { count: n });
  });
}

function account(run: Run): string {
  if (run.cancelled) return say("Cancelled.");
  if (run.problem) return say("It failed.");
  const { result, plan } = run;
  if (plan) return plan.execute_us === undefined ? say("planned, not run") : say("profiled: {{rows}}", { rows: say("{{n}} rows", { count: plan.rows ?? 0 }) });
  if (!result) return "";
  const version = result.summary.graph === undefined ? "" : `${result.summary.graph}, ${say("version {{version}}", { version: result.summary.version ?? 0 })}`;
  const truncated = result.summary.truncated ? ` (${say("the first {{rows}}; there are more", { rows: figure(MAX_ROWS) })})` : "";
  return [say("{{n}} rows", { count: result.summary.rows }) + truncated, duration(result.summary.execute_us), ...changes(run), version, timeOfDay(run.at)].filter(Boolean).join(", ");
}

export function ResultPane({ sheet, graph }: { sheet: Sheet; graph: string | null }) {
  const { run } = sheet;
  const [view, setView] = useState<View>("table");
  const { problem: saving, setProblem, attempt } = useAttempt();
  const navigate = useNavigate();
  if (!run) return null;
  const { result, plan, problem } = run;
  const shown: View = plan ? "plan" : view === "plan" ? "table" : view;
  const moved = run.graph !== graph ? (run.graph === null ? say("This is of the graph that was chosen before.") : say("This is of the graph {{graph}}.", { graph: run.graph })) : run.text.trim() !== sheet.text.trim() && !sheet.text.includes(run.text.trim()) ? say("The text has changed since.") : null;
  const views: [View, string][] = plan ? [["plan", plan.execute_us === undefined ? say("Plan") : say("Profile")]] : [["table", say("Table")], ["drawing", say("Drawing")], ["chart", say("Chart")], ["json", "JSON"]];
  const changed = changes(run).length > 0;
  return (
    <section className="result-pane" aria-label={say("Result")}>
      <p className="status" role="status">{run.abort ? <Clock since={run.at} /> : account(run)}{!run.abort && moved && <strong className="moved"> {moved}</strong>}</p>
      {problem && <ProblemBox problem={problem} />}
      {saving && <ProblemBox problem={saving} onClose={() => setProblem(null)} />}
      {!run.abort && <Warnings marks={result?.warnings ?? plan?.warnings ?? []} />}
      {(result || plan) && (
        <>
          <div className="views">
            <Tabs name={say("Views of the result")} tabs={views} open={shown} onOpen={setView} />
            {result && result.columns.length > 0 && (
              <div className="tools">
                {run.graph !== null && (shown === "drawing" || shown === "table") && <button type="button" className="btn btn-sm btn-outline-secondary" id="explore-result" onClick={() => {
                  handOver({ graph: run.graph ?? "", text: run.text, rows: result.rows });
                  void navigate(`/explore?graph=${encodeURIComponent(run.graph ?? "")}`);
                }}>{say("Explore this")}</button>}
                {run.graph !== null && <IntoNotebook run={run} view={shown} attempt={attempt} />}
                <Dropdown align="end">
                  <Dropdown.Toggle size="sm" variant="outline-secondary">{say("Download")}</Dropdown.Toggle>
                  <Dropdown.Menu>
                    <Dropdown.Header>{say("These {{n}} rows", { count: result.rows.length })}</Dropdown.Header>
                    {FORMATS.map((f) => <Dropdown.Item key={f} onClick={() => saveShown(result, f)}>{f}</Dropdown.Item>)}
                    {!changed && <Dropdown.Header>{say("All rows, asked again")}</Dropdown.Header>}
                    {!changed && SAVED_AGAIN.map(([f, type, suffix]) => <Dropdown.Item key={f} onClick={() => void attempt("download", () => saveAgain(run, type, suffix))}>{f}</Dropdown.Item>)}
                  </Dropdown.Menu>
                </Dropdown>
              </div>
            )}
          </div>
          <div className="view" role="tabpanel" aria-label={shown}>
            {shown === "table" && result && <ResultTable result={result} />}
            {shown === "drawing" && result && <Suspense fallback={<p className="empty">{say("Drawing…")}</p>}><Drawing result={result} /></Suspense>}
            {shown === "chart" && result && <Suspense fallback={<p className="empty">{say("Drawing…")}</p>}><Chart result={result} /></Suspense>}
            {shown === "json" && result && <pre className="json" tabIndex={0}>{writeExact(result.rows.slice(0, 200), 2)}{result.rows.length > 200 ? `\n… ${say("{{rows}} rows more; a download has them", { rows: figure(result.rows.length - 200) })}` : ""}</pre>}
            {shown === "plan" && plan && <PlanView answer={plan} asked={{ graph: run.graph, text: run.text, parameters: parameterValues(run.text, run.parameters) }} />}
          </div>
        </>
      )}
    </section>
  );
}
