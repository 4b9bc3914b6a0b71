// A cell with a query, its parameters, and what came of it when it was last run.
import { Suspense, lazy } from "react";
import Form from "react-bootstrap/Form";
import type { Measure, Names, Problem } from "../shared/api";
import { ProblemBox } from "../shared/Problems";
import { Tabs } from "../shared/Tabs";
import { ResultTable } from "../query/ResultTable";
import { parameterNames } from "../query/parameters";
import { type Cell, type CellResult, type CellView, KEPT_ROWS, asAnswer } from "./notebook";
import { figure, moment, say } from "../shared/words";

const Editor = lazy(() => import("../shared/Editor").then((m) => ({ default: m.Editor })));
const Drawing = lazy(() => import("../query/Drawing"));
const Chart = lazy(() => import("../query/Chart"));

const VIEWS: [CellView, string][] = [["table", "Table"], ["drawing", "Drawing"], ["chart", "Chart"]];

function of(result: CellResult): string {
  const rows = say("{{n}} rows", { count: result.row_count });
  const shown = result.rows.length < result.row_count ? `, ${say("the first {{rows}} kept", { rows: figure(KEPT_ROWS) })}` : "";
  return `${rows}, ${result.graph}, ${say("version {{version}}", { version: result.version })}, ${moment(result.at)}${shown}`;
}

interface Properties {
  cell: Cell;
  editing: boolean;
  running: boolean;
  problem: Problem | null;
  names: Names | undefined;
  measures: Measure[];
  onEdit: (on: boolean) => void;
  onChange: (with_: Partial<Cell>) => void;
  onRun: () => void;
}

export function QueryCell({ cell, editing, running, problem, names, measures, onEdit, onChange, onRun }: Properties) {
  const parameters = parameterNames(cell.text);
  return (
    <>
      {editing || cell.text.trim() === "" ? (
        <Suspense fallback={<div className="editor-waits" />}>
          <Editor text={cell.text} errors={problem?.errors ?? []} names={names} measures={measures} onChange={(text) => {
            if (text === cell.text) return;
            onEdit(true);
            onChange({ text });
          }} onRun={onRun} waits={!editing} />
        </Suspense>
      ) : (
        <pre className="cell-query" title={say("Choose it to write")} onClick={() => onEdit(true)}>{cell.text}</pre>
      )}
      {parameters.length > 0 && (
        <fieldset className="parameters">
          <legend className="visually-hidden">{say("Parameters")}</legend>
          {parameters.map((name) => (
            <label key={name}><code>${name}</code>
              <Form.Control size="sm" value={cell.parameters[name] ?? ""} onChange={(e) => onChange({ parameters: { ...cell.parameters, [name]: e.target.value } })} />
            </label>
          ))}
        </fieldset>
      )}
      {problem && <ProblemBox problem={problem} />}
      {running && <p className="status" role="status">{say("Running …")}</p>}
      {cell.result && !running && (
        <div className="cell-result">
          <div className="views">
            <Tabs name={say("Views of the result")} tabs={VIEWS.map(([view, text]) => [view, say(text)])} open={cell.view} onOpen={(view) => onChange({ view })} />
            <span className="faint">{of(cell.result)}</span>
          </div>
          {cell.view === "table" && <ResultTable result={asAnswer(cell.result)} />}
          {cell.view === "drawing" && <Suspense fallback={<p className="empty">{say("Drawing…")}</p>}><Drawing result={asAnswer(cell.result)} onDrawn={(drawing) => drawing !== cell.drawing && onChange({ drawing })} /></Suspense>}
          {cell.view === "chart" && <Suspense fallback={<p className="empty">{say("Drawing…")}</p>}><Chart result={asAnswer(cell.result)} /></Suspense>}
        </div>
      )}
    </>
  );
}
