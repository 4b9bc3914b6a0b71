// Places nodes, apart from the page so that it never stalls.
import * as dagre from "@dagrejs/dagre";
import { forceCollide, forceLink, forceManyBody, forceSimulation, forceX, forceY, type SimulationLinkDatum, type SimulationNodeDatum } from "d3-force";

export type LayoutName = "force" | "layered" | "circle" | "rings" | "timeline" | "map" | "groups";

export interface LayoutRequest {
  id: number;
  name: LayoutName;
  nodes: { x: number | null; y: number | null; group: string; first: number | null; second: number | null }[];
  edges: [number, number][];
  /** Width over height of what it is drawn on. */
  aspect: number;
}

export interface LayoutAnswer {
  id: number;
  places: [number, number][];
}

interface Place extends SimulationNodeDatum {
  index: number;
}

interface Forces {
  /** How often all forces are added up. */
  ticks: number;
  link: number;
  charge: number;
  collide: number;
  /** Nodes further away than that do not push each other. */
  reach: number;
  /** How coarsely the pushes of far nodes are put together (Barnes and Hut). */
  coarse: number;
  /** From 1, where nodes move freely, to 0. */
  warmth: number;
}

/** Moves the places by forces; each is drawn towards its centre. */
function settle(places: Place[], edges: [number, number][], forces: Forces, aspect: number, centre: (p: Place) => [number, number] = () => [0, 0], pull = 0.045): void {
  const degree = new Array<number>(places.length).fill(0);
  edges.forEach(([a, b]) => {
    degree[a] = (degree[a] ?? 0) + 1;
    degree[b] = (degree[b] ?? 0) + 1;
  });
  const simulation = forceSimulation(places)
    .force("link", forceLink<Place, SimulationLinkDatum<Place>>(edges.map(([source, target]) => ({ source, target }))).distance(forces.link).strength((link) => 1 / Math.min(degree[(link.source as Place).index] ?? 1, degree[(link.target as Place).index] ?? 1)))
    .force("charge", forceManyBody().strength(forces.charge).distanceMax(forces.reach).theta(forces.coarse))
    .force("x", forceX<Place>((p) => centre(p)[0]).strength(pull / Math.max(aspect, 1)))
    .force("y", forceY<Place>((p) => centre(p)[1]).strength(pull * Math.min(aspect, 1.6)))
    .stop();
  if (forces.collide > 0) simulation.force("collide", forceCollide(forces.collide));
  simulation.alpha(forces.warmth).alphaDecay(1 - Math.pow(0.001 / forces.warmth, 1 / forces.ticks));
  for (let i = 0; i < forces.ticks; i++) simulation.tick();
}

/** Places without a random number: the same graph is drawn the same way. */
function spiral(count: number, index: number): [number, number] {
  const [angle, radius] = [index * 2.399963, 30 * Math.sqrt(count) * Math.sqrt((index + 1) / count)];
  return [radius * Math.cos(angle), radius * Math.sin(angle)];
}

interface Level {
  count: number;
  edges: [number, number][];
  /** The node of the next, coarser level that each node is part of. */
  within: number[];
}

/** A graph of about half as many nodes: neighbours are put together, those of few edges first; one whose neighbours
 * are all taken joins them. */
export function halved(count: number, edges: [number, number][]): Level {
  const around: number[][] = Array.from({ length: count }, () => []);
  for (const [a, b] of edges) {
    if (a === b) continue;
    around[a]?.push(b);
    around[b]?.push(a);
  }
  const order = Array.from({ length: count }, (_, i) => i).sort((a, b) => (around[a]?.length ?? 0) - (around[b]?.length ?? 0) || a - b);
  const within = new Array<number>(count).fill(-1);
  let next = 0;
  for (const node of order) {
    if (within[node] !== -1) continue;
    const free = around[node]?.find((other) => within[other] === -1 && other !== node);
    const near = around[node]?.[0];
    if (free !== undefined) within[node] = within[free] = next++;
    else within[node] = near === undefined ? next++ : (within[near] ?? next++);
  }
  return { count, edges, within };
}

/** Edges between the parts, each pair once. */
function between({ edges, within }: Level): [number, number][] {
  const seen = new Map<string, [number, number]>();
  for (const [a, b] of edges) {
    const [x = 0, y = 0] = [within[a], within[b]];
    if (x !== y) seen.set(x < y ? `${x} ${y}` : `${y} ${x}`, [x, y]);
  }
  return [...seen.values()];
}

/** From this many nodes on the whole is laid out before its parts (multilevel, Walshaw 2003): forces alone would
 * leave a large graph as tangled as it began. */
const LEVELS_FROM = 800;
const COARSEST = 200;

