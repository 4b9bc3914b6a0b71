// The Jobs page: what runs with its progress, what ran with its account, rejects, cancel.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Alert from "react-bootstrap/Alert";
import Badge from "react-bootstrap/Badge";
import Button from "react-bootstrap/Button";
import ProgressBar from "react-bootstrap/ProgressBar";
import Table from "react-bootstrap/Table";
import { type Job, Problem, type Rejects, cancelJob, get } from "./api";

const COLOURS = { running: "info", done: "success", failed: "danger", cancelled: "secondary" } as const;

function Account({ job }: { job: Job }) {
  const account = job.detail.account;
  const rejects = useQuery({ queryKey: ["rejects", job.id], queryFn: () => get<Rejects>(`/v1/jobs/${job.id}/rejects?limit=50`), enabled: (account?.rejects ?? 0) > 0 });
  return (
    <>
      {job.detail.error && <Alert variant="danger">{job.detail.error}</Alert>}
      {job.detail.differences && <ul className="findings">{job.detail.differences.map((d, i) => <li key={i}>{d.message}</li>)}</ul>}
      {account && (
        <Table size="sm" className="result">
          <thead><tr>{["table", "becomes", "rows", "made", "duplicates", "skipped", "rejects"].map((h) => <th key={h}>{h}</th>)}</tr></thead>
          <tbody>
            {account.tables.flatMap((t) => t.rules.map((rule, i) => (
              <tr key={`${t.table}${i}`}>
                <td>{i === 0 ? t.table : ""}</td><td>{rule.rule}</td>
                {[rule.rows, rule.made, rule.duplicates, rule.skipped, rule.rejects].map((n, c) => <td key={c} className="number">{n.toLocaleString("en")}</td>)}
              </tr>
            )))}
          </tbody>
        </Table>
      )}
      {rejects.data && (
        <>
          <h3>Rejects <span className="faint">{rejects.data.rejects.length} of {rejects.data.total}</span></h3>
          <Table size="sm" className="result">
            <thead><tr>{["table", "line", "column", "value", "reason"].map((h) => <th key={h}>{h}</th>)}</tr></thead>
            <tbody>{rejects.data.rejects.map((r, i) => <tr key={i}><td>{r.table}</td><td className="number">{r.line}</td><td>{r.column}</td><td>{r.value}</td><td>{r.reason}</td></tr>)}</tbody>
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
    refetchInterval: (query) => (query.state.data?.some((j) => j.state === "running") ? 400 : 3000),
  });
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
              Job {job.id}: {job.kind} {job.kind === "load" ? "into" : "of"} {job.graph}
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
              <div className="faint">{job.progress.phase}: {job.progress.rows_read.toLocaleString("en")} rows{job.progress.bytes_total > 0 && `, ${(job.progress.bytes_read / 1e6).toFixed(1)} of ${(job.progress.bytes_total / 1e6).toFixed(1)} MB`}{job.progress.left_ms !== null ? `, ${(job.progress.left_ms / 1000).toFixed(0)} s left` : ""}</div>
            </>
          )}
          {open === job.id && <Account job={job} />}
        </article>
      ))}
    </main>
  );
}
