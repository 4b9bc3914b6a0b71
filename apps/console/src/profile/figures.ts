// Numbers of plans as they are read.
import type { PlanTree } from "../shared/api";

export function count(n: number): string {
  if (n < 10 && n % 1 !== 0) return n.toFixed(1);
  return Math.round(n).toLocaleString("en");
}

export function rows(n: number): string {
  return `${count(n)} ${n === 1 ? "row" : "rows"}`;
}

export function walk(tree: PlanTree): PlanTree[] {
  return [tree, ...tree.inputs.flatMap(walk)];
}
