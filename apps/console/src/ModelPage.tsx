// The Model page: a graph's model as diagram and text, a check of the graph against an edited text, and
// drafts from tables: proposed, edited, created and loaded.
import { useQuery } from "@tanstack/react-query";
import { Suspense, lazy, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Nav from "react-bootstrap/Nav";
import { useNavigate } from "react-router-dom";
import { type Draft, type Model, type ModelReport, Problem, get, post, postForm } from "./api";
import { Editor } from "./Editor";

const ModelDiagram = lazy(() => import("./ModelDiagram"));

function Shown({ problem }: { problem: Problem }) {
  return (
    <Alert variant="danger" className="problem">
      {problem.errors.length > 0
        ? problem.errors.map((e, i) => <div key={i}><strong>{e.code}</strong> {e.message}{e.excerpt && <pre>{e.excerpt}</pre>}{e.hint && <div>{e.hint}</div>}</div>)
        : <>{problem.message}{problem.hint && <div>{problem.hint}</div>}</>}
    </Alert>
  );
}

function Report({ report }: { report: ModelReport }) {
  const list = (title: string, findings: ModelReport["violations"]) => findings.length > 0 && (
    <>
      <h3>{title}</h3>
      <ul className="findings">
        {findings.map((f, i) => <li key={i}><strong>{f.count.toLocaleString("en")} ×</strong> {f.message}{f.examples.length > 0 && <div className="faint">such as {f.examples.join(", ")}</div>}</li>)}
      </ul>
    </>
  );
  return (
    <section aria-label="Check" role="status">
      <p className="status">{report.violations.length === 0 ? "Nothing breaks the model" : `${report.violations.length} kinds of violations`}: {report.nodes.toLocaleString("en")} nodes and {report.edges.toLocaleString("en")} edges looked at.</p>
      {list("Breaks the model", report.violations)}
      {list("To look at", report.findings)}
    </section>
  );
}

function Existing({ graph }: { graph: string }) {
  const model = useQuery({ queryKey: ["model", graph], queryFn: () => get<Model>(`/v1/graphs/${graph}/model`) });
  const [edited, setEdited] = useState<string | null>(null);
  const [report, setReport] = useState<ModelReport | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  if (model.error instanceof Problem) return <Shown problem={model.error} />;
  if (!model.data) return <p className="empty" role="status">Reading the model ...</p>;
  const text = edited ?? model.data.text;
  const check = async () => {
    setProblem(null);
    try {
      setReport(await post<ModelReport>(`/v1/graphs/${graph}/model/check`, { model: text }));
    } catch (error) {
      if (error instanceof Problem) setProblem(error);
    }
  };
  return (
    <>
      <p className="faint">
        {model.data.closed ? `The graph ${graph} is closed: only what conforms to this type can be in it.` : `The graph ${graph} is open: this is what is in it, in the form of a type.`}
      </p>
      <div className="model-frame">
        <Suspense fallback={<p className="empty">Drawing ...</p>}><ModelDiagram model={model.data} /></Suspense>
        <div className="model-text">
          <Editor text={text} errors={problem?.errors ?? []} names={undefined} onChange={setEdited} onRun={() => void check()} />
          <div className="tools">
            <Button size="sm" id="check" onClick={() => void check()} title="Ctrl+Enter">Check the graph against this text</Button>
            {edited !== null && edited !== model.data.text && <Button size="sm" variant="outline-secondary" onClick={() => setEdited(null)}>Back to the graph's own</Button>}
          </div>
          {problem && <Shown problem={problem} />}
          {report && <Report report={report} />}
        </div>
      </div>
    </>
  );
}

function Drafting() {
  const navigate = useNavigate();
  const [files, setFiles] = useState<File[]>([]);
  const [name, setName] = useState("draft");
  const [draft, setDraft] = useState<Draft | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const [busy, setBusy] = useState<string | null>(null);
  const step = async (what: string, work: () => Promise<void>) => {
    setBusy(what);
    setProblem(null);
    try {
      await work();
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      setProblem(error);
    } finally {
      setBusy(null);
    }
  };
  const propose = () => step("Looking at the tables ...", async () => {
    const form = new FormData();
    form.append("name", name);
    files.forEach((file) => form.append(file.name, file, file.name));
    setDraft(await postForm<Draft>("/v1/drafts", form));
  });
  const create = () => step("Creating and loading ...", async () => {
    if (!draft) return;
    await post("/v1/query", { text: draft.model });
    const form = new FormData();
    form.append("mapping", draft.mapping);
    files.forEach((file) => form.append(file.name, file, file.name));
    await postForm(`/v1/graphs/${name}/loads`, form);
    localStorage.setItem("graph", name);
    await navigate("/jobs");
  });
  return (
    <>
      <p>Choose tables (CSV, TSV, JSON Lines, Parquet). The service looks at their columns, keys and references and proposes a model and a load mapping, with its reasons. Nothing is kept until you create the graph.</p>
      <div className="tools">
        <Form.Control type="file" size="sm" multiple className="files" aria-label="Tables" accept=".csv,.tsv,.tab,.txt,.jsonl,.ndjson,.parquet" onChange={(e) => { setFiles([...((e.target as HTMLInputElement).files ?? [])]); setDraft(null); }} />
        <Form.Control size="sm" className="name" aria-label="Name of the graph" value={name} onChange={(e) => { setName(e.target.value); setDraft(null); }} />
        <Button size="sm" id="propose" disabled={files.length === 0 || busy !== null || name.trim() === ""} onClick={() => void propose()}>Propose a model</Button>
        {draft && <Button size="sm" id="create" disabled={busy !== null} onClick={() => void create()}>Create the graph and load</Button>}
        <span className="status" role="status">{busy ?? (draft ? `${draft.node_types} node types and ${draft.edge_types} edge types` : "")}</span>
      </div>
      {problem && <Shown problem={problem} />}
      {draft && (
        <>
          {draft.remarks.length > 0 && <details open={draft.remarks.length < 9}><summary>To look at ({draft.remarks.length})</summary><ul>{draft.remarks.map((r) => <li key={r}>{r}</li>)}</ul></details>}
          <div className="model-frame">
            <div><h3>Model</h3><Editor text={draft.model} errors={problem?.errors ?? []} names={undefined} onChange={(model) => setDraft((d) => d && { ...d, model })} onRun={() => undefined} /></div>
            <div><h3>Load mapping</h3><Form.Control as="textarea" className="mapping" aria-label="Load mapping" spellCheck={false} value={draft.mapping} onChange={(e) => setDraft({ ...draft, mapping: e.target.value })} /></div>
          </div>
        </>
      )}
    </>
  );
}

export function ModelPage({ graph }: { graph: string | null }) {
  const [chosen, setView] = useState<"model" | "draft" | null>(null);
  const view = chosen ?? (graph === null ? "draft" : "model");
  return (
    <main className="page model-page">
      <h1>Model</h1>
      <div className="views">
        <Nav variant="underline" activeKey={view} onSelect={(key) => setView(key === "draft" ? "draft" : "model")}>
          <Nav.Item><Nav.Link eventKey="model">{graph ?? "No graph yet"}</Nav.Link></Nav.Item>
          <Nav.Item><Nav.Link eventKey="draft">Draft from tables</Nav.Link></Nav.Item>
        </Nav>
      </div>
      {view === "draft" ? <Drafting /> : graph === null ? <p className="empty">There is no graph yet: draft one from tables, or write CREATE GRAPH on the Query page.</p> : <Existing key={graph} graph={graph} />}
    </main>
  );
}
