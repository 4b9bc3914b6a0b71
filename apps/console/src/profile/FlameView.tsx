// Where the time went, as bars: each operator as wide as the time that it and what is below it took, its inputs under it, and under a
// search its hops.
import { type PlanTree, duration } from "../shared/api";
import { say } from "../shared/words";

const LINE = 24;

/** A bar: from where to where, of the whole, and how far down. */
export interface Bar {
  key: string;
  name: string;
  tree: PlanTree;
  /** A hop of a search. */
  isHop: boolean;
  from: number;
  share: number;
  level: number;
  us: number;
}

/** The time of an operator with what is below it: never less than that of its parts, which may have run on several threads. */
function whole(tree: PlanTree): number {
  const below = tree.inputs.reduce((sum, input) => sum + whole(input), 0);
  return Math.max(0, tree.actual?.own_us ?? 0) + below;
}

/** The bars of a profile, from the result down. What takes less than a thousandth is left out with what is below it. */
export function bars(plan: PlanTree): Bar[] {
  const all = Math.max(whole(plan), 1e-9);
  const found: Bar[] = [];
  const walk = (tree: PlanTree, key: string, from: number, level: number) => {
    const us = whole(tree);
    if (us / all < 0.001) return;
    found.push({ key, name: tree.operator, tree, isHop: false, from, share: us / all, level, us });
    let next = from;
    tree.inputs.forEach((input, i) => {
      walk(input, `${key}.${i}`, next, level + 1);
      next += whole(input) / all;
    });
    const hops = tree.actual?.hops ?? [];
    const inHops = hops.reduce((sum, hop) => sum + hop.time_us, 0);
    const own = Math.max(0, tree.actual?.own_us ?? 0);
    const scale = inHops > own ? own / inHops : 1;
    hops.forEach((hop, i) => {
      const share = (hop.time_us * scale) / all;
      if (share >= 0.001) found.push({ key: `${key}/${i}`, name: say("hop {{hop}} {{side}}", { hop: hop.hop, side: say(hop.side) }), tree, isHop: true, from: next, share, level: level + 1, us: hop.time_us });
      next += share;
    });
  };
  walk(plan, "0", 0, 0);
  return found;
}

export function FlameView({ plan, chosen, onChoose }: { plan: PlanTree; chosen: PlanTree; onChoose: (tree: PlanTree) => void }) {
  const all = bars(plan);
  const levels = Math.max(0, ...all.map((bar) => bar.level)) + 1;
  return (
    <div className="flame" role="group" aria-label={say("Time by operator")} style={{ height: levels * LINE }}>
      {all.map((bar) => (
        <button
          key={bar.key} type="button" title={`${bar.name}: ${duration(bar.us)}${bar.isHop ? "" : `, ${say("{{time}} of its own", { time: duration(bar.tree.actual?.own_us ?? 0) })}`}`}
          className={`flame-bar${bar.isHop ? " is-hop" : ""}${bar.tree === chosen && !bar.isHop ? " is-chosen" : ""}`} aria-pressed={bar.tree === chosen && !bar.isHop}
          aria-label={say("{{name}}, {{time}}, {{share}} % of the time", { name: bar.name, time: duration(bar.us), share: Math.round(bar.share * 100) })}
          style={{ left: `${bar.from * 100}%`, width: `${bar.share * 100}%`, top: bar.level * LINE }} onClick={() => onChoose(bar.tree)}
        >
          {bar.share > 0.04 && <span>{bar.name} {duration(bar.us)}</span>}
        </button>
      ))}
    </div>
  );
}
