// Outlines of groups of nodes, behind the drawing: each the convex hull of its nodes with room around them.
import type cytoscape from "cytoscape";

export interface Group {
  colour: string;
  ids: string[];
}

type Point = [number, number];

/** Around a node, in pixels at scale 1. */
const ROOM = 26;
/** Points of the circle around a node. */
const CORNERS = 10;
/** Two nodes at least: one is no group. */
const FEWEST = 2;

/** The convex hull, counter-clockwise from the leftmost point (monotone chain, Andrew 1979). */
export function hull(points: Point[]): Point[] {
  const sorted = [...points].sort(([ax, ay], [bx, by]) => ax - bx || ay - by);
  if (sorted.length < 3) return sorted;
  const side = (along: Point[]) => {
    const kept: Point[] = [];
    for (const p of along) {
      for (;;) {
        const [b, a] = [kept[kept.length - 1], kept[kept.length - 2]];
        if (!a || !b || (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0]) > 0) break;
        kept.pop();
      }
      kept.push(p);
    }
    kept.pop();
    return kept;
  };
  return [...side(sorted), ...side(sorted.reverse())];
}

/** The outline of each group whose nodes are drawn. */
export function outlines(instance: cytoscape.Core, groups: Group[]): { colour: string; points: Point[] }[] {
  return groups.flatMap(({ colour, ids }) => {
    const nodes = ids.map((id) => instance.getElementById(id)).filter((node) => node.nonempty() && node.isNode());
    if (nodes.length < FEWEST) return [];
    const around = nodes.flatMap((node) => {
      const { x, y } = node.position();
      const radius = Number(node.data("size")) / 2 + ROOM;
      return Array.from({ length: CORNERS }, (_, i): Point => [x + radius * Math.cos((i * 2 * Math.PI) / CORNERS), y + radius * Math.sin((i * 2 * Math.PI) / CORNERS)]);
    });
    return [{ colour, points: hull(around) }];
  });
}

/** Draws them on the canvas whenever the drawing moves; the function that is returned ends that. */
export function behind(canvas: HTMLCanvasElement, instance: cytoscape.Core, groups: Group[]): () => void {
  let found = outlines(instance, groups);
  const paint = () => {
    const context = canvas.getContext("2d");
    if (!context) return;
    const scale = window.devicePixelRatio || 1;
    [canvas.width, canvas.height] = [canvas.clientWidth * scale, canvas.clientHeight * scale];
    const { x, y } = instance.pan();
    const zoom = instance.zoom();
    context.setTransform(zoom * scale, 0, 0, zoom * scale, x * scale, y * scale);
    for (const { colour, points } of found) {
      context.beginPath();
      points.forEach(([px, py]) => context.lineTo(px, py));
      context.closePath();
      [context.fillStyle, context.strokeStyle, context.lineWidth] = [colour, colour, 1.5 / zoom];
      context.globalAlpha = 0.13;
      context.fill();
      context.globalAlpha = 0.6;
      context.stroke();
    }
  };
  const moved = () => {
    found = outlines(instance, groups);
    paint();
  };
  instance.on("pan zoom resize", paint);
  instance.on("position", "node", moved);
  paint();
  return () => {
    instance.off("pan zoom resize", paint);
    instance.off("position", "node", moved);
    canvas.width = 0;
  };
}
