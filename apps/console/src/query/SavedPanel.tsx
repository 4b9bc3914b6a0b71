// Saved queries by folder; the text of the sheet can be kept as one.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { type SavedQuery, get, put, remove } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { ProblemBox } from "../shared/Problems";
import { parameterNames } from "./parameters";
import { say } from "../shared/words";

export function SavedPanel({ text, onTake }: { text: string; onTake: (text: string) => void }) {
  const saved = useQuery({ queryKey: ["saved"], queryFn: () => get<SavedQuery[]>("/v1/saved-queries") });
  const [name, setName] = useState("");
  const [folder, setFolder] = useState("");
  const [description, setDescription] = useState("");
  const { busy, problem, setProblem, attempt } = useAttempt();
  const folders = [...new Set((saved.data ?? []).map((s) => s.folder))].sort();
  const known = saved.data?.find((s) => s.name === name.trim());
  const keep = () => attempt("save", async () => {
    const before = known?.parameters ?? [];
    const parameters = parameterNames(text).map((p) => before.find((b) => b.name === p) ?? { name: p, type: "STRING", not_null: false });
    await put(`/v1/saved-queries/${encodeURIComponent(name.trim())}`, { folder, description, parameters, text });
    await saved.refetch();
  });
  const drop = (of: SavedQuery) => attempt("remove", async () => {
    if (!confirm(say("Remove the saved query {{name}}? Whoever calls it by its name gets an error then.", { name: of.name }))) return;
    await remove(`/v1/saved-queries/${encodeURIComponent(of.name)}`);
    await saved.refetch();
  });
  return (
    <section className="panel" aria-label={say("Saved queries")}>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      <Form className="tools" onSubmit={(e) => {
        e.preventDefault();
        void keep();
      }}>
        <Form.Control size="sm" className="name" aria-label={say("Name")} placeholder={say("name")} value={name} onChange={(e) => setName(e.target.value)} />
        <Form.Control size="sm" className="name" aria-label={say("Folder")} placeholder={say("folder")} list="folders" value={folder} onChange={(e) => setFolder(e.target.value)} />
        <datalist id="folders">{folders.map((f) => <option key={f} value={f} />)}</datalist>
        <Form.Control size="sm" className="description" aria-label={say("Description")} placeholder={say("what it answers")} value={description} onChange={(e) => setDescription(e.target.value)} />
        <Button size="sm" type="submit" disabled={busy !== null || name.trim() === "" || text.trim() === ""}>{known ? say("Save over it") : say("Save the sheet")}</Button>
      </Form>
      {saved.data?.length === 0 && <p className="faint">{say("No query is saved yet. A saved query can be called by its name, from the command line and over HTTP too.")}</p>}
      {folders.map((f) => (
        <div key={f}>
          {f !== "" && <h3>{f}</h3>}
          <ul>
            {saved.data?.filter((s) => s.folder === f).map((s) => (
              <li key={s.name}>
                <button type="button" className="link" onClick={() => {
                  onTake(s.text);
                  setName(s.name);
                  setFolder(s.folder);
                  setDescription(s.description);
                }}>{s.name}</button>
                <span className="faint">{s.description}{s.parameters.length > 0 ? ` (${s.parameters.map((p) => `$${p.name}`).join(", ")})` : ""}</span>
                <button type="button" className="link" onClick={() => void drop(s)}>{say("remove")}</button>
              </li>
            ))}
          </ul>
        </div>
      ))}
    </section>
  );
}
