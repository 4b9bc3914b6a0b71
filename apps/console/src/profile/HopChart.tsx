// The hops of a search as a chart: the frontier and the edges looked at, hop by hop and side by side.
import { useState } from "react";
import { type Hop, duration } from "../shared/api";
import { count } from "./figures";
import { say } from "../shared/words";

const HEIGHT = 130;

/** The hops that matter: the first, the widest, the slowest, the last. */
export function telling(hops: Hop[]): Hop[] {
  if (hops.length <= 8) return hops;
  const most = (by: (h: Hop) => number) => hops.reduce((a, b) => (by(b) > by(a) ? b : a));
  const kept = new Set([hops[0], hops[1], most((h) => h.frontier), most((h) => h.edges_looked), most((h) => h.time_us), most((h) => h.largest_degree), hops[hops.length - 1]]);
  return hops.filter((h) => kept.has(h));
}

function sideName(side: string): string {
  return side === "from" ? say("from the first end") : side === "to" ? say("from the second end") : say(side);
}

export function HopChart({ hops, name }: { hops: Hop[]; name: string }) {
  const [all, setAll] = useState(false);
  const sides = [...new Set(hops.map((h) => h.side))];
  const most = Math.max(1, ...hops.map((h) => h.edges_looked));
  const scale = (n: number) => (n <= 0 ? 0 : (Math.log10(n + 1) / Math.log10(most + 1)) * HEIGHT);
  const width = Math.max(6, Math.min(26, 900 / Math.max(1, hops.length)));
  const total = hops.reduce((sum, h) => sum + h.edges_looked, 0);
  const widest = hops.reduce((a, b) => (b.edges_looked > a.edges_looked ? b : a), hops[0] as Hop);
  const shown = all ? hops : telling(hops);
  return (
    <section className="hop-chart">
      <h3>{say("Hops of {{name}}", { name })}</h3>
      <p>
        {say("{{n}} hops", { count: hops.length })}, {say("{{edges}} edges looked at.", { edges: count(total) })}
        {total > 0 && ` ${say("Hop {{hop}} alone {{share}} %; its largest node has {{edges}} edges.", { hop: sides.length > 1 ? `${widest.hop} (${sideName(widest.side)})` : widest.hop, share: Math.round((widest.edges_looked / total) * 100), edges: count(widest.largest_degree) })}`}
        {total > 0 && widest.largest_node !== undefined && ` ${say("That is {{node}}.", { node: widest.largest_node })}`}
      </p>
      <div className="hop-scroll" tabIndex={0} role="region" aria-label={say("Chart of the hops of {{name}}", { name })}>
        <svg width={hops.length * (width + 3) + 46} height={HEIGHT + 34} role="img" aria-label={say("{{hops}} hops; the widest looked at {{edges}} edges", { hops: hops.length, edges: count(widest.edges_looked) })}>
          {hops.map((hop, i) => {
            const x = 44 + i * (width + 3);
            return (
              <g key={i}>
                <title>{say("hop {{hop}}, {{side}}: frontier {{frontier}}, edges {{edges}}, reached {{reached}}, {{time}}", { hop: hop.hop, side: say(hop.side), frontier: count(hop.frontier), edges: count(hop.edges_looked), reached: count(hop.reached), time: duration(hop.time_us) })}</title>
                <rect x={x} y={HEIGHT + 8 - scale(hop.edges_looked)} width={width} height={scale(hop.edges_looked)} className={hop.side === "to" ? "hop-edges is-to" : "hop-edges"} />
                <rect x={x + width * 0.28} y={HEIGHT + 8 - scale(hop.reached)} width={width * 0.44} height={scale(hop.reached)} className="hop-reached" />
                {(hops.length <= 24 || i % 5 === 0) && <text x={x + width / 2} y={HEIGHT + 22} textAnchor="middle">{hop.hop}</text>}
              </g>
            );
          })}
          <text x={0} y={14}>{count(most)}</text>
          <text x={0} y={HEIGHT + 8}>0</text>
        </svg>
      </div>
      <p className="faint hop-key"><span className="key-edges" /> {say("edges looked at")}{sides.length > 1 && <>, <span className="key-edges is-to" /> {say("from the second end")}</>} <span className="key-reached" /> {say("newly reached; heights are logarithmic")}</p>
      <div className="result-scroll" tabIndex={0} role="region" aria-label={say("Hops of {{name}}", { name })}>
        <table className="result hops">
          <thead><tr>{["hop", "side", "frontier", "edges looked at", "failed", "reached", "known", "largest degree", "time"].map((h) => <th key={h} scope="col">{say(h)}</th>)}</tr></thead>
          <tbody>
            {shown.map((hop, h) => (
              <tr key={h}>
                <td className="number">{hop.hop}</td><td>{say(hop.side)}</td><td className="number">{count(hop.frontier)}</td><td className="number">{count(hop.edges_looked)}</td>
                <td className="number">{count(hop.failed)}</td><td className="number">{count(hop.reached)}</td><td className="number">{count(hop.known)}</td>
                <td className="number">{count(hop.largest_degree)}</td><td className="number">{duration(hop.time_us)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {hops.length > shown.length && <button type="button" className="link" onClick={() => setAll(true)}>{say("all {{hops}} hops", { hops: hops.length })}</button>}
    </section>
  );
}
