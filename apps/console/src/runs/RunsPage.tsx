// The Runs page: what runs now, the profiles that are kept, one of them whole, and two side by side.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Badge from "react-bootstrap/Badge";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { Link, useSearchParams } from "react-router-dom";
import { Problem, type RunInfo, type WholeRun, duration, get, remove } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { ProblemBox } from "../shared/Problems";
import { PlanView } from "../profile/PlanView";
import { CompareView } from "./CompareView";
import { RunningNow } from "./RunningNow";
import { figure, moment, say } from "../shared/words";

function Whole({ id, onRemoved }: { id: number; onRemoved: () => void }) {
  const run = useQuery({ queryKey: ["run", id], queryFn: () => get<WholeRun>(`/v1/runs/${id}`) });
  const { attempt, problem, setProblem } = useAttempt();
  if (run.error instanceof Problem) return <ProblemBox problem={run.error} />;
  if (!run.data) return <p className="empty" role="status">{say("Opening…")}</p>;
  const { text, graph, version, made, client, name, profile } = run.data;
  return (
    <section aria-label={say("Run {{id}}", { id })}>
      <h2>{say("Run {{id}}", { id })}{name !== null && ` (${name})`}</h2>
      <p className="faint">{graph}, {say("version {{version}}", { version })}, <time dateTime={made}>{moment(made)}</time>, {client || say("by nobody named")}</p>
      <pre className="run-query">{text.trim()}</pre>
      <div className="tools">
        <Link className="btn btn-sm btn-outline-secondary" to={`/?graph=${encodeURIComponent(graph)}&text=${encodeURIComponent(text)}`}>{say("Open in a sheet")}</Link>
        <Button size="sm" variant="outline-danger" onClick={() => void attempt("removing", async () => { await remove(`/v1/runs/${id}`); onRemoved(); })}>{say("Remove")}</Button>
      </div>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      <PlanView answer={profile} />
    </section>
  );
}

export function RunsPage({ graph }: { graph: string | null }) {
  const client = useQueryClient();
  const [asked, setAsked] = useSearchParams();
  const [search, setSearch] = useState("");
  const [slow, setSlow] = useState(false);
  const [everywhere, setEverywhere] = useState(false);
  const number = (name: string) => (asked.has(name) ? Number(asked.get(name)) : null);
  const [open, before, after] = [number("run"), number("before"), number("after")];
  const set = (changes: { [name: string]: number | null }) => setAsked((now) => {
    for (const [name, value] of Object.entries(changes)) {
      if (value === null) now.delete(name);
      else now.set(name, String(value));
    }
    return now;
  }, { replace: true });
  const wanted = new URLSearchParams({ limit: "200" });
  if (graph !== null && !everywhere) wanted.set("graph", graph);
  if (slow) wanted.set("kind", "slow");
  if (search.trim() !== "") wanted.set("text", search.trim());
  const runs = useQuery({ queryKey: ["runs", wanted.toString()], queryFn: () => get<RunInfo[]>(`/v1/runs?${wanted.toString()}`), refetchInterval: 5000 });
  const all = runs.data ?? [];
  return (
    <main className="page">
      <h1>{say("Runs")}</h1>
      <RunningNow />
      <h2>{say("Kept")}</h2>
      <Form className="tools" onSubmit={(e) => e.preventDefault()}>
        <Form.Control size="sm" className="run-search" type="search" aria-label={say("Search in the texts")} placeholder={say("search in the texts")} value={search} onChange={(e) => setSearch(e.target.value)} />
        <Form.Check id="runs-slow" label={say("slow queries only")} checked={slow} onChange={(e) => setSlow(e.target.checked)} />
        {graph !== null && <Form.Check id="runs-everywhere" label={say("of all graphs")} checked={everywhere} onChange={(e) => setEverywhere(e.target.checked)} />}
      </Form>
      {runs.error instanceof Problem && <ProblemBox problem={runs.error} />}
      {runs.data && all.length === 0 ? (
        <p className="empty">{slow || search !== "" ? say("No run that is kept fits.") : say("No run is kept.")} {say("Profile a query and press “Run again and keep”; a query that takes long keeps its profile by itself.")}</p>
      ) : (
        <>
          <p>{say("Choose two runs to see them side by side.")}</p>
          <div className="scrolls run-list" tabIndex={0} role="region" aria-label={say("Kept runs")}>
            <table className="result runs">
              <thead><tr>{["before", "after", "run", "name", "", "graph", "version", "when", "rows", "time", "edges", "query"].map((h, i) => <th key={i} scope="col">{h === "" ? "" : say(h)}</th>)}</tr></thead>
              <tbody>
                {all.map((r) => (
                  <tr key={r.id} className={r.id === open ? "is-chosen" : ""}>
                    <td><Form.Check type="radio" name="before" aria-label={say("run {{id}} before", { id: r.id })} checked={before === r.id} onChange={() => set({ before: r.id, run: null })} /></td>
                    <td><Form.Check type="radio" name="after" aria-label={say("run {{id}} after", { id: r.id })} checked={after === r.id} onChange={() => set({ after: r.id, run: null })} /></td>
                    <td className="number"><Link to={`/runs?run=${r.id}`}>{r.id}</Link></td>
                    <td>{r.name}</td>
                    <td>{r.kind === "slow" && <Badge bg="warning" text="dark">{say("slow")}</Badge>} {r.tags.map((t) => <Badge key={t} bg="secondary">{t}</Badge>)}</td>
                    <td>{r.graph}</td><td className="number">{r.version}</td>
                    <td><time dateTime={r.made}>{moment(r.made)}</time></td>
                    <td className="number">{figure(r.rows)}</td><td className="number">{duration(r.execute_us)}</td><td className="number">{figure(r.edges_looked)}</td>
                    <td className="run-text" title={r.text}>{r.text}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
      {before !== null && after !== null && before !== after && open === null && <CompareView before={before} after={after} />}
      {open !== null && <Whole key={open} id={open} onRemoved={() => { set({ run: null }); void client.invalidateQueries({ queryKey: ["runs"] }); }} />}
    </main>
  );
}
