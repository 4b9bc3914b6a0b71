// Plain charts of a result: bars, lines, points, a histogram.
import { useMemo, useState } from "react";
import Form from "react-bootstrap/Form";
import { Trans } from "react-i18next";
import { Bar, BarChart, CartesianGrid, Line, LineChart, ResponsiveContainer, Scatter, ScatterChart, Tooltip, XAxis, YAxis } from "recharts";
import { type QueryResult, cellText } from "../shared/api";
import { number } from "./values";
import { figure, say } from "../shared/words";

type ChartForm = "bars" | "line" | "points" | "histogram";

const MOST = 2000;
const BINS = 24;

interface Point {
  x: string | number;
  y: number;
}

function histogram(values: number[]): Point[] {
  const [least, most] = [Math.min(...values), Math.max(...values)];
  const width = (most - least) / BINS || 1;
  const counts = new Array<number>(BINS).fill(0);
  values.forEach((v) => {
    const bin = Math.min(BINS - 1, Math.floor((v - least) / width));
    counts[bin] = (counts[bin] ?? 0) + 1;
  });
  return counts.map((y, i) => ({ x: String(Number((least + i * width).toPrecision(4))), y }));
}

export default function Chart({ result }: { result: QueryResult }) {
  const numeric = useMemo(() => result.columns.flatMap((c, i) => (result.rows.slice(0, 50).some((row) => number(row[i]) !== null) ? [{ name: c.name, i }] : [])), [result]);
  const first = result.columns.findIndex((_, i) => i !== numeric[0]?.i);
  const [form, setForm] = useState<ChartForm>("bars");
  const [x, setX] = useState(Math.max(0, first));
  const [y, setY] = useState(numeric[0]?.i ?? -1);
  const points = useMemo((): Point[] => {
    if (form === "histogram") {
      const values = result.rows.flatMap((row) => number(row[y]) ?? []);
      return values.length === 0 ? [] : histogram(values);
    }
    return result.rows.slice(0, MOST).flatMap((row) => {
      const value = number(row[y]);
      return value === null ? [] : [{ x: form === "points" ? (number(row[x]) ?? cellText(row[x])) : cellText(row[x]), y: value }];
    });
  }, [result, form, x, y]);
  if (numeric.length === 0) return <p className="empty"><Trans i18nKey="No column holds numbers: a chart needs one, as in <code>RETURN LABELS(n) AS labels, COUNT(*) AS nodes</code>." components={{ code: <code /> }} /></p>;
  const axis = { stroke: "var(--ink)", fontSize: 12, tickLine: false } as const;
  const tip = { contentStyle: { background: "var(--paper)", border: "1px solid var(--line)", color: "var(--ink)" } } as const;
  const grid = <CartesianGrid stroke="var(--line)" vertical={false} />;
  const margin = { top: 10, right: 20, bottom: 30, left: 20 };
  const yName = result.columns[y]?.name ?? "";
  return (
    <div className="chart">
      <div className="tools">
        <Form.Select size="sm" aria-label={say("Kind of chart")} value={form} onChange={(e) => setForm(e.target.value as ChartForm)}>
          <option value="bars">{say("bars")}</option><option value="line">{say("a line")}</option><option value="points">{say("points")}</option><option value="histogram">{say("histogram")}</option>
        </Form.Select>
        <Form.Select size="sm" aria-label={say("Values")} value={y} onChange={(e) => setY(Number(e.target.value))}>{numeric.map((n) => <option key={n.i} value={n.i}>{n.name}</option>)}</Form.Select>
        {form !== "histogram" && <><span>{say("by")}</span><Form.Select size="sm" aria-label={say("By")} value={x} onChange={(e) => setX(Number(e.target.value))}>{result.columns.map((c, i) => <option key={c.name} value={i}>{c.name}</option>)}</Form.Select></>}
        {result.rows.length > MOST && form !== "histogram" && <span className="faint">{say("the first {{rows}} rows", { rows: figure(MOST) })}</span>}
      </div>
      <ResponsiveContainer width="100%" height={380}>
        {form === "line" ? (
          <LineChart data={points} margin={margin}>{grid}<XAxis dataKey="x" {...axis} /><YAxis {...axis} /><Tooltip {...tip} /><Line dataKey="y" name={yName} stroke="var(--accent)" dot={points.length < 80} isAnimationActive={false} /></LineChart>
        ) : form === "points" ? (
          <ScatterChart margin={margin}>{grid}<XAxis dataKey="x" type={points.every((p) => typeof p.x === "number") ? "number" : "category"} name={result.columns[x]?.name ?? ""} domain={["auto", "auto"]} {...axis} /><YAxis dataKey="y" name={yName} {...axis} /><Tooltip {...tip} /><Scatter data={points} fill="var(--accent)" isAnimationActive={false} /></ScatterChart>
        ) : (
          <BarChart data={points} margin={margin}>{grid}<XAxis dataKey="x" {...axis} interval="preserveStartEnd" /><YAxis {...axis} /><Tooltip {...tip} cursor={{ fill: "var(--line)" }} /><Bar dataKey="y" name={form === "histogram" ? "rows" : yName} fill="var(--accent)" isAnimationActive={false} /></BarChart>
        )}
      </ResponsiveContainer>
    </div>
  );
}
