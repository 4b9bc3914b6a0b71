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

function force({ nodes, edges, aspect }: LayoutRequest, centres?: Map<string, [number, number]>): [number, number][] {
  const known = nodes.filter((n) => n.x !== null).length;
  // Nodes that have a place keep it when others come; all are moved where none has one.
  const keeps = known > 0 && known < nodes.length;
  const neighbours = new Map<number, number>();
  for (const [a, b] of edges) {
    if (nodes[a]?.x != null) neighbours.set(b, a);
    if (nodes[b]?.x != null) neighbours.set(a, b);
  }
  const spread = 30 * Math.sqrt(nodes.length);
  const places: Place[] = nodes.map((n, index) => {
    // Without a random number: the same graph is drawn the same way.
    const angle = index * 2.399963;
    if (n.x !== null && n.y !== null) return keeps ? { index, x: n.x, y: n.y, fx: n.x, fy: n.y } : { index, x: n.x, y: n.y };
    const near = nodes[neighbours.get(index) ?? -1];
    const radius = near?.x != null ? 60 : spread * Math.sqrt((index + 1) / nodes.length);
    const [cx, cy] = centres?.get(n.group) ?? [near?.x ?? 0, near?.y ?? 0];
    return { index, x: cx + radius * Math.cos(angle) * (centres ? 0.3 : 1), y: cy + radius * Math.sin(angle) * (centres ? 0.3 : 1) };
  });
  const degree = new Array<number>(nodes.length).fill(0);
  edges.forEach(([a, b]) => {
    degree[a] = (degree[a] ?? 0) + 1;
    degree[b] = (degree[b] ?? 0) + 1;
  });
  const small = nodes.length < 60;
  const simulation = forceSimulation(places)
    .force("link", forceLink<Place, SimulationLinkDatum<Place>>(edges.map(([source, target]) => ({ source, target }))).distance(small ? 105 : 55).strength((link) => 1 / Math.min(degree[(link.source as Place).index] ?? 1, degree[(link.target as Place).index] ?? 1)))
    .force("charge", forceManyBody().strength(small ? -520 : -170).distanceMax(900))
    .force("collide", forceCollide(small ? 34 : 17))
    .force("x", forceX<Place>((p) => centres?.get(nodes[p.index]?.group ?? "")?.[0] ?? 0).strength((centres ? 0.25 : 0.045) / Math.max(aspect, 1)))
    .force("y", forceY<Place>((p) => centres?.get(nodes[p.index]?.group ?? "")?.[1] ?? 0).strength((centres ? 0.25 : 0.045) * Math.min(aspect, 1.6)))
    .stop();
  const ticks = nodes.length > 5000 ? 60 : nodes.length > 1000 ? 110 : nodes.length > 300 ? 200 : 300;
  simulation.alphaDecay(1 - Math.pow(0.001, 1 / ticks));
  for (let i = 0; i < ticks; i++) simulation.tick();
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
