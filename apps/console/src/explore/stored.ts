// The steps of an exploration as text, for a reload: each element once, however many steps show it.
import type { GraphElement } from "../shared/api";
import { read, write } from "../shared/kept";
import type { Step } from "./useExploration";

interface Stored {
  elements: GraphElement[];
  steps: { what: string; query: string | null; nodes: string[]; edges: string[] }[];
  at: number;
}

/** More than this is not written down at each step: it would take longer than the step. */
const MOST_ELEMENTS = 8000;

export function storeSteps(graph: string, steps: Step[], at: number): void {
  const elements = new Map<string, GraphElement>();
  for (const { picture } of steps) {
    picture.nodes.forEach((node, id) => elements.set(id, node));
    picture.edges.forEach((edge, id) => elements.set(id, edge));
  }
  const key = `exploration ${graph}`;
  if (elements.size > MOST_ELEMENTS) {
    write(key, null);
    return;
  }
  const short = (step: Step) => ({ what: step.what, query: step.query, nodes: [...step.picture.nodes.keys()], edges: [...step.picture.edges.keys()] });
  write(key, { elements: [...elements.values()], steps: steps.map(short), at } satisfies Stored);
}

export function storedSteps(graph: string): { steps: Step[]; at: number } | null {
  const stored = read<Stored | null>(`exploration ${graph}`, null);
  if (stored === null || stored.steps.length === 0) return null;
  const elements = new Map(stored.elements.map((element) => [element.id, element]));
  const those = (ids: string[]) => new Map(ids.flatMap((id) => {
    const element = elements.get(id);
    return element ? [[id, element] as const] : [];
  }));
  const steps = stored.steps.map(({ what, query, nodes, edges }) => ({ what, query, picture: { nodes: those(nodes), edges: those(edges) } }));
  return { steps, at: Math.min(stored.at, steps.length - 1) };
}
