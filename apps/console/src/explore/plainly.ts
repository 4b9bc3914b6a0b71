// Drawing thousands of elements: all lines of one look are one stroke, all nodes of one colour one fill. Element by
// element, as the library does it, a frame of 3,000 nodes takes a fifth of a second.
import type cytoscape from "cytoscape";

interface Extent { x1: number; y1: number; x2: number; y2: number }

type Draw = (context: CanvasRenderingContext2D, elements: cytoscape.SingularElementArgument[], ratio: number, extent: Extent) => void;

/** What of the library's renderer is put in another's place: how all elements that are not being dragged are drawn. */
interface Renderer { drawLayeredElements?: Draw }

/** With more lines than these in sight heads of arrows would be a blot. */
const MOST_HEADS = 1_500;
/** Of more nodes than these in sight none is named. */
const MOST_CAPTIONS = 1_500;
/** Sides of the squares by which captions that may meet are found. */
const CELL = 64;
/** However far away, a node has this radius on the screen, and below the second one no border. */
const LEAST_RADIUS = 1.6;
const LEAST_BORDERED = 4;
/** Captions and heads smaller than so many pixels are not drawn. */
const LEAST_CAPTION = 7;
const CAPTION = 12;
const CHOSEN = { dark: "#f0a46f", light: "#c2571a" };

interface Line { from: cytoscape.Position; to: cytoscape.Position; room: number }

interface Look { colour: string; width: number; dashed: boolean; alpha: number; path: Path2D; lines: Line[] }

export interface Disc { x: number; y: number; radius: number; caption: string; chosen: boolean; alpha: number }

/** Nodes of one colour. */
interface Kind { colour: string; alpha: number; discs: Disc[] }

function colours(dark: boolean) {
  return { ink: dark ? "#e8e4da" : "#22303a", paper: dark ? "#1b2227" : "#fdfcfa", line: dark ? "#8d99a1" : "#7f8b93", chosen: dark ? CHOSEN.dark : CHOSEN.light };
}

function linesOf(elements: cytoscape.SingularElementArgument[], dark: boolean): Look[] {
  const { line, chosen } = colours(dark);
  const looks = new Map<string, Look>();
  for (const element of elements) {
    if (!element.isEdge()) continue;
    const target = element.target();
    const [from, to] = [element.source().position(), target.position()];
    const data = element.data() as { width: number; style: string; arrow: string };
    const [selected, alpha, width] = [element.selected(), element.hasClass("faded") ? 0.18 : 1, Math.round(data.width * 2) / 2];
    const key = `${selected} ${alpha} ${width} ${data.style}`;
    let look = looks.get(key);
    if (!look) looks.set(key, look = { colour: selected ? chosen : line, width: selected ? 3 : width, dashed: data.style === "dashed", alpha, path: new Path2D(), lines: [] });
    look.path.moveTo(from.x, from.y);
    look.path.lineTo(to.x, to.y);
    look.lines.push({ from: { ...from }, to: { ...to }, room: data.arrow === "none" ? -1 : Number(target.data("size")) / 2 });
  }
  return [...looks.values()];
}

function discsOf(elements: cytoscape.SingularElementArgument[]): Kind[] {
  const kinds = new Map<string, Kind>();
  for (const element of elements) {
    if (!element.isNode()) continue;
    const { x, y } = element.position();
    const data = element.data() as { size: number; colour: string; caption: string };
    const alpha = element.hasClass("faded") ? 0.18 : 1;
    const key = `${data.colour} ${alpha}`;
    let kind = kinds.get(key);
    if (!kind) kinds.set(key, kind = { colour: data.colour, alpha, discs: [] });
    kind.discs.push({ x, y, radius: data.size / 2, caption: data.caption, chosen: element.selected(), alpha });
  }
  return [...kinds.values()];
}

/** All circles as one path, none smaller than `least`. */
function circles(discs: Disc[], least: number): Path2D {
  const path = new Path2D();
  for (const disc of discs) {
    const radius = Math.max(disc.radius, least);
    path.moveTo(disc.x + radius, disc.y);
    path.arc(disc.x, disc.y, radius, 0, 2 * Math.PI);
  }
  return path;
}

function strokeLines(context: CanvasRenderingContext2D, looks: Look[]): void {
  for (const { colour, width, dashed, alpha, path } of looks) {
    [context.strokeStyle, context.lineWidth, context.globalAlpha] = [colour, width, alpha];
    context.setLineDash(dashed ? [6, 3] : []);
    context.stroke(path);
  }
  context.setLineDash([]);
}

const meets = ({ from, to }: Line, { x1, y1, x2, y2 }: Extent) =>
  Math.max(from.x, to.x) >= x1 && Math.min(from.x, to.x) <= x2 && Math.max(from.y, to.y) >= y1 && Math.min(from.y, to.y) <= y2;
const lies = ({ x, y, radius }: Disc, { x1, y1, x2, y2 }: Extent) => x + radius >= x1 && x - radius <= x2 && y + radius >= y1 && y - radius <= y2;

/** Triangles before the nodes that lines in sight lead to. */
function fillHeads(context: CanvasRenderingContext2D, looks: Look[], extent: Extent): void {
  for (const { colour, width, alpha, lines } of looks) {
    [context.fillStyle, context.globalAlpha] = [colour, alpha];
    context.beginPath();
    for (const line of lines) {
      const { from, to, room } = line;
      const [dx, dy] = [to.x - from.x, to.y - from.y];
      const length = Math.hypot(dx, dy);
      if (room < 0 || length === 0 || !meets(line, extent)) continue;
      const [ux, uy, long] = [dx / length, dy / length, 5 + 2 * width];
      const [tx, ty] = [to.x - ux * room, to.y - uy * room];
      context.moveTo(tx, ty);
      context.lineTo(tx - ux * long - uy * long * 0.45, ty - uy * long + ux * long * 0.45);
      context.lineTo(tx - ux * long + uy * long * 0.45, ty - uy * long - ux * long * 0.45);
      context.closePath();
    }
    context.fill();
  }
}

