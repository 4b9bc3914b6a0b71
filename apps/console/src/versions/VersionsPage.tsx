// The Versions page: what each version was made by, what is different between two, and an earlier one as the newest.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Alert from "react-bootstrap/Alert";
import Badge from "react-bootstrap/Badge";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link } from "react-router-dom";
import { Problem, type VersionInfo, type Versions, get, post, put } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { name } from "../shared/quote";
import { Difference } from "./Difference";
import { figure, moment, say } from "../shared/words";

const COLOURS = { create: "secondary", commit: "secondary", load: "primary", model: "info", restore: "warning", fold: "secondary" } as const;

/** How much more or less than in the version before. */
function Step({ now, before }: { now: number | null; before: number | null | undefined }) {
  if (now === null) return null;
  const step = before === null || before === undefined ? 0 : now - before;
  return <>{figure(now)}{step !== 0 && <span className="faint"> ({step > 0 ? "+" : "−"}{figure(Math.abs(step))})</span>}</>;
}

function Keep({ graph, versions, onKept }: { graph: string; versions: Versions; onKept: () => void }) {
  const [count, setCount] = useState(String(versions.retention.versions));
  const [days, setDays] = useState(String(versions.retention.days));
  const { attempt, problem } = useAttempt();
  const wanted = { versions: Number(count), days: Number(days) };
  const fits = Number.isInteger(wanted.versions) && wanted.versions > 0 && Number.isInteger(wanted.days) && wanted.days >= 0;
  const changed = wanted.versions !== versions.retention.versions || wanted.days !== versions.retention.days;
  return (
    <Form className="tools" onSubmit={(e) => { e.preventDefault(); void attempt("keeping", async () => { await put(`/v1/graphs/${encodeURIComponent(graph)}/retention`, wanted); onKept(); }); }}>
      <label htmlFor="keep-versions">{say("Keep the newest")}</label>
      <Form.Control id="keep-versions" size="sm" type="number" min={1} className="short" value={count} onChange={(e) => setCount(e.target.value)} />
      <label htmlFor="keep-days">{say("versions, and those of the last")}</label>
      <Form.Control id="keep-days" size="sm" type="number" min={0} className="short" value={days} onChange={(e) => setDays(e.target.value)} />
      <span>{say("days")}</span>
      <Button size="sm" type="submit" variant="outline-secondary" disabled={!fits || !changed}>{say("Keep")}</Button>
      {problem && <span className="text-danger">{problem.message}</span>}
    </Form>
  );
}

