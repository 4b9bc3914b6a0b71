// Numbers of plans as they are read.
import type { PlanTree } from "../shared/api";
import { figure, say } from "../shared/words";

export function count(n: number): string {
  if (n < 10 && n % 1 !== 0) return figure(n, 1);
  return figure(Math.round(n));
}

export function rows(n: number): string {
  return n === 1 ? say("1 row") : say("{{rows}} rows", { rows: count(n) });
}

/** What all operators did together. */
export function work(tree: PlanTree, counter: "edges_looked" | "properties_read"): number {
  return walk(tree).reduce((sum, t) => sum + (t.actual?.[counter] ?? 0), 0);
}

export function walk(tree: PlanTree): PlanTree[] {
  return [tree, ...tree.inputs.flatMap(walk)];
}