function fillDiscs(context: CanvasRenderingContext2D, { colour, alpha, discs }: Kind, path: Path2D, zoom: number, dark: boolean): void {
  const { ink, chosen } = colours(dark);
  [context.fillStyle, context.globalAlpha] = [colour, alpha];
  context.fill(path);
  if ((discs[0]?.radius ?? 0) * zoom >= LEAST_BORDERED) {
    [context.strokeStyle, context.lineWidth, context.globalAlpha] = [ink, 1, 0.45 * alpha];
    context.stroke(path);
  }
  const selected = discs.filter((disc) => disc.chosen);
  if (selected.length === 0) return;
  [context.strokeStyle, context.lineWidth, context.globalAlpha] = [chosen, Math.max(4, 3 / zoom), alpha];
  context.stroke(circles(selected, LEAST_RADIUS / zoom));
}

/** Captions that cover none of those before them: of what is chosen first, then of large nodes. */
export function apart(discs: Disc[], width: (text: string) => number): { text: string; disc: Disc }[] {
  const order = [...discs].sort((a, b) => Number(b.chosen) - Number(a.chosen) || b.radius - a.radius);
  // Boxes by the cells that they reach into.
  const cells = new Map<string, [number, number, number, number][]>();
  const kept: { text: string; disc: Disc }[] = [];
  for (const disc of order) {
    if (disc.caption === "") continue;
    const text = disc.caption.length > 20 ? `${disc.caption.slice(0, 19)}…` : disc.caption;
    const [half, top] = [width(text) / 2 + 1, disc.y + disc.radius + 2];
    const [left, right, bottom] = [disc.x - half, disc.x + half, top + CAPTION + 2];
    const keys: string[] = [];
    for (let x = Math.floor(left / CELL); x <= Math.floor(right / CELL); x++) {
      for (let y = Math.floor(top / CELL); y <= Math.floor(bottom / CELL); y++) keys.push(`${x} ${y}`);
    }
    const covers = keys.some((key) => cells.get(key)?.some(([l, r, t, b]) => left < r && right > l && top < b && bottom > t));
    if (covers) continue;
    for (const key of keys) cells.set(key, [...(cells.get(key) ?? []), [left, right, top, bottom]]);
    kept.push({ text, disc });
  }
  return kept;
}

function writeCaptions(context: CanvasRenderingContext2D, discs: Disc[], dark: boolean): void {
  const { ink, paper } = colours(dark);
  context.font = `${CAPTION}px sans-serif`;
  [context.textAlign, context.textBaseline, context.lineJoin] = ["center", "top", "round"];
  [context.fillStyle, context.strokeStyle, context.lineWidth] = [ink, paper, 4];
  for (const { text, disc: { x, y, radius, alpha } } of apart(discs, (text) => context.measureText(text).width)) {
    context.globalAlpha = alpha;
    context.strokeText(text, x, y + radius + 3);
    context.fillText(text, x, y + radius + 3);
  }
}

/** Both are made anew only when an element changes: while the drawing is moved or zoomed they are the same. */
interface Scene { looks: Look[]; kinds: { kind: Kind; path: Path2D; least: number }[] }

const CHANGES = "add remove data position select unselect class";

/** What ends the plain drawing of an instance. */
const endings = new WeakMap<cytoscape.Core, () => void>();

/** Draws large pictures in few strokes from now on; without `dark` the library draws again. */
export function drawPlainly(instance: cytoscape.Core, dark: boolean | null): void {
  const renderer = (instance as unknown as { renderer: () => Renderer }).renderer();
  endings.get(instance)?.();
  endings.delete(instance);
  delete renderer.drawLayeredElements;
  if (dark === null) return;
  let scene: Scene | null = null;
  let of: unknown = null;
  const changed = () => {
    scene = null;
  };
  instance.on(CHANGES, changed);
  endings.set(instance, () => instance.off(CHANGES, changed));
  renderer.drawLayeredElements = (context, elements, _ratio, extent) => {
    // Elements that are being dragged are in another list, so that this one is another too.
    if (scene === null || of !== elements) scene = { looks: linesOf(elements, dark), kinds: discsOf(elements).map((kind) => ({ kind, path: circles(kind.discs, 0), least: 0 })) };
    of = elements;
    const zoom = instance.zoom();
    const near = zoom * CAPTION >= LEAST_CAPTION;
    context.save();
    strokeLines(context, scene.looks);
    if (near) {
      const lines = scene.looks.reduce((sum, look) => sum + look.lines.filter((line) => meets(line, extent)).length, 0);
      if (lines <= MOST_HEADS) fillHeads(context, scene.looks, extent);
    }
    for (const part of scene.kinds) {
      const least = LEAST_RADIUS / zoom;
      const smallest = part.kind.discs.reduce((size, disc) => Math.min(size, disc.radius), Infinity);
      if (Math.max(least, smallest) !== Math.max(part.least, smallest)) [part.path, part.least] = [circles(part.kind.discs, least), least];
      fillDiscs(context, part.kind, part.path, zoom, dark);
    }
    if (near) {
      const seen = scene.kinds.flatMap(({ kind }) => kind.discs.filter((disc) => lies(disc, extent)));
      if (seen.length <= MOST_CAPTIONS) writeCaptions(context, seen, dark);
    }
    context.restore();
  };
}
