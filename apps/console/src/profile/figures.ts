// Numbers of plans as they are read.
import type { PlanTree } from "../shared/api";

export function count(n: number): string {
  if (n < 10 && n % 1 !== 0) return n.toFixed(1);
  return Math.round(n).toLocaleString("en");
}

export function rows(n: number): string {
  return `${count(n)} ${n === 1 ? "row" : "rows"}`;
}

/** What all operators did together. */
export function work(tree: PlanTree, counter: "edges_looked" | "properties_read"): number {
  return walk(tree).reduce((sum, t) => sum + (t.actual?.[counter] ?? 0), 0);
}

export function walk(tree: PlanTree): PlanTree[] {
  return [tree, ...tree.inputs.flatMap(walk)];
}
