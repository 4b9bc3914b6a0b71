// What is different between two versions, element by element; what comes is shown as it comes, up to so many.
import { useEffect, useState } from "react";
import Alert from "react-bootstrap/Alert";
import Badge from "react-bootstrap/Badge";
import Table from "react-bootstrap/Table";
import { type DifferenceLine, type DifferenceSummary, Problem, lines } from "../shared/api";
import type { Json } from "../shared/api";
import { figure, say } from "../shared/words";

/** Elements that are shown. */
const MOST = 500;

const COLOURS = { added: "success", changed: "info", removed: "danger" } as const;

function text(value: Json | undefined): string {
  if (value === undefined || value === null) return say("none");
  return typeof value === "string" ? value : JSON.stringify(value);
}

function What({ line }: { line: DifferenceLine }) {
  if (line.change !== "changed") {
    return <>{Object.entries(line.properties ?? {}).map(([name, value]) => `${name} ${text(value)}`).join(", ")}</>;
  }
  const { before, after } = line;
  return (
    <>
      {after?.labels && <div>{say("labels")} {before?.labels?.join("&")} → <strong>{after.labels.join("&")}</strong></div>}
      {after?.source !== undefined && <div>{say("from {{source}} to {{target}}", { source: before?.source ?? "", target: before?.target ?? "" })} → <strong>{say("from {{source}} to {{target}}", { source: after.source, target: after.target ?? "" })}</strong></div>}
      {Object.entries(after?.properties ?? {}).map(([name, value]) => <div key={name}>{name} {text(before?.properties[name])} → <strong>{text(value)}</strong></div>)}
    </>
  );
}

export function Difference({ graph, from, to }: { graph: string; from: number; to: number }) {
  const [found, setFound] = useState<DifferenceLine[]>([]);
  const [summary, setSummary] = useState<DifferenceSummary | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const path = `/v1/graphs/${encodeURIComponent(graph)}/difference?from_version=${from}&to_version=${to}`;
  useEffect(() => {
    const stop = new AbortController();
    const all: DifferenceLine[] = [];
    lines<DifferenceLine & { summary?: DifferenceSummary; error?: { detail: string } }>(path, stop.signal, (line) => {
      if (line.error) setProblem(new Problem(0, line.error.detail, undefined, []));
      else if (line.summary) setSummary(line.summary);
      else if (all.length < MOST) all.push(line);
    }).then(() => setFound(all)).catch((e: unknown) => {
      if (!stop.signal.aborted) setProblem(e instanceof Problem ? e : new Problem(0, String(e), undefined, []));
    });
    return () => stop.abort();
  }, [path]);
  const total = summary ? summary.added + summary.changed + summary.removed : 0;
  return (
    <section aria-label={say("Difference")} className="difference">
      <h2>{say("From version {{from}} to {{to}}", { from, to })}</h2>
      {problem && <Alert variant="danger">{problem.message}</Alert>}
      {summary && <p className="status" role="status">{total === 0 ? say("Nothing is different.") : say("{{added}} added, {{changed}} changed, {{removed}} removed.", { added: figure(summary.added), changed: figure(summary.changed), removed: figure(summary.removed) })} {total > MOST && say("The first {{elements}} are shown.", { elements: figure(MOST) })} {total > 0 && <a href={path} download={`${graph}-${from}-${to}.jsonl`}>{say("Download all as JSON Lines")}</a>}</p>}
      {!summary && !problem && <p className="empty" role="status">{say("Comparing…")}</p>}
      {found.length > 0 && (
        <div className="scrolls" tabIndex={0} role="region" aria-label={say("Elements")}><Table size="sm" className="result">
          <thead><tr><th>{say("change")}</th><th>{say("element")}</th><th>{say("what")}</th></tr></thead>
          <tbody>{found.map((line) => <tr key={line.id}><td><Badge bg={COLOURS[line.change]} {...(line.change === "changed" ? { text: "dark" } : {})}>{say(line.change)}</Badge></td><td>{line.name} <span className="faint">{line.id}</span></td><td><What line={line} /></td></tr>)}</tbody>
        </Table></div>
      )}
    </section>
  );
}
