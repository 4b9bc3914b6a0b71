// The Model page: a graph's model as diagram and text, each changing the other; a new model compared and
// applied; the graph checked against it; drafts from tables: proposed, edited, created and loaded.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Nav from "react-bootstrap/Nav";
import { useNavigate } from "react-router-dom";
import { type Draft, type Model, type ModelDiff, type ModelForms, type ModelReport, type ModelTypes, Problem, get, post, postForm } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { Editor } from "../shared/Editor";
import { useHeld } from "../shared/held";
import { Findings } from "../shared/Findings";
import { ProblemBox } from "../shared/Problems";
import { ModelChange } from "./ModelChange";
import { ModelDiagram } from "./ModelDiagram";
import { type Choice, TypeForm } from "./TypeForm";
import { figure, say } from "../shared/words";

function Report({ report }: { report: ModelReport }) {
  return (
    <section aria-label={say("Check")} role="status">
      <p className="status">{report.violations.length === 0 ? say("Nothing breaks the model.") : say("{{n}} kinds of violations.", { count: report.violations.length })} {say("{{nodes}} nodes and {{edges}} edges were looked at.", { nodes: figure(report.nodes), edges: figure(report.edges) })}</p>
      <Findings title={say("Breaks the model")} findings={report.violations} graph={report.graph} />
      <Findings title={say("To look at")} findings={report.findings} graph={report.graph} />
    </section>
  );
}

/** What stands before the graph type in a text: comments and renamings, which the form does not know. */
function before(text: string): string {
  const start = text.search(/CREATE\s+(OR\s+REPLACE\s+)?(PROPERTY\s+)?GRAPH\s+TYPE/i);
  return start > 0 ? text.slice(0, start) : "";
}

type Outcome = { kind: "report"; report: ModelReport } | { kind: "diff"; diff: ModelDiff; text: string } | { kind: "said"; text: string };

