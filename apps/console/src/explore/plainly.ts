// Drawing thousands of elements: all lines of one look are one stroke, all nodes of one colour one fill. Element by
// element, as the library does it, a frame of 3,000 nodes takes a fifth of a second.
import type cytoscape from "cytoscape";

interface Extent { x1: number; y1: number; x2: number; y2: number }

type Draw = (context: CanvasRenderingContext2D, elements: cytoscape.SingularElementArgument[], ratio: number, extent: Extent) => void;

/** What of the library's renderer is put in another's place: how all elements that are not being dragged are drawn. */
interface Renderer { drawLayeredElements?: Draw }

/** With more lines than these in sight heads of arrows would be a blot. */
const MOST_HEADS = 1_500;
const MOST_CAPTIONS = 400;
/** However far away, a node has this radius on the screen, and below the second one no border. */
const LEAST_RADIUS = 1.6;
const LEAST_BORDERED = 4;
/** Captions and heads smaller than so many pixels are not drawn. */
const LEAST_CAPTION = 7;
const CAPTION = 12;
const CHOSEN = { dark: "#f0a46f", light: "#c2571a" };

interface Line { from: cytoscape.Position; to: cytoscape.Position; room: number }

interface Look { colour: string; width: number; dashed: boolean; alpha: number; lines: Line[] }

interface Disc { x: number; y: number; radius: number; caption: string; chosen: boolean; alpha: number }

function colours(dark: boolean) {
  return { ink: dark ? "#e8e4da" : "#22303a", paper: dark ? "#1b2227" : "#fdfcfa", line: dark ? "#8d99a1" : "#7f8b93", chosen: dark ? CHOSEN.dark : CHOSEN.light };
}

function linesOf(elements: cytoscape.SingularElementArgument[], extent: Extent, dark: boolean): Map<string, Look> {
  const { line, chosen } = colours(dark);
  const looks = new Map<string, Look>();
  for (const element of elements) {
    if (!element.isEdge()) continue;
    const target = element.target();
    const [from, to] = [element.source().position(), target.position()];
    if (Math.max(from.x, to.x) < extent.x1 || Math.min(from.x, to.x) > extent.x2 || Math.max(from.y, to.y) < extent.y1 || Math.min(from.y, to.y) > extent.y2) continue;
    const data = element.data() as { width: number; style: string; arrow: string };
    const [selected, alpha, width] = [element.selected(), element.hasClass("faded") ? 0.18 : 1, Math.round(data.width * 2) / 2];
    const key = `${selected} ${alpha} ${width} ${data.style}`;
    let look = looks.get(key);
    if (!look) looks.set(key, look = { colour: selected ? chosen : line, width: selected ? 3 : width, dashed: data.style === "dashed", alpha, lines: [] });
    look.lines.push({ from, to, room: data.arrow === "none" ? -1 : Number(target.data("size")) / 2 });
  }
  return looks;
}

function discsOf(elements: cytoscape.SingularElementArgument[], extent: Extent): Map<string, Disc[]> {
  const discs = new Map<string, Disc[]>();
  for (const element of elements) {
    if (!element.isNode()) continue;
    const { x, y } = element.position();
    const data = element.data() as { size: number; colour: string; caption: string };
    const radius = data.size / 2;
    if (x + radius < extent.x1 || x - radius > extent.x2 || y + radius < extent.y1 || y - radius > extent.y2) continue;
    const alpha = element.hasClass("faded") ? 0.18 : 1;
    const key = `${data.colour} ${alpha}`;
    let same = discs.get(key);
    if (!same) discs.set(key, same = []);
    same.push({ x, y, radius, caption: data.caption, chosen: element.selected(), alpha });
  }
  return discs;
}

