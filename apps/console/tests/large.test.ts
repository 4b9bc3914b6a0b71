// Large drawings: laid out as a whole before their parts, and drawn in few strokes.
import cytoscape from "cytoscape";
import { describe, expect, it, vi } from "vitest";
import { halved, levelled } from "../src/explore/layout.worker";
import { type Disc, apart, drawPlainly } from "../src/explore/plainly";

/** A net of so many columns and rows. */
function net(columns: number, rows: number): [number, number][] {
  const edges: [number, number][] = [];
  for (let y = 0; y < rows; y++) {
    for (let x = 0; x < columns; x++) {
      if (x + 1 < columns) edges.push([y * columns + x, y * columns + x + 1]);
      if (y + 1 < rows) edges.push([y * columns + x, (y + 1) * columns + x]);
    }
  }
  return edges;
}

const length = (places: [number, number][], [a, b]: [number, number]) => {
  const [[px, py], [qx, qy]] = [places[a] ?? [0, 0], places[b] ?? [0, 0]];
  return Math.hypot(px - qx, py - qy);
};
const middle = (numbers: number[]) => numbers.sort((a, b) => a - b)[numbers.length >> 1] ?? 0;

describe("the layout of a large graph", () => {
  it("puts nodes together by their edges, each in one part", () => {
    const { within } = halved(100, net(10, 10));
    const sizes = new Map<number, number>();
    within.forEach((part) => sizes.set(part, (sizes.get(part) ?? 0) + 1));
    expect(within.every((part) => part >= 0)).toBe(true);
    expect(sizes.size).toBeLessThanOrEqual(55);
    // A star's rays join its middle; a node on its own stays so; an edge to itself puts nothing together.
    const star = halved(7, [[0, 1], [0, 2], [0, 3], [0, 4], [5, 5]]).within;
    expect(new Set(star.slice(0, 5)).size).toBe(1);
    expect(star[5]).not.toBe(star[6]);
    expect(star[5]).not.toBe(star[0]);
  });

  it("unfolds a net: neighbours are near, far ends are far", () => {
    const [columns, rows] = [40, 30];
    const edges = net(columns, rows);
    const places = levelled(columns * rows, edges, 1.5);
    const near = middle(edges.map((edge) => length(places, edge)));
    const corners = length(places, [0, columns * rows - 1]);
    expect(places.flat().every(Number.isFinite)).toBe(true);
    expect(near).toBeLessThan(200);
    expect(corners).toBeGreaterThan(8 * near);
    expect(levelled(columns * rows, edges, 1.5)).toEqual(places);
  }, 60_000);

  it("comes to an end on islands, and with none of the edges", () => {
    const islands: [number, number][] = Array.from({ length: 600 }, (_, i) => [2 * i, 2 * i + 1]);
    for (const edges of [islands, []]) {
      const places = levelled(1200, edges, 1);
      expect(places.length).toBe(1200);
      expect(places.flat().every(Number.isFinite)).toBe(true);
      expect(new Set(places.map((p) => p.join())).size).toBe(1200);
    }
  }, 60_000);
});

/** What is drawn, by the name of what was called: on paths and on the canvas. */
const calls = new Map<string, number>();
const noting = () => new Proxy({}, {
  get: (_, name) => (text: string) => {
    calls.set(String(name), (calls.get(String(name)) ?? 0) + 1);
    return { width: typeof text === "string" ? 6 * text.length : 0 };
  },
  set: () => true,
});
vi.stubGlobal("Path2D", function Path2D() {
  return noting();
});

describe("the drawing of a large graph", () => {
  const edges = net(40, 40);
  const instance = cytoscape({
    headless: true, layout: { name: "preset", fit: false },
    elements: [
      ...Array.from({ length: 1600 }, (_, i) => ({ data: { id: `n${i}`, colour: i % 2 === 0 ? "#111" : "#222", size: 20, caption: `N ${i}` }, position: { x: (i % 40) * 50, y: Math.floor(i / 40) * 50 } })),
      ...edges.map(([a, b], i) => ({ data: { id: `e${i}`, source: `n${a}`, target: `n${b}`, width: 1.3, style: i % 3 === 0 ? "dashed" : "solid", arrow: "triangle" } })),
    ],
  });
  const renderer = instance as unknown as { renderer: () => Record<string, (...of: unknown[]) => void> };
  const own = { notify: () => undefined } as Record<string, (...of: unknown[]) => void>;
  renderer.renderer = () => own;
  const drawn = instance.elements().toArray();
  const all = { x1: -100, y1: -100, x2: 2100, y2: 2100 };
  const draw = (extent: typeof all) => {
    calls.clear();
    own["drawLayeredElements"]?.(noting(), drawn, 1, extent);
    return new Map(calls);
  };

  it("takes a stroke for all lines of one look, a fill for all nodes of one colour", () => {
    drawPlainly(instance, false);
    const calls = draw(all);
    expect(calls.get("lineTo")).toBe(edges.length);
    expect(calls.get("arc")).toBe(1600);
    expect(calls.get("fill")).toBe(2);
    // Two kinds of lines, two borders.
    expect(calls.get("stroke")).toBe(4);
    expect(calls.get("fillText")).toBeUndefined();
  });

  it("makes its paths once, until something changes", () => {
    expect(draw(all).get("lineTo")).toBeUndefined();
    instance.getElementById("n0").position({ x: 5, y: 5 });
    expect(draw(all).get("lineTo")).toBe(edges.length);
    expect(draw(all).get("arc")).toBeUndefined();
    // From far away nodes are drawn larger than they are.
    instance.zoom(0.05);
    expect(draw(all).get("arc")).toBe(1600);
    instance.zoom(1);
    expect(draw(all).get("arc")).toBe(1600);
    expect(draw(all).get("arc")).toBeUndefined();
  });

  it("says names and directions of what is near", () => {
    const near = { x1: 0, y1: 0, x2: 240, y2: 240 };
    expect(draw(near).get("fillText")).toBe(36);
    expect(draw(near).get("closePath")).toBe(50);
    instance.zoom(0.1);
    expect(draw(near).get("fillText")).toBeUndefined();
    expect(draw(near).get("closePath")).toBeUndefined();
    instance.zoom(1);
  });

  it("names what is chosen first, and writes no caption over another", () => {
    const disc = (x: number, y: number, caption: string, chosen = false): Disc => ({ x, y, radius: 8, caption, chosen, alpha: 1 });
    const discs = [disc(0, 0, "one"), disc(5, 3, "two", true), disc(60, 0, "three"), disc(0, 40, "a name that is longer than twenty"), disc(300, 300, "")];
    const named = apart(discs, (text) => 6 * text.length).map(({ text }) => text);
    expect(named).toEqual(["two", "three", "a name that is long…"]);
    const many = Array.from({ length: 1000 }, (_, i) => disc((i * 37) % 500, (i * 91) % 400, `node ${i}`));
    const boxes = apart(many, (text) => 6 * text.length).map(({ text, disc: d }) => [d.x - 3 * text.length, d.x + 3 * text.length, d.y + 10, d.y + 22] as const);
    expect(boxes.length).toBeGreaterThan(100);
    boxes.forEach(([l, r, top, b], i) => {
      for (const [l2, r2, t2, b2] of boxes.slice(i + 1)) expect(l < r2 && r > l2 && top < b2 && b > t2).toBe(false);
    });
  });

  it("rings what is chosen, and lets the library draw again when the picture is small", () => {
    instance.getElementById("n7").select();
    expect(draw(all).get("stroke")).toBe(5);
    drawPlainly(instance, null);
    expect(own["drawLayeredElements"]).toBeUndefined();
  });
});
