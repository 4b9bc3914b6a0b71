// How elements look: colours by label or value, sizes by number, captions by property.
import { type GraphElement, cellText } from "../shared/api";
import { labelColours } from "../shared/palette";
import { type GraphLooks, chosenFor } from "../shared/looks";
import { scalar } from "./layout";
import type { Looks } from "./Canvas";
import type { Bundle, Picture } from "./picture";
import { say } from "../shared/words";

export interface Choices {
  /** `""`: the label. Otherwise a property, or a measure as `measure:column`. */
  colourBy: string;
  /** `""`: all alike; `#degree`: edges in the drawing; otherwise as colours. */
  sizeBy: string;
  /** By label the property of the caption; the key where there is none. */
  captions: Record<string, string>;
  edgeCaption: string;
  /** Nodes of one colour are outlined together. */
  outlined?: boolean;
}

export const USUAL: Choices = { colourBy: "", sizeBy: "", captions: {}, edgeCaption: "" };

/** From light to dark petrol, told apart by lightness alone. */
const SCALE = ["#cfe3e6", "#9cc7cf", "#63a5b3", "#2f7f93", "#155a6e", "#0c3847"];

export interface LegendEntry {
  name: string;
  colour: string;
  count: number;
  ids: string[];
}

export function captionOf(node: GraphElement, property: string | undefined): string {
  const value = property === undefined || property === "" ? undefined : node.properties[property];
  if (value !== undefined && value !== null) return cellText(value);
  return node.key.map((k) => String(node.properties[k])).join("/") || cellText(node.properties["name"] ?? null).replace(/^null$/, "") || node.id;
}

export function label(node: GraphElement): string {
  return node.labels.join("&") || say("(no label)");
}

type Values = ReadonlyMap<string, number>;

function valueOf(node: GraphElement, by: string, measured: Values): number | null {
  return by.includes(":") ? (measured.get(node.id) ?? null) : scalar(node.properties[by]);
}

export function looksOf(
  picture: Picture, bundles: Bundle[], choices: Choices, measured: Values, dark: boolean, kept: GraphLooks,
): { looks: Looks; legend: LegendEntry[]; scale: { least: number; most: number } | null } {
  const nodes = [...picture.nodes.values()];
  const colours = new Map<string, string>();
  const legend = new Map<string, LegendEntry>();
  const put = (name: string, colour: string, id: string) => {
    const entry = legend.get(name) ?? { name, colour, count: 0, ids: [] };
    entry.count++;
    entry.ids.push(id);
    legend.set(name, entry);
    colours.set(id, colour);
  };
  let scale: { least: number; most: number } | null = null;
  const numbers = choices.colourBy === "" ? [] : nodes.map((n) => valueOf(n, choices.colourBy, measured)).filter((v) => v !== null);
  if (choices.colourBy === "") {
    const byLabel = labelColours([...new Set(nodes.map(label))]);
    nodes.forEach((n) => put(label(n), chosenFor(kept, n.labels, "colour") ?? byLabel.get(label(n)) ?? "", n.id));
  } else if (numbers.length > 0 && new Set(numbers).size > 12) {
    const [least, most] = [Math.min(...numbers), Math.max(...numbers)];
    scale = { least, most };
    for (const node of nodes) {
      const value = valueOf(node, choices.colourBy, measured);
      const step = value === null ? -1 : Math.min(SCALE.length - 1, Math.floor(((value - least) / Math.max(most - least, 1e-12)) * SCALE.length));
      const from = (s: number) => Number((least + ((most - least) * s) / SCALE.length).toPrecision(4));
      put(step === -1 ? say("no value") : say("{{least}} to {{most}}", { least: from(step), most: from(step + 1) }), step === -1 ? "#b9b4a8" : (SCALE[step] ?? ""), node.id);
    }
  } else {
    const text = (n: GraphElement) => (choices.colourBy.includes(":") ? String(measured.get(n.id) ?? say("no value")) : cellText(n.properties[choices.colourBy] ?? null).replace(/^null$/, say("no value")));
    const byValue = labelColours([...new Set(nodes.map(text))].slice(0, 10));
    nodes.forEach((n) => put(byValue.has(text(n)) ? text(n) : say("other values"), byValue.get(text(n)) ?? "#8d8a83", n.id));
  }
  const degree = new Map<string, number>();
  for (const b of bundles) {
    degree.set(b.source, (degree.get(b.source) ?? 0) + b.edges.length);
    degree.set(b.target, (degree.get(b.target) ?? 0) + b.edges.length);
  }
  const weight = (id: string) => (choices.sizeBy === "#degree" ? (degree.get(id) ?? 0) : valueOf(picture.nodes.get(id) as GraphElement, choices.sizeBy, measured));
  const weights = choices.sizeBy === "" ? [] : [...picture.nodes.keys()].map(weight).filter((w) => w !== null);
  const [least, most] = [Math.min(...weights), Math.max(...weights)];
  const usual = nodes.length > 1000 ? 14 : nodes.length > 150 ? 18 : 26;
  return {
    scale,
    // A scale from low to high, all else by how many there are.
    legend: [...legend.values()].sort((a, b) => (scale ? (Number.parseFloat(a.name) || -Infinity) - (Number.parseFloat(b.name) || -Infinity) : b.count - a.count)),
    looks: {
      dark,
      colour: (id) => colours.get(id) ?? "#8d8a83",
      size: (id) => {
        if (choices.sizeBy === "") return usual;
        const value = weight(id);
        // The area grows with the value.
        return value === null || most <= least ? 10 : 10 + 44 * Math.sqrt((value - least) / (most - least));
      },
      caption: (id) => {
        const node = picture.nodes.get(id);
        return node ? captionOf(node, choices.captions[label(node)] ?? chosenFor(kept, node.labels, "caption")) : id;
      },
      edgeLabel: (b) => {
        const value = choices.edgeCaption === "" || b.edges.length > 1 ? null : b.edges[0]?.properties[choices.edgeCaption];
        const text = value === null || value === undefined ? b.label : cellText(value);
        return b.edges.length > 1 ? `${text} ×${b.edges.length}` : text;
      },
    },
  };
}
