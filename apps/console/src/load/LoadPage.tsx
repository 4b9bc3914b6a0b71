// The Load page: tables are chosen, their columns looked at, mapped to nodes and edges by keyboard or by
// dragging; the first rows are shown as elements; then a check, the load with its progress, and its rejects.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Badge from "react-bootstrap/Badge";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import ProgressBar from "react-bootstrap/ProgressBar";
import { type Job, type Model, Problem, cancelJob, get, post, postForm } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { useHeld } from "../shared/held";
import { JobAccount, progressText } from "../jobs/JobsPage";
import { type EdgeRule, type Mapping, type MappingTable, type NodeRule, type TableColumns, byHand, propose } from "./mapping";
import { EdgeForm, NodeForm } from "./RuleForms";
import { figure, say } from "../shared/words";

interface Preview {
  table: string;
  rows: { row: number; rejects: string[]; elements: { kind: string; labels: string[]; properties: Record<string, unknown>; from: string | null; to: string | null }[] }[];
}

function uploaded(files: File[], mapping: string): FormData {
  const form = new FormData();
  form.append("mapping", mapping);
  files.forEach((file) => form.append(file.name, file, file.name));
  return form;
}

function Columns({ table }: { table: TableColumns }) {
  return (
    <div className="columns-list" aria-label={say("Columns of {{file}}", { file: table.file })}>
      {table.columns.map((c) => (
        <div key={c.name} className="column-chip" draggable onDragStart={(e) => e.dataTransfer.setData("text/plain", c.name)} title={say("Drag onto a property")}>
          <strong>{c.name}</strong> <Badge bg="secondary">{c.kind}</Badge>
          <div className="faint samples">{c.samples.join(" · ")}{c.nulls > 0 && ` (${say("{{nulls}} null", { nulls: figure(c.nulls) })})`}</div>
        </div>
      ))}
    </div>
  );
}

/** `(:Junction {code: J-1})`, as a query would write it. */
function ElementText({ element }: { element: Preview["rows"][number]["elements"][number] }) {
  const properties = Object.entries(element.properties).map(([name, value]) => `${name}: ${typeof value === "string" ? `'${value}'` : JSON.stringify(value)}`).join(", ");
  const inside = `:${element.labels.join("&")}${properties ? ` {${properties}}` : ""}`;
  return <code className="element">{element.kind === "node" ? `(${inside})` : `${element.from}-[${inside}]->${element.to}`}</code>;
}

function PreviewRows({ previews }: { previews: Preview[] }) {
  return (
    <section aria-label={say("Preview")}>
      {previews.map((p) => (
        <div key={p.table}>
          <h3>{p.table} <span className="faint">{say("its first rows as elements")}</span></h3>
          <table className="table table-sm result"><tbody>
            {p.rows.map((row) => (
              <tr key={row.row}>
                <td className="number">{row.row}</td>
                <td>
                  {row.elements.map((element, i) => <div key={i}><ElementText element={element} /></div>)}
                  {row.rejects.map((reason, i) => <div key={i} className="lost">{reason}</div>)}
                </td>
              </tr>
            ))}
          </tbody></table>
        </div>
      ))}
    </section>
  );
}

