// The Load page: tables are chosen, their columns looked at, mapped to nodes and edges by keyboard or by
// dragging; the first rows are shown as elements; then a check, the load with its progress, and its rejects.
import { useState } from "react";
import Alert from "react-bootstrap/Alert";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import ProgressBar from "react-bootstrap/ProgressBar";
import { type Job, cancelJob } from "../shared/api";
import { JobAccount, progressText } from "../jobs/JobsPage";
import { say } from "../shared/words";
import { PreviewRows } from "./Preview";
import { TableCard } from "./TableCard";
import { useLoad } from "./useLoad";

function Running({ job }: { job: Job }) {
  const p = job.progress;
  if (job.state !== "running" || !p) return null;
  return (
    <div className="job">
      <ProgressBar now={p.bytes_read} max={Math.max(p.bytes_total, 1)} aria-label={say("Progress")} />
      <div className="faint">
        {progressText(p)}
        {" "}<Button size="sm" variant="outline-danger" onClick={() => void cancelJob(job.id)}>{say("Cancel")}</Button>
      </div>
    </div>
  );
}

export function LoadPage({ graph }: { graph: string | null }) {
  const load = useLoad(graph);
  const [over, setOver] = useState(false);
  if (graph === null) return <main className="page"><h1>{say("Load")}</h1><p className="empty">{say("There is no graph to load into yet: draft one from your tables on the Model page.")}</p></main>;

  const { files, tables, mapping, previews, busy, problem, job, choose } = load;
  return (
    <main className="page load-page" onDragOver={(e) => { if (e.dataTransfer.types.includes("Files")) { e.preventDefault(); setOver(true); } }} onDragLeave={() => setOver(false)} onDrop={(e) => { if (e.dataTransfer.files.length > 0) { e.preventDefault(); setOver(false); void choose([...e.dataTransfer.files]); } }}>
      <h1>{say("Load into {{graph}}", { graph })}</h1>
      <div className={`tools ${over ? "drop-here" : ""}`}>
        <Form.Control type="file" size="sm" multiple className="files" aria-label={say("Tables")} onChange={(e) => void choose([...((e.target as HTMLInputElement).files ?? [])])} />
        <span className="faint">{say("CSV, TSV, JSON, Parquet, Arrow, also .gz and .zst; a mapping (.toml) beside them is taken over. Files can be dropped here.")}</span>
      </div>
      {problem && <Alert variant="danger" className="problem">{problem.message}{problem.hint && <div>{problem.hint}</div>}</Alert>}
      {load.lost && <Alert variant="warning" className="lost-files">{say("The mapping is as it was, but a browser gives no page its files back: choose {{tables}} again.", { tables: tables.map((t) => t.file).join(", ") })}</Alert>}
      {tables.length === 0 && !mapping && <p className="empty">{say("Choose the tables to load. Their columns are shown with samples, and a mapping is proposed that fits the model of {{graph}}; nothing is loaded before you say so.", { graph })}</p>}
      {mapping && (
        <>
          <div className="load-frame">
            <div>
              {mapping.table.map((table, place) => (
                <TableCard key={`${table.file}${place}`} table={table} known={tables.find((t) => t.file === table.file)} types={load.types} change={(next) => load.change(place, next)} />
              ))}
            </div>
            <div>
              <h2>{say("Mapping")}</h2>
              <Form.Control as="textarea" className="mapping" aria-label={say("Mapping")} spellCheck={false} value={load.text} onChange={(e) => load.edited(e.target.value)} />
            </div>
          </div>
          <div className="tools load-steps">
            <Button size="sm" variant="outline-secondary" id="preview" disabled={busy !== null || files.length === 0} onClick={() => void load.preview()}>{say("Show the first rows")}</Button>
            <Button size="sm" variant="outline-secondary" id="check-load" disabled={busy !== null || files.length === 0 || job?.state === "running"} onClick={() => void load.run(true)}>{say("Check")}</Button>
            <Button size="sm" id="load" disabled={busy !== null || files.length === 0 || job?.state === "running"} onClick={() => void load.run(false)}>{say("Load")}</Button>
            <Button size="sm" variant="outline-secondary" id="start-over" disabled={busy !== null || job?.state === "running"} onClick={load.startOver}>{say("Start over")}</Button>
            <span className="status" role="status">{busy ?? (job ? `${say(job.kind)} ${job.id}: ${say(job.state)}` : "")}</span>
          </div>
          {previews.length > 0 && <PreviewRows previews={previews} />}
          {job && <Running job={job} />}
          {job && job.state !== "running" && <JobAccount job={job} />}
        </>
      )}
    </main>
  );
}
