// The Jobs page: what runs with its progress, what ran with its account, rejects, cancel.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Badge from "react-bootstrap/Badge";
import Button from "react-bootstrap/Button";
import ProgressBar from "react-bootstrap/ProgressBar";
import Table from "react-bootstrap/Table";
import { Trans } from "react-i18next";
import { type Job, Problem, type Rejects, cancelJob, get, timeLeft } from "../shared/api";
import { figure, moment, say } from "../shared/words";

const COLOURS = { running: "info", done: "success", failed: "danger", cancelled: "secondary" } as const;

const FIGURES = ["created", "changed", "unchanged", "duplicates", "skipped", "rejects", "created_ends"] as const;
/** What the columns are called. */
const titleOf = (figure: string) => (figure === "created_ends" ? say("nodes created") : say(figure));
const ALWAYS: readonly string[] = ["created", "duplicates", "rejects"];

/** `reading: 12,000 rows, 3.1 of 9.4 MB, 4 s left` */
export function progressText(p: NonNullable<Job["progress"]>): string {
  const parts = [say("{{n}} rows", { count: p.rows_read })];
  if (p.bytes_total > 0) parts.push(say("{{read}} of {{all}} MB", { read: figure(p.bytes_read / 1e6, 1), all: figure(p.bytes_total / 1e6, 1) }));
  if (p.bytes_total > 0 && p.elapsed_ms > 0) parts.push(say("{{megabytes}} MB/s", { megabytes: figure(p.bytes_read / 1e3 / p.elapsed_ms, 1) }));
  if (p.left_ms !== null) parts.push(say("{{time}} left", { time: timeLeft(p.left_ms) }));
  return `${say(p.phase)}: ${parts.join(", ")}`;
}

export function JobAccount({ job }: { job: Job }) {
  const account = job.detail.account;
  const rejects = useQuery({ queryKey: ["rejects", job.id], queryFn: () => get<Rejects>(`/v1/jobs/${job.id}/rejects?limit=50`), enabled: (account?.rejects ?? 0) > 0 });
  const files = useQuery({ queryKey: ["reject-files", job.id], queryFn: () => get<{ files: { table: string; file: string; rejects: number }[]; mapping: string }>(`/v1/jobs/${job.id}/rejects/files`), enabled: (account?.rejects ?? 0) > 0 && job.state !== "running" });
  const rules = account?.tables.flatMap((t) => t.rules) ?? [];
  // Columns that say something.
  const figures = FIGURES.filter((f) => ALWAYS.includes(f) || rules.some((r) => (r[f] ?? 0) > 0));
  return (
    <>
      {job.detail.check === true && <p className="status">{say("This was a check: nothing was published.")} {account && say("A load would add {{nodes}} nodes and {{edges}} edges.", { nodes: figure(account.nodes_created), edges: figure(account.edges_created) })} {(job.detail.breaks ?? []).map((b) => <strong key={b}>{say("It would fail: {{reason}}.", { reason: b })} </strong>)}</p>}
      {job.detail.check !== true && job.state === "done" && account && <p className="status">{job.detail.changed === false ? say("Nothing new: everything was there already.") : say("{{nodes}} nodes and {{edges}} edges are new.", { nodes: figure(account.nodes_created), edges: figure(account.edges_created) })}</p>}
      {job.detail.error && <Alert variant="danger">{job.detail.error}</Alert>}
      {job.detail.differences && <ul className="findings">{job.detail.differences.map((d, i) => <li key={i}>{d.message}</li>)}</ul>}
      {account && (
        <Table size="sm" className="result">
          <thead><tr>{["table", "becomes", "rows", ...figures].map((h) => <th key={h}>{titleOf(h)}</th>)}</tr></thead>
          <tbody>
            {account.tables.flatMap((t) => t.rules.map((rule, i) => (
              <tr key={`${t.table}${i}`}>
                <td>{i === 0 ? t.table : ""}</td><td>{rule.rule}</td>
                {[rule.rows, ...figures.map((f) => rule[f] ?? 0)].map((n, c) => <td key={c} className="number">{figure(n)}</td>)}
              </tr>
            )))}
          </tbody>
        </Table>
      )}
      {rejects.data && (
        <>
          <h3>{say("Rejects")} <span className="faint">{say("{{shown}} of {{all}}", { shown: figure(rejects.data.rejects.length), all: figure(rejects.data.total) })}</span></h3>
          {files.data && <p>{say("Repair and load again:")} {files.data.files.map((f) => <a key={f.table} className="reject-file" href={`/v1/jobs/${job.id}/rejects/rows?table=${encodeURIComponent(f.table)}`} download>{f.file}</a>)} <Trans i18nKey="with <file>load.toml</file>, the mapping of these rows alone." components={{ file: <a href={`data:text/plain;charset=utf-8,${encodeURIComponent(files.data.mapping)}`} download="load.toml" /> }} /></p>}
          <Table size="sm" className="result">
            <thead><tr>{["table", "line", "column", "value", "kind", "reason"].map((h) => <th key={h}>{say(h)}</th>)}</tr></thead>
            <tbody>{rejects.data.rejects.map((r, i) => <tr key={i}><td>{r.table}</td><td className="number">{r.line}</td><td>{r.column}</td><td>{r.value}</td><td>{say(r.kind)}</td><td>{r.reason}</td></tr>)}</tbody>
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
      <h1>{say("Jobs")}</h1>
      {jobs.error instanceof Problem && <Alert variant="danger">{jobs.error.message} {jobs.error.hint}</Alert>}
      {jobs.data?.length === 0 && <p className="empty"><Trans i18nKey="No job has run yet. Start one with <code>graphodrome load mapping.toml</code>; it shows here while it runs." components={{ code: <code /> }} /></p>}
      {jobs.data?.map((job) => (
        <article key={job.id} className="job">
          <div className="job-head">
            <Badge bg={COLOURS[job.state]}>{say(job.state)}</Badge>
            <button type="button" className="job-title" aria-expanded={open === job.id} onClick={() => setOpen(open === job.id ? null : job.id)}>
              {say("Job {{id}}: {{kind}}, {{graph}}", { id: job.id, kind: say(job.kind), graph: job.graph })}
            </button>
            <span className="faint job-files">{job.title}</span>
            <time className="faint" dateTime={job.started}>{moment(job.started)}</time>
            {job.state === "running" && <Button size="sm" variant="outline-danger" onClick={() => void cancelJob(job.id).then(() => client.invalidateQueries({ queryKey: ["jobs"] }))}>{say("Cancel")}</Button>}
          </div>
          {job.progress && (
            <>
              {job.progress.bytes_total > 0
                ? <ProgressBar now={job.progress.bytes_read} max={job.progress.bytes_total} aria-label={say("Job {{id}}", { id: job.id })} />
                : <ProgressBar now={1} max={1} striped animated aria-label={say("Job {{id}}", { id: job.id })} />}
              <div className="faint">{progressText(job.progress)}</div>
            </>
          )}
          {open === job.id && <JobAccount job={job} />}
        </article>
      ))}
    </main>
  );
}
