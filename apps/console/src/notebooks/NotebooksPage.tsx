// The Notebooks page: texts and queries with what came of them, kept by the service under names.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { useSearchParams } from "react-router-dom";
import { get, remove } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { forget } from "../shared/held";
import { ProblemBox } from "../shared/Problems";
import { NotebookView } from "./NotebookView";
import { type NotebookInfo, cell, kept, pathOf } from "./notebook";
import { moment, say } from "../shared/words";

export function NotebooksPage({ graph }: { graph: string | null }) {
  const all = useQuery({ queryKey: ["notebooks"], queryFn: () => get<NotebookInfo[]>("/v1/notebooks") });
  const [asked, setAsked] = useSearchParams();
  const [name, setName] = useState("");
  const { busy, problem, setProblem, attempt } = useAttempt();
  const open = asked.get("notebook");
  const go = (to: string | null) => setAsked((now) => {
    if (to === null) now.delete("notebook");
    else now.set("notebook", to);
    return now;
  });
  const begin = () => attempt("begin", async () => {
    const called = name.trim();
    await kept(called, 0, [cell("text", `# ${called}\n`), cell("query")]);
    setName("");
    await all.refetch();
    go(called);
  });
  const drop = (of: string) => attempt("remove", async () => {
    if (!confirm(say("Remove the notebook {{name}}? It cannot be brought back.", { name: of }))) return;
    await remove(pathOf(of));
    forget(`notebook ${of}`);
    await all.refetch();
    go(null);
  });
  const list = all.data ?? [];
  return (
    <main className="page notebooks-page">
      <h1 className="visually-hidden">{say("Notebooks")}</h1>
      <aside className="notebook-list" aria-label={say("Notebooks")}>
        <Form onSubmit={(e) => {
          e.preventDefault();
          void begin();
        }}>
          <Form.Control size="sm" aria-label={say("Name of a new notebook")} placeholder={say("name of a new notebook")} value={name} onChange={(e) => setName(e.target.value)} />
          <Button size="sm" type="submit" disabled={name.trim() === "" || busy !== null}>{say("Begin")}</Button>
        </Form>
        <ul>
          {list.map((n) => (
            <li key={n.name}>
              <button type="button" className={n.name === open ? "link is-open" : "link"} aria-current={n.name === open ? "true" : undefined} onClick={() => go(n.name)}>{n.name}</button>
              <span className="faint">{say("{{n}} cells", { count: n.cell_count })}, {moment(n.changed)}</span>
            </li>
          ))}
        </ul>
      </aside>
      <div>
        {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
        {open !== null ? <NotebookView key={open} name={open} graph={graph} onRemove={() => void drop(open)} />
          : <p className="empty">{say("A notebook is a page of texts and queries that keeps what came of them: for a report, a handover, a question that is asked again each month. Begin one by its name, open one, or put a result into one from the Query page (Into a notebook).")}</p>}
      </div>
    </main>
  );
}
