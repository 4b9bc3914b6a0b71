// Drawings that are kept by the service: what is drawn and how, under a name, for everybody who has the graph.
import { type Json, type QueryResult, ask, get, put } from "../shared/api";
import type { LayoutName, Places } from "./layout";
import type { Choices } from "./looks";
import { EMPTY, type Picture, withRows } from "./picture";
import { asQuery } from "./queries";

export interface DrawingInfo {
  name: string;
  revision: number;
  node_count: number;
  changed: string;
}

interface Content {
  query: string;
  nodes: string[];
  edges: string[];
  layout: LayoutName | null;
  fields: string[];
  colour_by: string;
  size_by: string;
  captions: Record<string, string>;
  edge_caption: string;
  outlined: boolean;
  places: Record<string, [number, number]>;
}

/** How a picture is drawn. */
export interface Arrangement {
  layout: LayoutName | null;
  fields: [string, string];
  choices: Choices;
  places: Places;
}

export interface Opened {
  revision: number;
  query: string;
  picture: Picture;
  arrangement: Arrangement;
  /** Elements that were drawn and are no longer in the graph. */
  gone: number;
}

export const drawingsPath = (graph: string): string => `/v1/graphs/${encodeURIComponent(graph)}/drawings`;
export const drawingPath = (graph: string, name: string): string => `${drawingsPath(graph)}/${encodeURIComponent(name)}`;

/** Rows of a drawing's query: more than any drawing has. */
const MOST_ROWS = 200_000;

export function contentOf(picture: Picture, { layout, fields, choices, places }: Arrangement): Content {
  const at = [...places].filter(([id]) => picture.nodes.has(id)).map(([id, { x, y }]) => [id, [Math.round(x * 10) / 10, Math.round(y * 10) / 10]] as const);
  return {
    query: asQuery(picture), nodes: [...picture.nodes.keys()], edges: [...picture.edges.keys()], layout, fields: fields.filter((f) => f !== ""),
    colour_by: choices.colourBy, size_by: choices.sizeBy, captions: choices.captions, edge_caption: choices.edgeCaption, outlined: choices.outlined === true,
    places: Object.fromEntries(at) as Content["places"],
  };
}

export function pictureOf(content: Pick<Content, "nodes" | "edges">, rows: QueryResult["rows"]): { picture: Picture; gone: number } {
  const all = withRows(EMPTY, rows);
  const [nodes, edges] = [new Set(content.nodes), new Set(content.edges)];
  const picture = {
    nodes: new Map([...all.nodes].filter(([id]) => nodes.has(id))),
    edges: new Map([...all.edges].filter(([id]) => edges.has(id))),
  };
  return { picture, gone: nodes.size + edges.size - picture.nodes.size - picture.edges.size };
}

export async function openDrawing(graph: string, name: string): Promise<Opened> {
  const { revision, content } = await get<{ revision: number; content: Content }>(drawingPath(graph, name));
  const { picture, gone } = pictureOf(content, (await ask(graph, content.query, MOST_ROWS)).rows);
  const places = new Map(Object.entries(content.places).map(([id, [x, y]]) => [id, { x, y }]));
  const choices = { colourBy: content.colour_by, sizeBy: content.size_by, captions: content.captions, edgeCaption: content.edge_caption, outlined: content.outlined };
  const arrangement = { layout: content.layout, fields: [content.fields[0] ?? "", content.fields[1] ?? ""] as [string, string], choices, places };
  return { revision, query: content.query, picture, arrangement, gone };
}

export function keepDrawing(graph: string, name: string, revision: number, picture: Picture, arrangement: Arrangement): Promise<void> {
  return put(drawingPath(graph, name), { revision, content: contentOf(picture, arrangement) as unknown as Json });
}
