// The Settings page: how the pages look, how a graph's labels look in drawings, and the keys.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import Form from "react-bootstrap/Form";
import { type Names, get, put } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { type GraphLooks, type LabelLook, looksPath, useLooks } from "../shared/looks";
import { PALETTE, labelColours } from "../shared/palette";
import { ProblemBox } from "../shared/Problems";
import { type Theme, setTheme, useTheme } from "../shared/theme";
import { LANGUAGES, say, setLanguage, useLanguage } from "../shared/words";

const THEMES: [Theme, string][] = [["light", "Light"], ["dark", "Dark"], ["system", "As the system has it"]];

const KEYS: [string, string][] = [
  ["Ctrl+Enter", "run the query, or the part that is selected"],
  ["Ctrl+Space", "what could stand here"],
  ["Ctrl+S", "save a notebook"],
  ["Escape", "close what is open; end writing a text"],
  ["Arrow keys", "from tab to tab, through a drawing's nodes"],
];

function Label({ name, look, usual, properties, onChange }: { name: string; look: LabelLook; usual: string; properties: string[]; onChange: (look: LabelLook) => void }) {
  const colour = look.colour ?? usual;
  const without = (field: keyof LabelLook) => Object.fromEntries(Object.entries(look).filter(([f]) => f !== field));
  return (
    <tr>
      <th scope="row"><span className="dot" style={{ background: colour }} /> {name}</th>
      <td>
        <div className="swatches" role="group" aria-label={say("Colour of {{name}}", { name })}>
          {PALETTE.map((c) => <button key={c} type="button" style={{ background: c }} aria-label={say("{{colour}} for {{name}}", { colour: c, name })} aria-pressed={c === colour} onClick={() => onChange({ ...look, colour: c })} />)}
          <input type="color" aria-label={say("Another colour for {{name}}", { name })} value={colour} onChange={(e) => onChange({ ...look, colour: e.target.value })} />
          {look.colour !== undefined && <button type="button" className="link" onClick={() => onChange(without("colour"))}>{say("by its name")}</button>}
        </div>
      </td>
      <td>
        <Form.Select size="sm" aria-label={say("Caption of {{name}}", { name })} value={look.caption ?? ""} onChange={(e) => onChange(e.target.value === "" ? without("caption") : { ...look, caption: e.target.value })}>
          <option value="">{say("its key")}</option>
          {properties.map((p) => <option key={p}>{p}</option>)}
        </Form.Select>
      </td>
    </tr>
  );
}

function Labels({ graph }: { graph: string }) {
  const client = useQueryClient();
  const looks = useLooks(graph);
  const names = useQuery({ queryKey: ["names", graph], queryFn: () => get<Names>(`/v1/graphs/${encodeURIComponent(graph)}/names`) });
  const { problem, setProblem, attempt } = useAttempt();
  const labels = names.data?.node_labels ?? [];
  // One after the other: an earlier change that is slow never writes over a later one.
  const saving = useRef({ last: 0, done: Promise.resolve<unknown>(undefined) });
  const change = (label: string, look: LabelLook) => attempt("keep", async () => {
    const queue = saving.current;
    const mine = ++queue.last;
    void client.cancelQueries({ queryKey: ["looks", graph] }, { revert: false });
    const now = client.getQueryData<GraphLooks>(["looks", graph]) ?? looks;
    const others = Object.entries(now.labels).filter(([l]) => l !== label);
    const all: GraphLooks = { labels: Object.fromEntries(Object.keys(look).length > 0 ? [...others, [label, look]] : others) };
    client.setQueryData(["looks", graph], all);
    queue.done = queue.done.catch(() => undefined).then(() => put(looksPath(graph), { labels: all.labels }));
    try {
      await queue.done;
    } finally {
      if (mine === queue.last) await client.invalidateQueries({ queryKey: ["looks", graph] });
    }
  });
  if (names.data && labels.length === 0) return <p className="empty">{say("There are no nodes in {{graph}} yet.", { graph })}</p>;
  return (
    <>
      {problem && <ProblemBox problem={problem} onClose={() => setProblem(null)} />}
      <div className="result-scroll" tabIndex={0} role="region" aria-label={say("Labels")}>
        <table className="table table-sm labels-table">
          <thead><tr><th scope="col">{say("Label")}</th><th scope="col">{say("Colour")}</th><th scope="col">{say("Caption")}</th></tr></thead>
          <tbody>{labels.map((l) => <Label key={l} name={l} look={looks.labels[l] ?? {}} usual={labelColours([l]).get(l) ?? "#34577a"} properties={names.data?.properties_of?.[l] ?? names.data?.node_properties ?? []} onChange={(look) => void change(l, look)} />)}</tbody>
        </table>
      </div>
    </>
  );
}

export function SettingsPage({ graph }: { graph: string | null }) {
  const theme = useTheme();
  const chosen = useLanguage();
  return (
    <main className="page settings-page">
      <h1>{say("Settings")}</h1>
      <section aria-label={say("Appearance")}>
        <h2>{say("Appearance")}</h2>
        <div role="radiogroup" aria-label={say("Appearance")}>
          {THEMES.map(([value, text]) => <Form.Check key={value} inline type="radio" id={`theme-${value}`} name="theme" label={say(text)} checked={theme === value} onChange={() => setTheme(value)} />)}
        </div>
        <p className="faint">{say("Of this browser alone.")}</p>
      </section>
      <section aria-label={say("Language")}>
        <h2>{say("Language")}</h2>
        <div role="radiogroup" aria-label={say("Language")}>
          {LANGUAGES.map(([value, name]) => <Form.Check key={value} inline type="radio" id={`language-${value}`} name="language" label={<span lang={value}>{name}</span>} checked={chosen === value} onChange={() => void setLanguage(value)} />)}
        </div>
        <p className="faint">{say("Of the pages. Queries, and what the service says of them (errors, plans, findings), are English.")}</p>
      </section>
      <section aria-label={say("Labels in drawings")}>
        <h2>{graph === null ? say("Labels in drawings") : say("Labels in drawings of {{graph}}", { graph })}</h2>
        <p className="faint">{say("Kept by the service, for everybody who draws this graph. A node of several labels looks as the first of them for which something is chosen.")}</p>
        {graph === null ? <p className="empty">{say("Choose a graph above.")}</p> : <Labels key={graph} graph={graph} />}
      </section>
      <section aria-label={say("Keys")}>
        <h2>{say("Keys")}</h2>
        <dl className="keys">{KEYS.map(([key, what]) => <div key={key}><dt><kbd>{say(key)}</kbd></dt><dd>{say(what)}</dd></div>)}</dl>
      </section>
    </main>
  );
}
