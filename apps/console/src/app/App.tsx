// The frame: pages, graph choice, light and dark, and whether the service answers.
import { useQuery } from "@tanstack/react-query";
import { Suspense, lazy, useEffect, useMemo, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Form from "react-bootstrap/Form";
import { NavLink, Route, Routes, useSearchParams } from "react-router-dom";
import { Trans } from "react-i18next";
import { type GraphSummary, Problem, get } from "../shared/api";
import { read, write } from "../shared/kept";
import { setDark, useDark } from "../shared/theme";
import { QueryPage } from "../query/QueryPage";
import { figure, say } from "../shared/words";

const ExplorePage = lazy(() => import("../explore/ExplorePage"));
const ModelPage = lazy(() => import("../model/ModelPage").then((m) => ({ default: m.ModelPage })));
const LoadPage = lazy(() => import("../load/LoadPage").then((m) => ({ default: m.LoadPage })));
const NotebooksPage = lazy(() => import("../notebooks/NotebooksPage").then((m) => ({ default: m.NotebooksPage })));
const SettingsPage = lazy(() => import("../settings/SettingsPage").then((m) => ({ default: m.SettingsPage })));
const VersionsPage = lazy(() => import("../versions/VersionsPage").then((m) => ({ default: m.VersionsPage })));
const RunsPage = lazy(() => import("../runs/RunsPage").then((m) => ({ default: m.RunsPage })));
const JobsPage = lazy(() => import("../jobs/JobsPage").then((m) => ({ default: m.JobsPage })));

const PAGES: [string, string][] = [["/", "Query"], ["/explore", "Explore"], ["/notebooks", "Notebooks"], ["/model", "Model"], ["/load", "Load"], ["/versions", "Versions"], ["/runs", "Runs"], ["/jobs", "Jobs"], ["/settings", "Settings"]];

function NoGraph({ asked, known, onSelect }: { asked: string | null; known: GraphSummary[]; onSelect: (name: string) => void }) {
  return (
    <main className="page">
      <h1>{asked === null ? say("Choose a graph") : say("There is no graph {{asked}}", { asked })}</h1>
      {asked !== null && <p>{say("The link names it. Nothing was run. It may have been dropped or renamed.")}{known.length > 0 && ` ${say("The graphs that are there:")}`}</p>}
      {known.length > 0 ? (
        <ul className="choices">{known.map((g) => <li key={g.name}><button type="button" className="example" onClick={() => onSelect(g.name)}>{g.name} <span className="faint">{say("{{nodes}} nodes, {{edges}} edges", { nodes: figure(g.nodes), edges: figure(g.edges) })}</span></button></li>)}</ul>
      ) : <p><Trans i18nKey="There is none yet: <load>load tables</load>, <draft>draft a model</draft> from them, or start the service with <code>graphodrome demo</code>." components={{ load: <NavLink to="/load" />, draft: <NavLink to="/model" />, code: <code /> }} /></p>}
    </main>
  );
}

export function App() {
  const graphs = useQuery({ queryKey: ["graphs"], queryFn: () => get<GraphSummary[]>("/v1/graphs"), refetchInterval: 3000, retry: false });
  const [asked, setAsked] = useSearchParams();
  const wanted = asked.get("graph");
  // A link's graph counts before the one that was chosen last, in this tab or in any.
  const [chosen, choose] = useState<string | null>(() => read<string | null>("graph", localStorage.getItem("graph")));
  const dark = useDark();
  const known = useMemo(() => graphs.data ?? [], [graphs.data]);
  const select = (name: string) => {
    choose(name);
    write("graph", name);
    localStorage.setItem("graph", name);
    setAsked((now) => {
      if (now.has("graph")) now.set("graph", name);
      return now;
    }, { replace: true });
  };
  useEffect(() => {
    if (wanted !== null && known.some((g) => g.name === wanted)) {
      choose(wanted);
      write("graph", wanted);
    }
  }, [wanted, known]);
  const missing = wanted !== null && graphs.data !== undefined && !known.some((g) => g.name === wanted) ? wanted : null;
  const graph = missing !== null ? null : (known.find((g) => g.name === (wanted ?? chosen)) ?? (known.length === 1 || chosen !== null ? known[0] : undefined) ?? null);
  const away = graphs.error instanceof Problem && graphs.error.status === 0;
  const needed = <NoGraph asked={missing} known={known} onSelect={select} />;
  return (
    <>
      <header className="bar-top">
        <NavLink to="/" className="brand"><img src="/mark.svg" alt="" width="24" height="24" /> Graphodrome</NavLink>
        <nav aria-label={say("Pages")}>{PAGES.map(([to, text]) => <NavLink key={to} to={to} end={to === "/"}>{say(text)}</NavLink>)}</nav>
        <div className="chooser">
          <Form.Select size="sm" aria-label={say("Graph")} value={graph?.name ?? ""} onChange={(e) => select(e.target.value)} disabled={known.length === 0}>
            {graph === null && <option value="">{known.length === 0 ? say("no graph yet") : say("choose a graph")}</option>}
            {known.map((g) => <option key={g.name} value={g.name}>{g.name}</option>)}
          </Form.Select>
          {graph && <span className="faint graph-size">{say("{{nodes}} nodes, {{edges}} edges", { nodes: figure(graph.nodes), edges: figure(graph.edges) })}</span>}
          <button type="button" className="theme" onClick={() => setDark(!dark)}>{dark ? say("Light") : say("Dark")}</button>
        </div>
      </header>
      {away && <Alert variant="warning" className="m-2" role="status">{say("The service does not answer. Nothing here is lost; the page goes on when it is back.")}</Alert>}
      {!away && graphs.error instanceof Problem && <Alert variant="warning" className="m-2">{graphs.error.message} {graphs.error.hint}</Alert>}
      <Suspense fallback={<main className="page"><p className="empty" role="status">{say("Opening…")}</p></main>}>
        <Routes>
          <Route path="/" element={missing !== null || (graph === null && known.length > 1) ? needed : <QueryPage graph={graph?.name ?? null} />} />
          <Route path="/explore" element={graph === null ? (graphs.data ? needed : null) : <ExplorePage key={graph.name} graph={graph.name} />} />
          <Route path="/notebooks" element={<NotebooksPage graph={graph?.name ?? null} />} />
          <Route path="/model" element={<ModelPage graph={graph?.name ?? null} onCreated={(name) => { select(name); void graphs.refetch(); }} />} />
          <Route path="/load" element={<LoadPage key={graph?.name} graph={graph?.name ?? null} />} />
          <Route path="/versions" element={graph === null ? (graphs.data ? needed : null) : <VersionsPage key={graph.name} graph={graph.name} />} />
          <Route path="/runs" element={<RunsPage graph={graph?.name ?? null} />} />
          <Route path="/jobs" element={<JobsPage />} />
          <Route path="/settings" element={<SettingsPage graph={graph?.name ?? null} />} />
          <Route path="*" element={<main className="page"><h1>{say("There is no such page")}</h1><p>{say("The pages are")} {PAGES.map(([to, text], i) => <span key={to}>{i > 0 ? ", " : ""}<NavLink to={to}>{say(text)}</NavLink></span>)}.</p></main>} />
        </Routes>
      </Suspense>
    </>
  );
}
