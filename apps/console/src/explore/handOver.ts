// A result of the Query page on its way to Explore.
import type { Json } from "../shared/api";

interface Handed {
  graph: string;
  text: string;
  rows: Json[][];
}

let waiting: Handed | null = null;

export function handOver(handed: Handed): void {
  waiting = handed;
}

export function handedOver(graph: string): Handed | null {
  const taken = waiting?.graph === graph ? waiting : null;
  if (taken) waiting = null;
  return taken;
}
