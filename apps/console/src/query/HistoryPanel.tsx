// What was run before: searched, by graph, pinned.
import { useState } from "react";
import Form from "react-bootstrap/Form";
import { duration } from "../shared/api";
import { type Past, forget, past, pin } from "./history";
import { moment, say } from "../shared/words";

export function HistoryPanel({ graph, onTake }: { graph: string | null; onTake: (text: string) => void }) {
  const [text, setText] = useState("");
  const [here, setHere] = useState(true);
  const [all, setAll] = useState(past);
  const shown = all
    .filter((p) => (!here || p.graph === graph) && p.text.toLowerCase().includes(text.toLowerCase()))
    .sort((a, b) => Number(b.pinned ?? false) - Number(a.pinned ?? false) || b.at - a.at);
  const after = (change: (p: Past) => void) => (p: Past) => {
    change(p);
    setAll(past());
  };
  return (
    <section className="panel" aria-label={say("History")}>
      <div className="tools">
        <Form.Control size="sm" type="search" aria-label={say("Search the history")} placeholder={say("Search the history")} value={text} onChange={(e) => setText(e.target.value)} />
        <Form.Check id="history-here" type="checkbox" label={say("this graph alone")} checked={here} onChange={(e) => setHere(e.target.checked)} />
      </div>
      {shown.length === 0 && <p className="faint">{all.length === 0 ? say("Nothing has been run in this browser yet.") : say("Nothing like it was run.")}</p>}
      <ul>
        {shown.slice(0, 100).map((p) => (
          <li key={`${p.graph} ${p.text}`}>
            <button type="button" className="link" onClick={() => onTake(p.text)}><code>{p.text.replace(/\s+/g, " ").slice(0, 160)}</code></button>
            <span className="faint">{p.graph}, {moment(p.at)}, {p.failed ?? `${say("{{n}} rows", { count: p.rows ?? 0 })}, ${duration(p.us ?? 0)}`}</span>
            <button type="button" className="link" onClick={() => after(pin)(p)}>{p.pinned ? say("unpin") : say("pin")}</button>
            <button type="button" className="link" onClick={() => after(forget)(p)}>{say("forget")}</button>
          </li>
        ))}
      </ul>
    </section>
  );
}