/** Lays out a small graph of the whole first, then lets its nodes come apart into theirs, level by level. */
export function levelled(count: number, edges: [number, number][], aspect: number): [number, number][] {
  const levels: Level[] = [];
  let [left, of] = [count, edges];
  while (left > COARSEST) {
    const level = halved(left, of);
    const parts = level.within.reduce((most, part) => Math.max(most, part), -1) + 1;
    // Islands do not shrink.
    if (parts > left * 0.9) break;
    levels.push(level);
    of = between(level);
    left = parts;
  }
  let places: Place[] = Array.from({ length: left }, (_, index) => {
    const [x, y] = spiral(left, index);
    return { index, x, y };
  });
  settle(places, of, { ticks: left > 2000 ? 80 : left > 500 ? 120 : 250, link: 55, charge: -170, collide: 0, reach: 1200, coarse: 0.9, warmth: 1 }, aspect);
  for (const level of levels.reverse()) {
    const parts = places;
    const grown = Math.sqrt(level.count / Math.max(parts.length, 1));
    places = Array.from({ length: level.count }, (_, index) => {
      const part = parts[level.within[index] ?? 0];
      return { index, x: (part?.x ?? 0) * grown + 8 * Math.cos(index * 2.399963), y: (part?.y ?? 0) * grown + 8 * Math.sin(index * 2.399963) };
    });
    const large = level.count > 5000;
    settle(places, level.edges, { ticks: large ? 16 : 30, link: 55, charge: -170, collide: level.count === count && !large ? 17 : 0, reach: large ? 350 : 700, coarse: large ? 1.4 : 1, warmth: 0.35 }, aspect);
  }
  return places.map((p) => [p.x ?? 0, p.y ?? 0]);
}

function force({ nodes, edges, aspect }: LayoutRequest, centres?: Map<string, [number, number]>): [number, number][] {
  const known = nodes.filter((n) => n.x !== null).length;
  if (known === 0 && !centres && nodes.length >= LEVELS_FROM) return levelled(nodes.length, edges, aspect);
  // Nodes that have a place keep it when others come; all are moved where none has one.
  const keeps = known > 0 && known < nodes.length;
  const neighbours = new Map<number, number>();
  for (const [a, b] of edges) {
    if (nodes[a]?.x != null) neighbours.set(b, a);
    if (nodes[b]?.x != null) neighbours.set(a, b);
  }
  const places: Place[] = nodes.map((n, index) => {
    if (n.x !== null && n.y !== null) return keeps ? { index, x: n.x, y: n.y, fx: n.x, fy: n.y } : { index, x: n.x, y: n.y };
    const near = nodes[neighbours.get(index) ?? -1];
    const angle = index * 2.399963;
    const [dx, dy] = near?.x != null ? [60 * Math.cos(angle), 60 * Math.sin(angle)] : spiral(nodes.length, index);
    const [cx, cy] = centres?.get(n.group) ?? [near?.x ?? 0, near?.y ?? 0];
    return { index, x: cx + dx * (centres ? 0.3 : 1), y: cy + dy * (centres ? 0.3 : 1) };
  });
  const small = nodes.length < 60;
  const ticks = nodes.length > 5000 ? 60 : nodes.length > 1000 ? 110 : nodes.length > 300 ? 200 : 300;
  const forces = { ticks, link: small ? 105 : 55, charge: small ? -520 : -170, collide: small ? 34 : 17, reach: 900, coarse: 0.9, warmth: 1 };
  const centre = (p: Place) => centres?.get(nodes[p.index]?.group ?? "") ?? ([0, 0] as [number, number]);
  settle(places, edges, forces, aspect, centre, centres ? 0.25 : 0.045);
  return places.map((p) => [p.x ?? 0, p.y ?? 0]);
}

function layered({ nodes, edges, aspect }: LayoutRequest): [number, number][] {
  const graph = new dagre.graphlib.Graph({ multigraph: true });
  graph.setGraph({ rankdir: aspect >= 1 ? "LR" : "TB", nodesep: 26, ranksep: 90 });
  graph.setDefaultEdgeLabel(() => ({}));
  nodes.forEach((_, i) => graph.setNode(String(i), { width: 60, height: 30 }));
  edges.forEach(([a, b], i) => graph.setEdge(String(a), String(b), {}, String(i)));
  dagre.layout(graph);
  const places = nodes.map((_, i) => {
    const place = graph.node(String(i)) as unknown as { x: number; y: number };
    return [place.x, place.y] as [number, number];
  });
  return folded(places, aspect);
}

/** A row of layers that is far longer than the frame goes on below, back and forth. */
function folded(places: [number, number][], aspect: number): [number, number][] {
  const across = aspect >= 1 ? 0 : 1;
  const along = places.map((p) => p[across]);
  const beside = places.map((p) => p[1 - across] ?? 0);
  const length = Math.max(...along) - Math.min(...along);
  const height = Math.max(...beside) - Math.min(...beside) + 90;
  const shape = aspect >= 1 ? aspect : 1 / aspect;
  const rows = Math.floor(Math.sqrt(length / height / shape));
  const layers = [...new Set(along)].sort((a, b) => a - b);
  if (rows < 2 || layers.length < 8) return places;
  const each = Math.ceil(layers.length / rows);
  const step = length / Math.max(1, layers.length - 1);
  return places.map((_, i) => {
    const at = layers.indexOf(along[i] ?? 0);
    const row = Math.floor(at / each);
    const column = row % 2 === 0 ? at % each : each - 1 - (at % each);
    const [x, y] = [column * step, row * height + (beside[i] ?? 0)];
    return across === 0 ? [x, y] : [y, x];
  });
}

