// The Jobs page: what runs with its progress, what ran with its account, rejects, cancel.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Badge from "react-bootstrap/Badge";
import Button from "react-bootstrap/Button";
import ProgressBar from "react-bootstrap/ProgressBar";
import Table from "react-bootstrap/Table";
import { type Job, Problem, type Rejects, cancelJob, get, timeLeft } from "../shared/api";

const COLOURS = { running: "info", done: "success", failed: "danger", cancelled: "secondary" } as const;

const FIGURES = ["made", "changed", "unchanged", "duplicates", "skipped", "rejects", "created"] as const;
const ALWAYS: readonly string[] = ["made", "duplicates", "rejects"];

export function JobAccount({ job }: { job: Job }) {
  const account = job.detail.account;
  const rejects = useQuery({ queryKey: ["rejects", job.id], queryFn: () => get<Rejects>(`/v1/jobs/${job.id}/rejects?limit=50`), enabled: (account?.rejects ?? 0) > 0 });
  const files = useQuery({ queryKey: ["reject-files", job.id], queryFn: () => get<{ files: { table: string; file: string; rejects: number }[]; mapping: string }>(`/v1/jobs/${job.id}/rejects/files`), enabled: (account?.rejects ?? 0) > 0 && job.state !== "running" });
  const rules = account?.tables.flatMap((t) => t.rules) ?? [];
  // Columns that say something.
  const figures = FIGURES.filter((f) => ALWAYS.includes(f) || rules.some((r) => (r[f] ?? 0) > 0));
  return (
    <>
      {job.detail.check === true && <p className="status">This was a check: nothing was published. {account && `A load would add ${account.nodes_made.toLocaleString("en")} nodes and ${account.edges_made.toLocaleString("en")} edges.`} {(job.detail.breaks ?? []).map((b) => <strong key={b}>It would fail: {b}. </strong>)}</p>}
      {job.detail.check !== true && job.state === "done" && account && <p className="status">{job.detail.changed === false ? "Nothing new: everything was there already." : `${account.nodes_made.toLocaleString("en")} nodes and ${account.edges_made.toLocaleString("en")} edges are new.`}</p>}
      {job.detail.error && <Alert variant="danger">{job.detail.error}</Alert>}
      {job.detail.differences && <ul className="findings">{job.detail.differences.map((d, i) => <li key={i}>{d.message}</li>)}</ul>}
      {account && (
        <Table size="sm" className="result">
          <thead><tr>{["table", "becomes", "rows", ...figures].map((h) => <th key={h}>{h}</th>)}</tr></thead>
          <tbody>
            {account.tables.flatMap((t) => t.rules.map((rule, i) => (
              <tr key={`${t.table}${i}`}>
                <td>{i === 0 ? t.table : ""}</td><td>{rule.rule}</td>
                {[rule.rows, ...figures.map((f) => rule[f] ?? 0)].map((n, c) => <td key={c} className="number">{n.toLocaleString("en")}</td>)}
              </tr>
            )))}
          </tbody>
        </Table>
      )}
      {rejects.data && (
        <>
          <h3>Rejects <span className="faint">{rejects.data.rejects.length} of {rejects.data.total}</span></h3>
          {files.data && <p>Repair and load again: {files.data.files.map((f) => <a key={f.table} className="reject-file" href={`/v1/jobs/${job.id}/rejects/rows?table=${encodeURIComponent(f.table)}`} download>{f.file}</a>)} with <a href={`data:text/plain;charset=utf-8,${encodeURIComponent(files.data.mapping)}`} download="load.toml">load.toml</a>, the mapping of these rows alone.</p>}
          <Table size="sm" className="result">
            <thead><tr>{["table", "line", "column", "value", "kind", "reason"].map((h) => <th key={h}>{h}</th>)}</tr></thead>
            <tbody>{rejects.data.rejects.map((r, i) => <tr key={i}><td>{r.table}</td><td className="number">{r.line}</td><td>{r.column}</td><td>{r.value}</td><td>{r.kind}</td><td>{r.reason}</td></tr>)}</tbody>
          </Table>
        </>
      )}
    </>
  );
}

export function JobsPage() {
  const client = useQueryClient();
  const [open, setOpen] = useState<number | null>(null);
  const jobs = useQuery({
    queryKey: ["jobs"],
    queryFn: () => get<Job[]>("/v1/jobs"),
  });
  // What comes, runs and ends is told by the service.
  useEffect(() => {
    const source = new EventSource("/v1/jobs/events");
    const seen = (event: MessageEvent<string>) => {
      const job = JSON.parse(event.data) as Job;
      client.setQueryData<Job[]>(["jobs"], (jobs) => (jobs === undefined ? jobs : jobs.some((j) => j.id === job.id) ? jobs.map((j) => (j.id === job.id ? job : j)) : [job, ...jobs]));
    };
    source.addEventListener("progress", seen);
    source.addEventListener("end", seen);
    source.onopen = () => void client.invalidateQueries({ queryKey: ["jobs"] });
    return () => source.close();
  }, [client]);
  return (
    <main className="page">
      <h1>Jobs</h1>
      {jobs.error instanceof Problem && <Alert variant="danger">{jobs.error.message} {jobs.error.hint}</Alert>}
      {jobs.data?.length === 0 && <p className="empty">No job has run yet. Start one with <code>graphodrome load mapping.toml</code>; it shows here while it runs.</p>}
      {jobs.data?.map((job) => (
        <article key={job.id} className="job">
          <div className="job-head">
            <Badge bg={COLOURS[job.state]}>{job.state}</Badge>
            <button type="button" className="job-title" aria-expanded={open === job.id} onClick={() => setOpen(open === job.id ? null : job.id)}>
              Job {job.id}: {job.kind} {job.kind === "load" || job.kind === "check" ? "into" : "of"} {job.graph}
            </button>
            <span className="faint job-files">{job.title}</span>
            <time className="faint" dateTime={job.started}>{new Date(job.started).toLocaleString()}</time>
            {job.state === "running" && <Button size="sm" variant="outline-danger" onClick={() => void cancelJob(job.id).then(() => client.invalidateQueries({ queryKey: ["jobs"] }))}>Cancel</Button>}
          </div>
          {job.progress && (
            <>
              {job.progress.bytes_total > 0
                ? <ProgressBar now={job.progress.bytes_read} max={job.progress.bytes_total} aria-label={`Job ${job.id}`} />
                : <ProgressBar now={1} max={1} striped animated aria-label={`Job ${job.id}`} />}
              <div className="faint">{job.progress.phase}: {job.progress.rows_read.toLocaleString("en")} rows{job.progress.bytes_total > 0 && `, ${(job.progress.bytes_read / 1e6).toFixed(1)} of ${(job.progress.bytes_total / 1e6).toFixed(1)} MB`}{job.progress.left_ms !== null ? `, ${timeLeft(job.progress.left_ms)} left` : ""}</div>
            </>
          )}
          {open === job.id && <JobAccount job={job} />}
        </article>
      ))}
    </main>
  );
}