function strokeLines(context: CanvasRenderingContext2D, looks: Map<string, Look>): void {
  for (const { colour, width, dashed, alpha, lines } of looks.values()) {
    [context.strokeStyle, context.lineWidth, context.globalAlpha] = [colour, width, alpha];
    context.setLineDash(dashed ? [6, 3] : []);
    context.beginPath();
    for (const { from, to } of lines) {
      context.moveTo(from.x, from.y);
      context.lineTo(to.x, to.y);
    }
    context.stroke();
  }
  context.setLineDash([]);
}

/** Triangles before the nodes that lines lead to. */
function fillHeads(context: CanvasRenderingContext2D, looks: Map<string, Look>): void {
  for (const { colour, width, alpha, lines } of looks.values()) {
    [context.fillStyle, context.globalAlpha] = [colour, alpha];
    context.beginPath();
    for (const { from, to, room } of lines) {
      const [dx, dy] = [to.x - from.x, to.y - from.y];
      const length = Math.hypot(dx, dy);
      if (room < 0 || length === 0) continue;
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

function fillDiscs(context: CanvasRenderingContext2D, discs: Map<string, Disc[]>, zoom: number, dark: boolean): void {
  const { ink, chosen } = colours(dark);
  const path = (of: Disc[]) => {
    context.beginPath();
    for (const disc of of) {
      const [{ x, y }, radius] = [disc, Math.max(disc.radius, LEAST_RADIUS / zoom)];
      context.moveTo(x + radius, y);
      context.arc(x, y, radius, 0, 2 * Math.PI);
    }
  };
  for (const [key, of] of discs) {
    const alpha = of[0]?.alpha ?? 1;
    path(of);
    [context.fillStyle, context.globalAlpha] = [key.slice(0, key.lastIndexOf(" ")), alpha];
    context.fill();
    if ((of[0]?.radius ?? 0) * zoom >= LEAST_BORDERED) {
      [context.strokeStyle, context.lineWidth, context.globalAlpha] = [ink, 1, 0.45 * alpha];
      context.stroke();
    }
    const selected = of.filter((disc) => disc.chosen);
    if (selected.length === 0) continue;
    path(selected);
    [context.strokeStyle, context.lineWidth, context.globalAlpha] = [chosen, Math.max(4, 3 / zoom), alpha];
    context.stroke();
  }
}

function writeCaptions(context: CanvasRenderingContext2D, discs: Disc[], dark: boolean): void {
  const { ink, paper } = colours(dark);
  context.font = `${CAPTION}px sans-serif`;
  [context.textAlign, context.textBaseline, context.lineJoin] = ["center", "top", "round"];
  [context.fillStyle, context.strokeStyle, context.lineWidth] = [ink, paper, 4];
  for (const { x, y, radius, caption, alpha } of discs) {
    const text = caption.length > 20 ? `${caption.slice(0, 19)}…` : caption;
    context.globalAlpha = alpha;
    context.strokeText(text, x, y + radius + 3);
    context.fillText(text, x, y + radius + 3);
  }
}

/** Draws large pictures in few strokes from now on; without `dark` the library draws again. */
export function drawPlainly(instance: cytoscape.Core, dark: boolean | null): void {
  const renderer = (instance as unknown as { renderer: () => Renderer }).renderer();
  if (dark === null) {
    delete renderer.drawLayeredElements;
    return;
  }
  renderer.drawLayeredElements = (context, elements, _ratio, extent) => {
    const looks = linesOf(elements, extent, dark);
    const discs = discsOf(elements, extent);
    const zoom = instance.zoom();
    context.save();
    strokeLines(context, looks);
    const lines = [...looks.values()].reduce((sum, look) => sum + look.lines.length, 0);
    if (lines <= MOST_HEADS && zoom * CAPTION >= LEAST_CAPTION) fillHeads(context, looks);
    fillDiscs(context, discs, zoom, dark);
    const all = [...discs.values()].flat();
    if (all.length <= MOST_CAPTIONS && zoom * CAPTION >= LEAST_CAPTION) writeCaptions(context, all, dark);
    context.restore();
  };
}
