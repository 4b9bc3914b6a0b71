// The layout that suits a picture, and the worker that computes it.
import type { Bundle, Picture } from "./picture";
import type { Json } from "../shared/json";
import type { LayoutAnswer, LayoutName, LayoutRequest } from "./layout.worker";

export type { LayoutName };

export type Places = Map<string, { x: number; y: number }>;

/** Flows and trees are layered, a hub with its spokes gets rings, all else is laid out by forces. */
export function suitable(picture: Picture, bundles: Bundle[]): LayoutName {
  const n = picture.nodes.size;
  if (n < 3 || bundles.length === 0) return n <= 40 && bundles.length === 0 ? "circle" : "force";
  if (bundles.length > n * 1.15 || n > 400) return "force";
  const into = new Map<string, number>();
  const out = new Map<string, string[]>();
  for (const { source, target } of bundles) {
    into.set(target, (into.get(target) ?? 0) + 1);
    out.set(source, [...(out.get(source) ?? []), target]);
  }
  // Layers by longest way; a cycle leaves some nodes out.
  let front = [...picture.nodes.keys()].filter((id) => !into.has(id));
  let [placed, depth, widest] = [0, 0, 0];
  while (front.length > 0) {
    placed += front.length;
    widest = Math.max(widest, front.length);
    depth++;
    const next: string[] = [];
    for (const id of front) {
      for (const target of out.get(id) ?? []) {
        const left = (into.get(target) ?? 0) - 1;
        into.set(target, left);
        if (left === 0) next.push(target);
      }
    }
    front = next;
  }
  if (placed === n && widest <= Math.max(7, depth * 2)) return "layered";
  return "force";
}

let worker: Worker | null = null;
let count = 0;

/** Numbers of a date, a time or a number; null where the value is none. */
export function scalar(value: Json | undefined): number | null {
  if (typeof value === "number") return value;
  if (typeof value === "bigint") return Number(value);
  if (typeof value !== "string") return null;
  if (/^-?\d+(\.\d+)?$/.test(value)) return Number(value);
  const time = /^\d{4}-\d\d-\d\d/.test(value) ? Date.parse(value) : Number.NaN;
  return Number.isNaN(time) ? null : time;
}

/** Places for all nodes; those that have one are kept by a layout by forces. */
export function placed(
  picture: Picture, bundles: Bundle[], name: LayoutName, known: Places, fields: [string, string], aspect: number, group: (id: string) => string,
): Promise<Places> {
  worker ??= new Worker(new URL("./layout.worker.ts", import.meta.url), { type: "module" });
  const ids = [...picture.nodes.keys()];
  const numbers = new Map(ids.map((id, i) => [id, i]));
  const request: LayoutRequest = {
    id: ++count,
    name,
    nodes: ids.map((id) => ({
      x: known.get(id)?.x ?? null,
      y: known.get(id)?.y ?? null,
      group: group(id),
      first: scalar(picture.nodes.get(id)?.properties[fields[0]]),
      second: scalar(picture.nodes.get(id)?.properties[fields[1]]),
    })),
    edges: bundles.map((b) => [numbers.get(b.source) ?? 0, numbers.get(b.target) ?? 0]),
    aspect,
  };
  const used = worker;
  return new Promise((resolve, reject) => {
    const seen = (event: MessageEvent<LayoutAnswer>) => {
      if (event.data.id !== request.id) return;
      used.removeEventListener("message", seen);
      resolve(new Map(ids.map((id, i) => [id, { x: event.data.places[i]?.[0] ?? 0, y: event.data.places[i]?.[1] ?? 0 }])));
    };
    used.addEventListener("message", seen);
    used.addEventListener("error", () => reject(new Error("the layout failed")), { once: true });
    used.postMessage(request);
  });
}
