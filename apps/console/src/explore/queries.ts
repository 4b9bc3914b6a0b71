// Every step of an exploration as the query that it is.
import type { GraphElement } from "../shared/api";
import { amongCondition, name, nodePattern } from "../shared/quote";
import type { Picture } from "./picture";

export type Way = "out" | "in" | "undirected" | "any";

const EDGE: Record<Way, [string, string]> = { out: ["-", "->"], in: ["<-", "-"], undirected: ["~", "~"], any: ["-", "-"] };

function edge(way: Way, inside: string): string {
  const [before, after] = EDGE[way];
  return `${before}[${inside}]${after}`;
}

export function neighbourCounts(node: GraphElement): string {
  const pattern = nodePattern(node, "a");
  const count = (way: Way, from: string) =>
    `MATCH ${pattern}${edge(way, "e")}(b)\nRETURN LABELS(e) AS labels, '${from}' AS way, COUNT(*) AS edges`;
  return [count("out", "out"), count("in", "in"), count("undirected", "undirected")].join("\nUNION ALL\n");
}

export function neighbours(node: GraphElement, labels: string[], way: Way, limit: number): string {
  const label = labels.length === 0 ? "" : `:${labels.map(name).join("&")}`;
  return `MATCH ${nodePattern(node, "a")}${edge(way, `e${label}`)}(b)\nRETURN a, e, b\nLIMIT ${limit}`;
}

export interface PathWish {
  /** `""`: the fewest hops. */
  weight: string;
  way: Way;
  avoid: string[];
}

function avoiding(avoid: string[]): string {
  return avoid.length === 0 ? "" : `:${avoid.map((label) => `!${name(label)}`).join("&")}`;
}

export function pathBetween(a: GraphElement, b: GraphElement, wish: PathWish): string {
  const by = wish.weight === "" ? "" : ` BY e.${name(wish.weight)}`;
  return `MATCH p = ANY SHORTEST${by} ${nodePattern(a, "a")}${edge(wish.way, `e${avoiding(wish.avoid)}`)}+${nodePattern(b, "b")}\nRETURN p`;
}

/** What leads to a selection, or where it leads, with a shortest way to each. */
export function reach(from: GraphElement[], way: Way, hops: number, avoid: string[]): string {
  const condition = amongCondition(from, "a");
  return `MATCH p = ANY SHORTEST (a WHERE ${condition})${edge(way, `e${avoiding(avoid)}`)}{1,${hops}}(b)\nRETURN p\nLIMIT 2000`;
}

/** All edges between the nodes of a picture. */
export function edgesBetween(picture: Picture): string {
  const nodes = [...picture.nodes.values()];
  return `MATCH (a WHERE ${amongCondition(nodes, "a")})~[e]~>(b WHERE ${amongCondition(nodes, "b")})\nRETURN a, e, b`;
}

/** A picture's nodes with all edges between them: with edges of more labels than are drawn, where there are such. */
export function asQuery(picture: Picture): string {
  const nodes = [...picture.nodes.values()];
  const labels = [...new Set([...picture.edges.values()].flatMap((e) => e.labels))].sort();
  if (labels.length === 0) return `MATCH (a WHERE ${amongCondition(nodes, "a")})\nRETURN a`;
  return `MATCH (a WHERE ${amongCondition(nodes, "a")})\nOPTIONAL MATCH (a)~[e:${labels.map(name).join("|")}]~>(b WHERE ${amongCondition(nodes, "b")})\nRETURN a, e, b`;
}

export function found(text: string, properties: string[]): string {
  const like = `%${text.replaceAll("\\", "\\\\").replaceAll("'", "\\'")}%`;
  const where = properties.map((p) => `UPPER(CAST(n.${name(p)} AS STRING)) LIKE UPPER('${like}')`).join("\n   OR ");
  return `MATCH (n)\nWHERE ${where}\nRETURN n\nLIMIT 25`;
}

/** A measure's values for the nodes of a picture. */
export function measured(measure: string, column: string, picture: Picture): string {
  return `CALL ${measure}() YIELD node, ${column}\nFILTER ${amongCondition(picture.nodes.values(), "node")}\nRETURN ELEMENT_ID(node) AS id, ${column} AS value`;
}