/** A job as its events tell it. */
function useJob(id: number | null): Job | null {
  const [job, setJob] = useState<Job | null>(null);
  useEffect(() => {
    setJob(null);
    if (id === null) return undefined;
    const source = new EventSource(`/v1/jobs/${id}/events`);
    const seen = (event: MessageEvent<string>) => {
      const next = JSON.parse(event.data) as Job;
      setJob(next);
      if (next.state !== "running") source.close();
    };
    source.addEventListener("progress", seen);
    source.addEventListener("end", seen);
    return () => source.close();
  }, [id]);
  return job;
}

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
  const client = useQueryClient();
  // Files live as long as the tab's page; what was made of them outlives a reload too.
  const [files, setFiles] = useHeld<File[]>(`load files ${graph}`, []);
  const [tables, setTables] = useHeld<TableColumns[]>(`load tables ${graph}`, [], "reloads");
  const [text, setText] = useHeld(`load text ${graph}`, "", "reloads");
  const [mapping, setMapping] = useHeld<Mapping | null>(`load mapping ${graph}`, null, "reloads");
  const [previews, setPreviews] = useHeld<Preview[]>(`load previews ${graph}`, []);
  const { busy, problem, setProblem, attempt } = useAttempt();
  const [jobId, setJobId] = useHeld<number | null>(`load job ${graph}`, null, "reloads");
  const [over, setOver] = useState(false);
  const job = useJob(jobId);
  const model = useQuery({ queryKey: ["model", graph], queryFn: () => get<Model>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/model`), enabled: graph !== null });
  useEffect(() => {
    if (job && job.state !== "running") void client.invalidateQueries({ queryKey: ["graphs"] });
  }, [job, client]);
  if (graph === null) return <main className="page"><h1>{say("Load")}</h1><p className="empty">{say("There is no graph to load into yet: draft one from your tables on the Model page.")}</p></main>;

  const choose = (chosen: File[]) => attempt(say("Looking at the tables …"), async () => {
    setFiles(chosen);
    setPreviews([]);
    setJobId(null);
    const own = chosen.find((f) => f.name.endsWith(".toml"));
    const sources = chosen.filter((f) => f !== own);
    const form = new FormData();
    sources.forEach((file) => form.append(file.name, file, file.name));
    const looked = sources.length > 0 ? await postForm<TableColumns[]>("/v1/columns", form) : [];
    setTables(looked);
    setFiles(sources);
    if (own) await read(await own.text());
    else if (mapping && mapping.table.every((table) => looked.some((t) => t.file === table.file))) return;
    else await write(propose(looked, model.data ?? null), "");
  });
  const read = async (next: string) => {
    setText(next);
    setMapping((await post<{ mapping: Mapping }>("/v1/mappings", { text: next })).mapping);
  };
  // The service writes the text: what was said in comments stays.
  const write = async (next: Mapping, before: string) => {
    setMapping(next);
    setText((await post<{ text: string }>("/v1/mappings", { text: before, mapping: next })).text);
  };
  const change = (place: number, table: MappingTable) => {
    if (!mapping) return;
    setPreviews([]);
    void attempt("", () => write({ ...mapping, table: mapping.table.map((t, i) => (i === place ? table : t)) }, text));
  };
  const edited = (next: string) => {
    setText(next);
    setPreviews([]);
    post<{ mapping: Mapping }>("/v1/mappings", { text: next }).then((answer) => { setMapping(answer.mapping); setProblem(null); }, (error: unknown) => { if (error instanceof Problem) setProblem(error); else throw error; });
  };
  const preview = () => attempt(say("Reading the first rows …"), async () => setPreviews(await postForm<Preview[]>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/loads/preview?rows=8`, uploaded(files, text))));
  const run = (check: boolean) => attempt(check ? say("Checking …") : say("Uploading …"), async () => setJobId((await postForm<Job>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/loads?check=${check}`, uploaded(files, text))).id));
  const types = model.data ?? null;
  const lost = files.length === 0 && tables.length > 0;
  const startOver = () => { setFiles([]); setTables([]); setText(""); setMapping(null); setPreviews([]); setJobId(null); setProblem(null); };
  return (
    <main className="page load-page" onDragOver={(e) => { if (e.dataTransfer.types.includes("Files")) { e.preventDefault(); setOver(true); } }} onDragLeave={() => setOver(false)} onDrop={(e) => { if (e.dataTransfer.files.length > 0) { e.preventDefault(); setOver(false); void choose([...e.dataTransfer.files]); } }}>
      <h1>{say("Load into {{graph}}", { graph })}</h1>
      <div className={`tools ${over ? "drop-here" : ""}`}>
        <Form.Control type="file" size="sm" multiple className="files" aria-label={say("Tables")} onChange={(e) => void choose([...((e.target as HTMLInputElement).files ?? [])])} />
        <span className="faint">{say("CSV, TSV, JSON, Parquet, Arrow, also .gz and .zst; a mapping (.toml) beside them is taken over. Files can be dropped here.")}</span>
      </div>
      {problem && <Alert variant="danger" className="problem">{problem.message}{problem.hint && <div>{problem.hint}</div>}</Alert>}
      {lost && <Alert variant="warning" className="lost-files">{say("The mapping is as it was, but a browser gives no page its files back: choose {{tables}} again.", { tables: tables.map((t) => t.file).join(", ") })}</Alert>}
      {tables.length === 0 && !mapping && <p className="empty">{say("Choose the tables to load. Their columns are shown with samples, and a mapping is proposed that fits the model of {{graph}}; nothing is loaded before you say so.", { graph })}</p>}
      {mapping && (
        <>
          <div className="load-frame">
            <div>
              {mapping.table.map((table, place) => {
                const known = tables.find((t) => t.file === table.file);
                return (
                  <section key={`${table.file}${place}`} className="table-card" aria-label={table.file}>
                    <h2>{table.file} {known && <span className="faint">{say("{{n}} rows", { count: known.rows })}</span>}</h2>
                    {known && <Columns table={known} />}
                    {(table.node ?? []).map((rule, i) => <NodeForm key={`n${i}`} rule={rule} columns={known?.columns.map((c) => c.name) ?? []} model={types} onChange={(next: NodeRule | null) => change(place, { ...table, node: byHand(table.node ?? [], i, next) })} />)}
                    {(table.edge ?? []).map((rule, i) => <EdgeForm key={`e${i}`} rule={rule} columns={known?.columns.map((c) => c.name) ?? []} model={types} onChange={(next: EdgeRule | null) => change(place, { ...table, edge: byHand(table.edge ?? [], i, next) })} />)}
                    <div className="tools">
                      <Button size="sm" variant="outline-secondary" onClick={() => change(place, { ...table, node: [...(table.node ?? []), { labels: [types?.node_types[0]?.labels[0] ?? "Thing"], properties: {} }] })}>{say("Add a node")}</Button>
                      <Button size="sm" variant="outline-secondary" onClick={() => change(place, { ...table, edge: [...(table.edge ?? []), { label: types?.edge_types[0]?.labels[0] ?? "IS", from: { labels: [], key: {} }, to: { labels: [], key: {} } }] })}>{say("Add an edge")}</Button>
                    </div>
                  </section>
                );
              })}
            </div>
            <div>
              <h2>{say("Mapping")}</h2>
              <Form.Control as="textarea" className="mapping" aria-label={say("Mapping")} spellCheck={false} value={text} onChange={(e) => edited(e.target.value)} />
            </div>
          </div>
          <div className="tools load-steps">
            <Button size="sm" variant="outline-secondary" id="preview" disabled={busy !== null || files.length === 0} onClick={() => void preview()}>{say("Show the first rows")}</Button>
            <Button size="sm" variant="outline-secondary" id="check-load" disabled={busy !== null || files.length === 0 || job?.state === "running"} onClick={() => void run(true)}>{say("Check")}</Button>
            <Button size="sm" id="load" disabled={busy !== null || files.length === 0 || job?.state === "running"} onClick={() => void run(false)}>{say("Load")}</Button>
            <Button size="sm" variant="outline-secondary" id="start-over" disabled={busy !== null || job?.state === "running"} onClick={startOver}>{say("Start over")}</Button>
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