function Existing({ graph }: { graph: string }) {
  const client = useQueryClient();
  const model = useQuery({ queryKey: ["model", graph], queryFn: () => get<Model>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/model`) });
  const [edited, setEdited] = useHeld<string | null>(`model text ${graph}`, null, "reloads");
  // What the form has changed, until the text has it.
  const [pending, setPending] = useState<ModelTypes | null>(null);
  const [choice, setChoice] = useState<Choice | null>(null);
  const [outcome, setOutcome] = useState<Outcome | null>(null);
  const { problem, setProblem, attempt: tried } = useAttempt();
  const text = edited ?? model.data?.text ?? "";
  // The diagram follows the text once it can be read; until then the editor says what is wrong.
  const [settled, setSettled] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), edited === null ? 0 : 300);
    return () => clearTimeout(timer);
  }, [text, edited]);
  const forms = useQuery({
    queryKey: ["forms", graph, model.data?.version, settled],
    queryFn: () => post<ModelForms>("/v1/models", { text: settled, graph }),
    enabled: settled !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
  useEffect(() => setPending(null), [forms.data]);
  if (model.error instanceof Problem) return <ProblemBox problem={model.error} />;
  if (!model.data) return <p className="empty" role="status">{say("Reading the model …")}</p>;
  const own = model.data;
  const shown = pending ?? forms.data?.types ?? own;
  const wrong = problem ?? (forms.error instanceof Problem ? forms.error : null);
  const attempt = (work: () => Promise<void>) => tried("", work);
  const back = () => { setEdited(null); setPending(null); setChoice(null); setProblem(null); setOutcome(null); };
  const check = () => attempt(async () => setOutcome({ kind: "report", report: await post(`/v1/graphs/${encodeURIComponent(graph ?? "")}/model/check`, { model: text }) }));
  const compare = () => attempt(async () => setOutcome({ kind: "diff", diff: await post(`/v1/graphs/${encodeURIComponent(graph ?? "")}/model/diff`, { model: text }), text }));
  const applied = async (version: number) => {
    await client.invalidateQueries();
    back();
    setOutcome({ kind: "said", text: say("{{graph}} has its new model; it is at version {{version}}.", { graph, version }) });
  };
  // The form changes the types, the service writes them as text, and the text is the truth.
  const change = (next: ModelTypes) => {
    setPending(next);
    setOutcome(null);
    void attempt(async () => {
      const bare = { name: next.name, node_types: next.node_types, edge_types: next.edge_types, cardinalities: next.cardinalities };
      const forms = await post<{ text: string }>("/v1/models", { types: bare });
      setEdited(before(text) + forms.text);
    });
  };
  return (
    <>
      <p className="faint">
        {own.closed ? say("The graph {{graph}} is closed: only what conforms to this type can be in it.", { graph }) : say("The graph {{graph}} is open: this is what is in it, in the form of a type. Applied to it, the type closes it.", { graph })}
        {own.lookups.length > 0 && <> {say("Beside the type: {{lookups}}.", { lookups: own.lookups.map((l) => l.replace(/^CREATE (KEY|INDEX) (\S+) OVER /, (_, what: string, name: string) => `${say(what.toLowerCase())} ${name}: `)).join("; ") })}</>}
      </p>
      <div className="model-frame">
        <div>
          {forms.data ? <ModelDiagram picture={forms.data.picture} choice={choice} onChoose={setChoice} /> : <p className="empty">{say("Drawing…")}</p>}
          <TypeForm types={shown} choice={choice} onChoose={setChoice} onChange={change} />
        </div>
        <div className="model-text">
          <Editor text={text} errors={wrong?.errors ?? []} names={undefined} onChange={(next) => { setEdited(next); setOutcome(null); }} onRun={() => void compare()} />
          <div className="tools">
            <Button size="sm" id="compare" onClick={() => void compare()} title={say("Ctrl+Enter")}>{say("Compare with the graph")}</Button>
            <Button size="sm" variant="outline-secondary" id="check" onClick={() => void check()}>{say("Check the graph against this text")}</Button>
            {edited !== null && edited !== own.text && <Button size="sm" variant="outline-secondary" id="back" onClick={back}>{say("Back to the graph's own")}</Button>}
          </div>
          {wrong && <ProblemBox problem={wrong} />}
          {outcome?.kind === "report" && <Report report={outcome.report} />}
          {outcome?.kind === "diff" && <ModelChange diff={outcome.diff} text={outcome.text} onApplied={(version) => void applied(version)} attempt={attempt} />}
          {outcome?.kind === "said" && <p className="status" role="status">{outcome.text}</p>}
        </div>
      </div>
    </>
  );
}

function Drafting({ onCreated }: { onCreated: (graph: string) => void }) {
  const navigate = useNavigate();
  const [files, setFiles] = useHeld<File[]>("draft files", []);
  const [name, setName] = useHeld("draft name", "draft", "reloads");
  const [draft, setDraft] = useHeld<Draft | null>("draft", null, "reloads");
  const { busy, problem, attempt: step } = useAttempt();
  const propose = () => step(say("Looking at the tables …"), async () => {
    const form = new FormData();
    form.append("name", name);
    files.forEach((file) => form.append(file.name, file, file.name));
    setDraft(await postForm<Draft>("/v1/drafts", form));
  });
  const create = () => step(say("Creating and loading …"), async () => {
    if (!draft) return;
    await post("/v1/query", { text: draft.model });
    const form = new FormData();
    form.append("mapping", draft.mapping);
    files.forEach((file) => form.append(file.name, file, file.name));
    await postForm(`/v1/graphs/${encodeURIComponent(name)}/loads`, form);
    onCreated(name);
    await navigate("/jobs");
  });
  return (
    <>
      <p>{say("Choose tables (CSV, TSV, JSON Lines, Parquet). The service looks at their columns, keys and references and proposes a model and a load mapping, with its reasons. Nothing is kept until you create the graph.")}</p>
      <div className="tools">
        <Form.Control type="file" size="sm" multiple className="files" aria-label={say("Tables")} accept=".csv,.tsv,.tab,.txt,.jsonl,.ndjson,.parquet" onChange={(e) => { setFiles([...((e.target as HTMLInputElement).files ?? [])]); if (files.length > 0) setDraft(null); }} />
        <Form.Control size="sm" className="name" aria-label={say("Name of the graph")} value={name} onChange={(e) => { setName(e.target.value); setDraft(null); }} />
        <Button size="sm" id="propose" disabled={files.length === 0 || busy !== null || name.trim() === ""} onClick={() => void propose()}>{say("Propose a model")}</Button>
        {draft && <Button size="sm" id="create" disabled={busy !== null || files.length === 0} onClick={() => void create()}>{say("Create the graph and load")}</Button>}
        <span className="status" role="status">{busy ?? (draft ? say("{{node_types}} node types and {{edge_types}} edge types", { node_types: draft.node_types, edge_types: draft.edge_types }) : "")}</span>
      </div>
      {draft && files.length === 0 && <Alert variant="warning" className="lost-files">{say("The draft is as it was, but a browser gives no page its files back: choose the tables again to load them.")}</Alert>}
      {problem && <ProblemBox problem={problem} />}
      {draft && (
        <>
          {draft.remarks.length > 0 && <details open={draft.remarks.length < 9}><summary>{say("To look at ({{remarks}})", { remarks: draft.remarks.length })}</summary><ul>{draft.remarks.map((r) => <li key={r}>{r}</li>)}</ul></details>}
          <div className="model-frame">
            <div><h3>{say("Model")}</h3><Editor text={draft.model} errors={problem?.errors ?? []} names={undefined} onChange={(model) => setDraft((d) => d && { ...d, model })} onRun={() => undefined} /></div>
            <div><h3>{say("Load mapping")}</h3><Form.Control as="textarea" className="mapping" aria-label={say("Load mapping")} spellCheck={false} value={draft.mapping} onChange={(e) => setDraft({ ...draft, mapping: e.target.value })} /></div>
          </div>
        </>
      )}
    </>
  );
}

export function ModelPage({ graph, onCreated }: { graph: string | null; onCreated: (graph: string) => void }) {
  const [chosen, setView] = useHeld<"model" | "draft" | null>("model view", null, "reloads");
  const view = chosen ?? (graph === null ? "draft" : "model");
  return (
    <main className="page model-page">
      <h1>{say("Model")}</h1>
      <div className="views">
        <Nav variant="underline" activeKey={view} onSelect={(key) => setView(key === "draft" ? "draft" : "model")}>
          <Nav.Item><Nav.Link eventKey="model">{graph ?? say("No graph yet")}</Nav.Link></Nav.Item>
          <Nav.Item><Nav.Link eventKey="draft">{say("Draft from tables")}</Nav.Link></Nav.Item>
        </Nav>
      </div>
      {view === "draft" ? <Drafting onCreated={onCreated} /> : graph === null ? <p className="empty">{say("There is no graph yet: draft one from tables, or write CREATE GRAPH on the Query page.")}</p> : <Existing key={graph} graph={graph} />}
    </main>
  );
}
