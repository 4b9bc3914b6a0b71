// The Query page: editor, run and cancel, the result as table, drawing and JSON, plan and profile.
import { useQuery } from "@tanstack/react-query";
import { Suspense, lazy, useEffect, useRef, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Button from "react-bootstrap/Button";
import Dropdown from "react-bootstrap/Dropdown";
import Nav from "react-bootstrap/Nav";
import { useSearchParams } from "react-router-dom";
import { type Names, type PlanAnswer, Problem, type QueryError, type QueryResult, download, duration, get, post } from "./api";
import { Editor } from "./Editor";
import { PlanView } from "./PlanView";
import { ResultTable } from "./ResultTable";

const Drawing = lazy(() => import("./Drawing"));

const MAX_ROWS = 10_000;
const FORMATS: [string, string, string][] = [
  ["CSV", "text/csv", "csv"],
  ["JSON", "application/json", "json"],
  ["NDJSON", "application/x-ndjson", "ndjson"],
  ["Arrow", "application/vnd.apache.arrow.stream", "arrows"],
];

type Kind = "query" | "plan" | "profile";
type View = "table" | "drawing" | "json" | "plan";

export function QueryPage({ graph }: { graph: string | null }) {
  // A link may bring a query.
  const [asked] = useSearchParams();
  const [text, setText] = useState(() => asked.get("text") ?? localStorage.getItem("query") ?? "");
  const [running, setRunning] = useState<{ kind: Kind; since: number; abort: AbortController } | null>(null);
  const [clock, setClock] = useState(0);
  const [result, setResult] = useState<QueryResult | null>(null);
  const [plan, setPlan] = useState<PlanAnswer | null>(null);
  const [view, setView] = useState<View>("table");
  const [problem, setProblem] = useState<Problem | null>(null);
  const [marks, setMarks] = useState<QueryError[]>([]);
  const ran = useRef("");
  const names = useQuery({ queryKey: ["names", graph], queryFn: () => get<Names>(`/v1/graphs/${graph}/names`), enabled: graph !== null });

  useEffect(() => {
    localStorage.setItem("query", text);
  }, [text]);
  useEffect(() => {
    if (!running) return;
    const timer = setInterval(() => setClock(performance.now() - running.since), 100);
    return () => clearInterval(timer);
  }, [running]);

  const run = async (kind: Kind, query: string) => {
    if (running || query.trim() === "") return;
    const abort = new AbortController();
    setRunning({ kind, since: performance.now(), abort });
    setClock(0);
    setProblem(null);
    setMarks([]);
    ran.current = query;
    try {
      const body = { text: query, graph, max_rows: MAX_ROWS, truncate: true };
      if (kind === "query") {
        const answer = await post<QueryResult>("/v1/query", body, abort.signal);
        setResult(answer);
        setPlan(null);
        setMarks(answer.warnings);
        setView((v) => (v === "plan" ? "table" : v));
      } else {
        const answer = await post<PlanAnswer>(`/v1/${kind}`, body, abort.signal);
        setPlan(answer);
        setMarks(answer.warnings);
        setView("plan");
      }
    } catch (error) {
      if (error instanceof Problem) {
        setProblem(error);
        setMarks(query === text ? error.errors : []);
      } else if (!(error instanceof DOMException)) {
        throw error;
      }
    } finally {
      setRunning(null);
    }
  };

  const save = async (mediaType: string, suffix: string) => {
    if (!graph) return;
    try {
      const blob = await download(ran.current, graph, mediaType);
      const link = document.createElement("a");
      link.href = URL.createObjectURL(blob);
      link.download = `result.${suffix}`;
      link.click();
      URL.revokeObjectURL(link.href);
    } catch (error) {
      if (error instanceof Problem) setProblem(error);
    }
  };

  const changed = Object.entries(result?.summary.changed ?? {}).filter(([, n]) => n > 0);
  return (
    <main className="page">
      <h1 className="visually-hidden">Query</h1>
      <Editor text={text} errors={marks} names={names.data} onChange={setText} onRun={(t) => void run("query", t)} />
      <div className="tools">
        <Button size="sm" id="run" disabled={running !== null} onClick={() => void run("query", text)} title="Ctrl+Enter; a selection runs alone">Run</Button>
        <Button size="sm" id="plan" variant="outline-secondary" disabled={running !== null} onClick={() => void run("plan", text)}>Plan</Button>
        <Button size="sm" id="profile" variant="outline-secondary" disabled={running !== null} onClick={() => void run("profile", text)}>Profile</Button>
        {running && <Button size="sm" variant="outline-danger" onClick={() => running.abort.abort()}>Cancel</Button>}
        <span className="status" role="status">
          {running ? `${(clock / 1000).toFixed(1)} s` : result && !plan
            ? [`${result.summary.rows} row${result.summary.rows === 1 ? "" : "s"}`, duration(result.summary.execute_us), ...changed.map(([what, n]) => `${n} ${what.replaceAll("_", " ")}`)].filter(Boolean).join(", ")
            : ""}
          {!running && result?.summary.truncated && !plan ? ` (the first ${MAX_ROWS}; there are more)` : ""}
        </span>
      </div>
      {problem && (
        <Alert variant="danger" className="problem">
          {problem.errors.length > 0 ? problem.errors.map((e, i) => (
            <div key={i}>
              <strong>{e.code}</strong> {e.message}
              {e.excerpt && <pre>{e.excerpt}</pre>}
              {e.hint && <div>{e.hint}</div>}
            </div>
          )) : <>{problem.message}{problem.hint && <div>{problem.hint}</div>}</>}
        </Alert>
      )}
      {!problem && marks.filter((m) => m.severity === "warning").map((m, i) => <Alert key={i} variant="warning" className="problem">{m.message}{m.hint ? ` — ${m.hint}` : ""}</Alert>)}
      {(result || plan) && (
        <div className="views">
          <Nav variant="underline" activeKey={view} onSelect={(k) => setView(k as View)} role="tablist">
            {result && (["table", "drawing", "json"] as const).map((v) => <Nav.Item key={v}><Nav.Link as="button" type="button" role="tab" eventKey={v} aria-selected={view === v}>{v === "json" ? "JSON" : v[0]?.toUpperCase() + v.slice(1)}</Nav.Link></Nav.Item>)}
            {plan && <Nav.Item><Nav.Link as="button" type="button" role="tab" eventKey="plan" aria-selected={view === "plan"}>{plan.execute_us === undefined ? "Plan" : "Profile"}</Nav.Link></Nav.Item>}
          </Nav>
          {result && result.columns.length > 0 && (
            <Dropdown align="end">
              <Dropdown.Toggle size="sm" variant="outline-secondary">Download</Dropdown.Toggle>
              <Dropdown.Menu>{FORMATS.map(([name, type, suffix]) => <Dropdown.Item key={name} onClick={() => void save(type, suffix)}>{name}</Dropdown.Item>)}</Dropdown.Menu>
            </Dropdown>
          )}
        </div>
      )}
      <section className="view" aria-live="polite">
        {view === "table" && result && <ResultTable result={result} />}
        {view === "drawing" && result && <Suspense fallback={<p className="empty">Drawing…</p>}><Drawing result={result} /></Suspense>}
        {view === "json" && result && <pre className="json">{JSON.stringify(result.rows.slice(0, 200), null, 2)}</pre>}
        {view === "plan" && plan && <PlanView answer={plan} />}
        {!result && !plan && !problem && (
          <div className="empty">
            {graph ? (
              <>
                <p>Write a query and press <kbd>Ctrl</kbd>+<kbd>Enter</kbd>. To begin with:</p>
                {[
                  "MATCH (n) RETURN LABELS(n) AS labels, COUNT(*) AS nodes ORDER BY nodes DESC",
                  "MATCH p = (a)-[e]->(b) RETURN p LIMIT 25",
                ].map((t) => <p key={t}><button type="button" className="example" onClick={() => { setText(t); void run("query", t); }}><code>{t}</code></button></p>)}
              </>
            ) : <p>There is no graph yet. Make one with <code>graphodrome graph create NAME</code> and load tables into it, or run <code>graphodrome demo</code>.</p>}
          </div>
        )}
      </section>
    </main>
  );
}