function circle({ nodes }: LayoutRequest): [number, number][] {
  const radius = Math.max(80, (nodes.length * 44) / (2 * Math.PI));
  const order = nodes.map((n, i) => ({ group: n.group, i })).sort((a, b) => a.group.localeCompare(b.group) || a.i - b.i);
  const places = new Array<[number, number]>(nodes.length);
  order.forEach(({ i }, at) => {
    const angle = (at / nodes.length) * 2 * Math.PI - Math.PI / 2;
    places[i] = [radius * Math.cos(angle), radius * Math.sin(angle)];
  });
  return places;
}

/** Rings around the node of most edges, by hops. */
function rings({ nodes, edges }: LayoutRequest): [number, number][] {
  const around: number[][] = nodes.map(() => []);
  edges.forEach(([a, b]) => {
    around[a]?.push(b);
    around[b]?.push(a);
  });
  const depth = new Array<number>(nodes.length).fill(-1);
  const order = nodes.map((_, i) => i).sort((a, b) => (around[b]?.length ?? 0) - (around[a]?.length ?? 0));
  let base = 0;
  for (const start of order) {
    if (depth[start] !== -1) continue;
    depth[start] = base;
    const queue = [start];
    for (let at = 0; at < queue.length; at++) {
      const node = queue[at] ?? 0;
      for (const other of around[node] ?? []) {
        if (depth[other] === -1) {
          depth[other] = (depth[node] ?? 0) + 1;
          queue.push(other);
        }
      }
    }
    base = 1;
  }
  const levels: number[][] = [];
  depth.forEach((d, i) => (levels[d] ??= []).push(i));
  const places = new Array<[number, number]>(nodes.length);
  let radius = 0;
  levels.forEach((level, d) => {
    radius = d === 0 && level.length === 1 ? 0 : Math.max(radius + 90, (level.length * 46) / (2 * Math.PI));
    level.forEach((i, at) => {
      const angle = (at / level.length) * 2 * Math.PI + d * 0.5;
      places[i] = [radius * Math.cos(angle), radius * Math.sin(angle)];
    });
  });
  return places;
}

/** Along a date from left to right; what has none stands to the left. Those at one place are stacked. */
function timeline({ nodes }: LayoutRequest): [number, number][] {
  const dates = nodes.flatMap((n) => (n.first === null ? [] : [n.first]));
  const [least, most] = [Math.min(...dates), Math.max(...dates)];
  const columns = Math.max(8, Math.ceil(Math.sqrt(nodes.length) * 2));
  const heights = new Map<number, number>();
  return nodes.map((n) => {
    const column = n.first === null || dates.length === 0 ? -1 : Math.round(((n.first - least) / Math.max(most - least, 1e-9)) * columns);
    const height = heights.get(column) ?? 0;
    heights.set(column, height + 1);
    return [column * 80, (height % 2 === 0 ? height : -height - 1) * 24];
  });
}

function map({ nodes }: LayoutRequest): [number, number][] {
  const known = nodes.filter((n) => n.first !== null && n.second !== null);
  const spans = (of: (n: LayoutRequest["nodes"][number]) => number | null) => {
    const values = known.map((n) => of(n) ?? 0);
    return [Math.min(...values), Math.max(...values)] as const;
  };
  const [x0, x1] = spans((n) => n.first);
  const [y0, y1] = spans((n) => n.second);
  const scale = (30 * Math.sqrt(nodes.length) + 400) / Math.max(x1 - x0, y1 - y0, 1e-9);
  let missing = 0;
  return nodes.map((n) =>
    n.first === null || n.second === null
      ? [((missing++ % 30) - 1) * 40, (y1 - y0) * scale + 80 + Math.floor(missing / 30) * 40]
      : [(n.first - x0) * scale, (y1 - n.second) * scale],
  );
}

function groups(request: LayoutRequest): [number, number][] {
  const sizes = new Map<string, number>();
  request.nodes.forEach((n) => sizes.set(n.group, (sizes.get(n.group) ?? 0) + 1));
  const names = [...sizes.keys()].sort();
  const across = Math.ceil(Math.sqrt(names.length * request.aspect));
  const cell = Math.max(...[...sizes.values()].map((n) => 46 * Math.sqrt(n))) + 120;
  const centres = new Map(names.map((name, i) => [name, [(i % across) * cell, Math.floor(i / across) * cell] as [number, number]]));
  return force({ ...request, nodes: request.nodes.map((n) => ({ ...n, x: null, y: null })) }, centres);
}

const LAYOUTS: Record<LayoutName, (request: LayoutRequest) => [number, number][]> = { force, layered, circle, rings, timeline, map, groups };

self.onmessage = (event: MessageEvent<LayoutRequest>) => {
  const places = LAYOUTS[event.data.name](event.data);
  self.postMessage({ id: event.data.id, places } satisfies LayoutAnswer);
};