export function VersionsPage({ graph }: { graph: string }) {
  const client = useQueryClient();
  const [limit, setLimit] = useState(50);
  const [from, setFrom] = useState<number | null>(null);
  const [to, setTo] = useState<number | null>(null);
  const [meant, setMeant] = useState<number | null>(null);
  const [said, setSaid] = useState("");
  const { attempt, problem, busy } = useAttempt();
  const path = `/v1/graphs/${encodeURIComponent(graph)}`;
  const versions = useQuery({ queryKey: ["versions", graph, limit], queryFn: () => get<Versions>(`${path}/versions?limit=${limit + 1}`), refetchInterval: 5000 });
  const refresh = () => Promise.all([client.invalidateQueries({ queryKey: ["versions", graph] }), client.invalidateQueries({ queryKey: ["graphs"] })]);
  const restore = (version: number) => attempt(say("Restoring"), async () => {
    const made = await post<{ version: number; nodes: number; edges: number }>(`${path}/restore`, { version });
    setSaid(say("{{graph}} is as it was in version {{version}}: {{nodes}} nodes and {{edges}} edges. It is at version {{newest}}.", { graph, version, nodes: figure(made.nodes), edges: figure(made.edges), newest: made.version }));
    setMeant(null);
    await refresh();
  });
  const verify = () => attempt(say("Reading all that is stored"), async () => {
    const found = await post<{ problems: string[]; segments: number; commits: number; bytes: number; newest: number; readable: number | null }>(`${path}/verify`, {});
    setSaid(found.problems.length === 0
      ? say("Everything stored is as it should be: {{segments}} segments and {{entries}} log entries, {{megabytes}} MB.", { segments: figure(found.segments), entries: figure(found.commits), megabytes: figure(found.bytes / 1e6, 1) })
      : `${found.problems.join(". ")}. ${found.readable === null ? say("No version can be read.") : say("It can be read up to version {{version}}.", { version: found.readable })}`);
  });
  const all = versions.data?.versions ?? [];
  const shown = all.slice(0, limit);
  const link = (version: VersionInfo) => `/?graph=${encodeURIComponent(graph)}&text=${encodeURIComponent(`USE ${name(graph)} AT VERSION ${version.version}\nMATCH (n)\nRETURN n\nLIMIT 25`)}`;
  return (
    <main className="page">
      <h1>{say("Versions of {{graph}}", { graph })}</h1>
      {versions.error instanceof Problem && <Alert variant="danger">{versions.error.message} {versions.error.hint}</Alert>}
      {problem && <Alert variant="danger">{problem.message} {problem.hint}</Alert>}
      <div className="tools">
        {versions.data && <Keep key={`${versions.data.retention.versions} ${versions.data.retention.days}`} graph={graph} versions={versions.data} onKept={() => void refresh()} />}
        <Button size="sm" variant="outline-secondary" disabled={busy !== null} onClick={() => void verify()}>{say("Verify what is stored")}</Button>
      </div>
      {busy !== null && <p className="empty" role="status">{busy}…</p>}
      {said !== "" && busy === null && <p className="status" role="status">{said}</p>}
      <p>{say("Choose two versions to see what is different between them.")} {versions.data && <span className="faint">{say("Versions {{oldest}} to {{newest}} can be read.", { oldest: versions.data.oldest, newest: versions.data.newest })}</span>}</p>
      <div className="scrolls" tabIndex={0} role="region" aria-label={say("Versions")}><Table size="sm" className="result versions">
        <thead><tr><th>{say("from")}</th><th>{say("to")}</th><th>{say("version")}</th><th>{say("kind")}</th><th>{say("when")}</th><th>{say("made by")}</th><th className="number">{say("written")}</th><th className="number">{say("nodes")}</th><th className="number">{say("edges")}</th><th><span className="visually-hidden">{say("what to do with it")}</span></th></tr></thead>
        <tbody>
          {shown.map((version, i) => (
            <tr key={version.version}>
              <td><Form.Check type="radio" name="from" aria-label={say("from version {{version}}", { version: version.version })} checked={from === version.version} onChange={() => setFrom(version.version)} /></td>
              <td><Form.Check type="radio" name="to" aria-label={say("to version {{version}}", { version: version.version })} checked={to === version.version} onChange={() => setTo(version.version)} /></td>
              <td className="number">{version.version}</td>
              <td><Badge bg={COLOURS[version.kind]} {...(version.kind === "model" || version.kind === "restore" ? { text: "dark" } : {})}>{say(version.kind)}</Badge></td>
              <td><time dateTime={version.at}>{moment(version.at)}</time></td>
              <td>{version.origin}</td>
              <td className="number">{version.changes === null ? "" : figure(version.changes)}</td>
              <td className="number"><Step now={version.nodes} before={all[i + 1]?.nodes} /></td>
              <td className="number"><Step now={version.edges} before={all[i + 1]?.edges} /></td>
              <td><div className="row-tools">
                <Link to={link(version)} className="btn btn-sm btn-outline-secondary">{say("Query it")}</Link>
                {version.version !== versions.data?.newest && (meant === version.version
                  ? <><Button size="sm" variant="warning" disabled={busy !== null} onClick={() => void restore(version.version)}>{say("Make version {{version}} the newest", { version: version.version })}</Button><Button size="sm" variant="link" onClick={() => setMeant(null)}>{say("No")}</Button></>
                  : <Button size="sm" variant="outline-secondary" onClick={() => setMeant(version.version)}>{say("Restore")}</Button>)}
              </div></td>
            </tr>
          ))}
        </tbody>
      </Table></div>
      {all.length > limit && <Button size="sm" variant="outline-secondary" onClick={() => setLimit(limit * 2)}>{say("Show earlier ones")}</Button>}
      {from !== null && to !== null && from !== to && <Difference key={`${from} ${to}`} graph={graph} from={from} to={to} />}
    </main>
  );
}
