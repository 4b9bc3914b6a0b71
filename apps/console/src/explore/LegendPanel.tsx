// What colours mean, how many there are, and a filter.
import type { LegendEntry } from "./looks";
import { figure, say } from "../shared/words";

interface Properties {
  legend: LegendEntry[];
  off: ReadonlySet<string>;
  onOff: (off: ReadonlySet<string>) => void;
  onChoose: (ids: ReadonlySet<string>) => void;
  scale: { least: number; most: number } | null;
  by: string;
}

export function LegendPanel({ legend, off, onOff, onChoose, scale, by }: Properties) {
  if (legend.length === 0) return null;
  const toggle = (name: string) => {
    const next = new Set(off);
    if (!next.delete(name)) next.add(name);
    onOff(next);
  };
  return (
    <section className="side-part" aria-label={say("Legend")}>
      <h3>{by === "" ? say("Labels") : by.replace(":", ", ")}{scale && <span className="faint"> {say("{{least}} to {{most}}", { least: figure(Number(scale.least.toPrecision(4))), most: figure(Number(scale.most.toPrecision(4))) })}</span>}</h3>
      <ul className="legend">
        {legend.map((entry) => (
          <li key={entry.name} className={off.has(entry.name) ? "is-off" : ""}>
            <label><input type="checkbox" checked={!off.has(entry.name)} onChange={() => toggle(entry.name)} aria-label={say("Show {{name}}", { name: entry.name })} /> <span className="dot" style={{ background: entry.colour }} /></label>
            <button type="button" className="link" title={say("Choose all of them")} onClick={() => onChoose(new Set(entry.ids))}>{entry.name}</button>
            <span className="count">{figure(entry.count)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
