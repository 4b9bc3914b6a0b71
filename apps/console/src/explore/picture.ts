// What is drawn: nodes and edges by id. Pictures are never changed; each step makes another.
import { type GraphElement, isElement } from "../shared/api";
import type { Json } from "../shared/json";
import { say } from "../shared/words";

export interface Picture {
  nodes: ReadonlyMap<string, GraphElement>;
  edges: ReadonlyMap<string, GraphElement>;
}

export const EMPTY: Picture = { nodes: new Map(), edges: new Map() };

/** More than this is not drawn: it would be a blot, and the page would stall. */
export const MOST_NODES = 20_000;

interface Found {
  nodes: Map<string, GraphElement>;
  edges: Map<string, GraphElement>;
}

function collect(value: Json | undefined, found: Found): void {
  if (value === null || value === undefined || typeof value !== "object") return;
  if (Array.isArray(value)) {
    value.forEach((v) => collect(v, found));
  } else if (isElement(value, "node")) {
    const element = value as unknown as GraphElement;
    if (found.nodes.size < MOST_NODES) found.nodes.set(element.id, element);
  } else if (isElement(value, "edge")) {
    const element = value as unknown as GraphElement;
    found.edges.set(element.id, element);
  } else {
    Object.values(value).forEach((v) => collect(v, found));
  }
}

/** The picture with the elements of these rows; an edge is drawn when both of its ends are. */
export function withRows(picture: Picture, rows: Json[][]): Picture {
  const found: Found = { nodes: new Map(picture.nodes), edges: new Map(picture.edges) };
  rows.forEach((row) => row.forEach((cell) => collect(cell, found)));
  return found;
}

export function without(picture: Picture, ids: ReadonlySet<string>): Picture {
  const nodes = new Map([...picture.nodes].filter(([id]) => !ids.has(id)));
  const edges = new Map([...picture.edges].filter(([id, e]) => !ids.has(id) && nodes.has(e.source ?? "") && nodes.has(e.target ?? "")));
  return { nodes, edges };
}

export function only(picture: Picture, ids: ReadonlySet<string>): Picture {
  return without(picture, new Set([...picture.nodes.keys()].filter((id) => !ids.has(id))));
}

export interface Bundle {
  id: string;
  source: string;
  target: string;
  label: string;
  directed: boolean;
  edges: GraphElement[];
}

/** Edges that are drawn as one line: of one label, between the same ends, the same way. */
export function bundled(picture: Picture): Bundle[] {
  const bundles = new Map<string, Bundle>();
  for (const edge of picture.edges.values()) {
    const [source, target] = [edge.source ?? "", edge.target ?? ""];
    if (!picture.nodes.has(source) || !picture.nodes.has(target)) continue;
    const label = edge.labels.join("&");
    const key = `${source} ${target} ${label} ${edge.directed !== false}`;
    const known = bundles.get(key);
    if (known) known.edges.push(edge);
    else bundles.set(key, { id: edge.id, source, target, label, directed: edge.directed !== false, edges: [edge] });
  }
  return [...bundles.values()];
}

export function labelCounts(elements: Iterable<GraphElement>): [string, number][] {
  const counts = new Map<string, number>();
  for (const element of elements) {
    const label = element.labels.join("&") || say("(no label)");
    counts.set(label, (counts.get(label) ?? 0) + 1);
  }
  return [...counts].sort(([a], [b]) => a.localeCompare(b));
}

/** Names of properties of these elements for which a value of one of them is `fits`. */
export function propertyNames(elements: Iterable<GraphElement>, fits: (value: Json) => boolean): string[] {
  const names = new Set<string>();
  for (const element of elements) {
    for (const [name, value] of Object.entries(element.properties)) if (fits(value)) names.add(name);
  }
  return [...names].sort();
}
