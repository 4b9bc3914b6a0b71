// The Query page: sheets with an editor, parameters, run and cancel, and what came of it.
import { useQuery } from "@tanstack/react-query";
import { Suspense, lazy, useEffect, useRef, useState } from "react";
import Button from "react-bootstrap/Button";
import { Link, useSearchParams } from "react-router-dom";
import { Trans } from "react-i18next";
import { type Names, get } from "../shared/api";
import { useCallable } from "../shared/callable";
import { HistoryPanel } from "./HistoryPanel";
import { ParameterForm } from "./ParameterForm";
import { ResultPane } from "./ResultPane";
import { SavedPanel } from "./SavedPanel";
import { SheetTabs } from "./SheetTabs";
import { useChecked } from "./useChecked";
import { type RunKind, bring, run, setText, useSheets } from "./sheets";
import { say } from "../shared/words";

const Editor = lazy(() => import("../shared/Editor").then((m) => ({ default: m.Editor })));

const STARTERS: [string, string][] = [
  ["What is in the graph", "MATCH (element)\nRETURN LABELS(element) AS labels, COUNT(*) AS nodes\nORDER BY nodes DESC"],
  ["How labels are joined", "MATCH (a)-[e]->(b)\nRETURN LABELS(a) AS source, LABELS(e) AS edge, LABELS(b) AS target, COUNT(*) AS edges\nORDER BY edges DESC"],
  ["A few edges as a drawing", "MATCH way = (a)-[e]->(b)\nRETURN way\nLIMIT 30"],
];

export function QueryPage({ graph }: { graph: string | null }) {
  const { sheets, open } = useSheets();
  const sheet = sheets.find((s) => s.id === open) ?? sheets[0];
  const [panel, setPanel] = useState<"history" | "saved" | null>(null);
  const [selected, select] = useState("");
  const [asked, setAsked] = useSearchParams();
  const names = useQuery({ queryKey: ["names", graph], queryFn: () => get<Names>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/names`), enabled: graph !== null });
  const callable = useCallable();
  // A link may bring a query; it is never run by itself.
  const text = asked.get("text");
  const brought = useRef<string | null>(null);
  useEffect(() => {
    if (text === null || brought.current === text) return;
    brought.current = text;
    bring(text);
    setAsked((now) => {
      now.delete("text");
      return now;
    }, { replace: true });
  }, [text, setAsked]);
  const checked = useChecked(sheet?.text ?? "", sheet?.parameters ?? {}, graph);
  if (!sheet) return null;
  const running = sheet.run?.abort ?? null;
  const start = (kind: RunKind, of?: string) => void run(sheet.id, kind, of ?? (selected.trim() === "" ? sheet.text : selected), graph);
  const marks = sheet.marks.length > 0 ? sheet.marks : checked;
  return (
    <main className="page query">
      <h1 className="visually-hidden">{say("Query")}</h1>
      <SheetTabs sheets={sheets} open={sheet.id} />
      <Suspense fallback={<div className="editor-waits" />}><Editor key={sheet.id} text={sheet.text} errors={marks} names={names.data} measures={callable} onChange={(t) => setText(sheet.id, t)} onRun={(t) => start("query", t)} onSelect={select} /></Suspense>
      <ParameterForm sheet={sheet} />
      <div className="tools">
        <Button size="sm" id="run" disabled={running !== null} onClick={() => start("query")} title={say("Ctrl+Enter")}>{selected.trim() === "" ? say("Run") : say("Run the selection")}</Button>
        <Button size="sm" id="plan" variant="outline-secondary" disabled={running !== null} onClick={() => start("plan")}>{say("Plan")}</Button>
        <Button size="sm" id="profile" variant="outline-secondary" disabled={running !== null} onClick={() => start("profile")}>{say("Profile")}</Button>
        {running && <Button size="sm" variant="outline-danger" id="cancel" onClick={() => running.abort()}>{say("Cancel")}</Button>}
        <span className="spacer" />
        <Button size="sm" variant="outline-secondary" aria-expanded={panel === "saved"} onClick={() => setPanel(panel === "saved" ? null : "saved")}>{say("Saved queries")}</Button>
        <Button size="sm" variant="outline-secondary" aria-expanded={panel === "history"} onClick={() => setPanel(panel === "history" ? null : "history")}>{say("History")}</Button>
      </div>
      {panel === "history" && <HistoryPanel graph={graph} onTake={bring} />}
      {panel === "saved" && <SavedPanel text={sheet.text} onTake={bring} />}
      <ResultPane key={sheet.id} sheet={sheet} graph={graph} />
      {!sheet.run && (
        <div className="empty">
          {graph !== null ? (
            <>
              <p><Trans i18nKey="Write a query and press <kbd>Ctrl</kbd>+<kbd>Enter</kbd>. To begin with:" components={{ kbd: <kbd /> }} /></p>
              {STARTERS.map(([name, t]) => (
                <p key={name}><button type="button" className="example" onClick={() => {
                  const id = bring(t);
                  void run(id, "query", t, graph);
                }}>{say(name)} <code>{t.replaceAll("\n", " ")}</code></button></p>
              ))}
            </>
          ) : <p><Trans i18nKey="There is no graph yet: <load>load tables</load>, <draft>draft a model</draft> from them, or start the service with <code>graphodrome demo</code>." components={{ load: <Link to="/load" />, draft: <Link to="/model" />, code: <code /> }} /></p>}
        </div>
      )}
    </main>
  );
}
