// What runs now: who asked what, how far it is, and an end to it.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import Button from "react-bootstrap/Button";
import { type RunningInfo, get, remove } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { ProblemBox } from "../shared/Problems";
import { figure, say } from "../shared/words";

function age(ms: number): string {
  return ms < 10_000 ? `${figure(ms / 1000, 1)} s` : ms < 600_000 ? `${Math.round(ms / 1000)} s` : `${Math.round(ms / 60_000)} min`;
}

export function RunningNow() {
  const client = useQueryClient();
  const running = useQuery({ queryKey: ["running"], queryFn: () => get<RunningInfo[]>("/v1/running"), refetchInterval: 1000 });
  const { attempt, problem, setProblem } = useAttempt();
  const cancel = (id: number) => attempt("cancelling", async () => {
    await remove(`/v1/running/${id}`);
    await client.invalidateQueries({ queryKey: ["running"] });
  });
  const all = running.data ?? [];
  return (
    <section aria-label={say("What runs now")}>
      <h2>{say("Now")}</h2>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      {all.length === 0 ? <p className="faint" role="status">{say("No query runs.")}</p> : (
        <div className="scrolls" tabIndex={0} role="region" aria-label={say("Queries that run")}>
          <table className="result running">
            <thead><tr>{["what", "graph", "who", "age", "phase", "at", "work", "rows", "memory", "query", ""].map((h, i) => <th key={i} scope="col">{h === "" ? "" : say(h)}</th>)}</tr></thead>
            <tbody>
              {all.map((r) => (
                <tr key={r.id}>
                  <td>{say(r.kind)}</td><td>{r.graph}</td><td>{r.client}</td><td className="number">{age(r.age_ms)}</td><td>{say(r.phase)}</td>
                  <td>{r.operator}{r.hop !== undefined && `, ${say("hop {{hop}}", { hop: r.hop })}`}</td>
                  <td className="number">{figure(r.work)}</td><td className="number">{figure(r.rows)}</td><td className="number">{`${figure(r.memory_bytes / (1 << 20), 1)} MiB`}</td>
                  <td className="run-text" title={r.text}>{r.text}</td>
                  <td><Button size="sm" variant="outline-danger" onClick={() => void cancel(r.id)}>{say("Cancel")}</Button></td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
