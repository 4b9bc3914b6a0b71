// A column at a glance: how many values, which come most, the least and the greatest.
import { useMemo } from "react";
import { type Json, cellText } from "../shared/api";
import { inOrder, number } from "./values";
import { figure, say } from "../shared/words";

export function ColumnStatistics({ name, values, onClose }: { name: string; values: (Json | undefined)[]; onClose: () => void }) {
  const of = useMemo(() => {
    const counts = new Map<string, number>();
    let [nulls, sum, numbers] = [0, 0, 0];
    let least: Json | undefined;
    let most: Json | undefined;
    for (const value of values) {
      if (value === null || value === undefined) {
        nulls++;
        continue;
      }
      const text = cellText(value);
      counts.set(text, (counts.get(text) ?? 0) + 1);
      const n = number(value);
      if (n !== null) {
        sum += n;
        numbers++;
      }
      if (least === undefined || inOrder(value, least) < 0) least = value;
      if (most === undefined || inOrder(value, most) > 0) most = value;
    }
    const top = [...counts].sort(([, a], [, b]) => b - a).slice(0, 6);
    return { nulls, distinct: counts.size, top, least, most, mean: numbers > 0 && numbers === values.length - nulls ? sum / numbers : null };
  }, [values]);
  const facts = [
    say("{{n}} rows", { count: values.length }), say("{{nulls}} null", { nulls: figure(of.nulls) }), say("{{values}} different", { values: figure(of.distinct) }),
    ...(of.least === undefined ? [] : [say("from {{least}} to {{most}}", { least: cellText(of.least), most: cellText(of.most) })]),
    ...(of.mean === null ? [] : [say("mean {{mean}}", { mean: Number(of.mean.toPrecision(6)) })]),
  ];
  return (
    <section className="panel" aria-label={say("About {{name}}", { name })}>
      <div className="tools"><strong>{name}</strong><span className="faint">{facts.join(", ")}</span><span className="spacer" /><button type="button" className="btn btn-sm btn-outline-secondary" onClick={onClose}>{say("Close")}</button></div>
      <ul className="tops">{of.top.map(([text, n]) => <li key={text}><span className="bar" aria-hidden="true"><span style={{ width: `${(n / Math.max(1, values.length)) * 100}%` }} /></span> {figure(n)} × {text.slice(0, 80)}</li>)}</ul>
    </section>
  );
}
