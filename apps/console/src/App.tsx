// The frame: pages, graph choice, light and dark.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Form from "react-bootstrap/Form";
import { NavLink, Route, Routes, useSearchParams } from "react-router-dom";
import { type GraphSummary, Problem, get } from "./api";
import { JobsPage } from "./JobsPage";
import { LoadPage } from "./LoadPage";
import { ModelPage } from "./ModelPage";
import { QueryPage } from "./QueryPage";

export function App() {
  const graphs = useQuery({ queryKey: ["graphs"], queryFn: () => get<GraphSummary[]>("/v1/graphs"), refetchInterval: 5000 });
  const [chosen, choose] = useState(() => localStorage.getItem("graph"));
  const [dark, setDark] = useState(() => (localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light")) === "dark");
  useEffect(() => {
    document.documentElement.dataset["bsTheme"] = dark ? "dark" : "light";
    localStorage.setItem("theme", dark ? "dark" : "light");
  }, [dark]);
  const select = (name: string) => {
    choose(name);
    localStorage.setItem("graph", name);
  };
  // A link may name a graph.
  const [asked] = useSearchParams();
  const wanted = asked.get("graph");
  useEffect(() => {
    if (wanted !== null) select(wanted);
  }, [wanted]);
  const known = graphs.data ?? [];
  const graph = known.find((g) => g.name === chosen) ?? known[0] ?? null;
  const count = (n: number) => n.toLocaleString("en");
  return (
    <>
      <header className="bar-top">
        <NavLink to="/" className="brand"><img src="/mark.svg" alt="" width="24" height="24" /> Graphodrome</NavLink>
        <nav aria-label="Pages">
          <NavLink to="/" end>Query</NavLink>
          <NavLink to="/model">Model</NavLink>
          <NavLink to="/load">Load</NavLink>
          <NavLink to="/jobs">Jobs</NavLink>
        </nav>
        <div className="chooser">
          <Form.Select size="sm" aria-label="Graph" value={graph?.name ?? ""} onChange={(e) => select(e.target.value)} disabled={known.length === 0}>
            {known.length === 0 && <option value="">no graph yet</option>}
            {known.map((g) => <option key={g.name} value={g.name}>{g.name}</option>)}
          </Form.Select>
          {graph && <span className="faint graph-size">{count(graph.nodes)} nodes, {count(graph.edges)} edges</span>}
          <button type="button" className="theme" onClick={() => setDark(!dark)} aria-label={dark ? "Light colours" : "Dark colours"}>{dark ? "☀" : "☾"}</button>
        </div>
      </header>
      {graphs.error instanceof Problem && <Alert variant="warning" className="m-2">{graphs.error.message} {graphs.error.hint}</Alert>}
      <Routes>
        <Route path="/" element={<QueryPage graph={graph?.name ?? null} />} />
        <Route path="/model" element={<ModelPage graph={graph?.name ?? null} onCreated={(name) => { select(name); void graphs.refetch(); }} />} />
        <Route path="/load" element={<LoadPage key={graph?.name} graph={graph?.name ?? null} />} />
        <Route path="/jobs" element={<JobsPage />} />
        <Route path="*" element={<main className="page"><h1>There is no such page</h1><p>The pages are <NavLink to="/">Query</NavLink>, <NavLink to="/model">Model</NavLink>, <NavLink to="/load">Load</NavLink> and <NavLink to="/jobs">Jobs</NavLink>.</p></main>} />
      </Routes>
    </>
  );
}
