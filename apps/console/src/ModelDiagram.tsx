// A model as a diagram: node types that share a key as one box, edge types between them, laid out in layers.
import cytoscape from "cytoscape";
import dagre from "cytoscape-dagre";
import { useEffect, useMemo, useRef } from "react";
import type { Model, ModelNodeType } from "./api";
import { labelColours } from "./palette";

cytoscape.use(dagre as cytoscape.Ext);

interface Box {
  name: string;
  kinds: ModelNodeType[];
  count: number;
}

function boxes(model: Model): Box[] {
  const found = new Map<string, Box>();
  for (const type of model.node_types) {
    const name = (type.key_labels.length > 0 ? type.key_labels : type.labels).join("&") || "(no label)";
    const box = found.get(name) ?? { name, kinds: [], count: 0 };
    box.kinds.push(type);
    box.count += type.count;
    found.set(name, box);
  }
  return [...found.values()];
}

function caption(box: Box): string {
  const lines = [box.name, box.count.toLocaleString("en")];
  const key = box.kinds[0]?.key ?? [];
  if (key.length > 0) lines.push(`key ${key.join(", ")}`);
  const extra = box.kinds.map((k) => k.labels.filter((l) => !k.key_labels.includes(l)).join("&")).filter(Boolean);
  for (let i = 0; i < extra.length; i += 3) lines.push(extra.slice(i, i + 3).join(", "));
  return lines.join("\n");
}

export default function ModelDiagram({ model }: { model: Model }) {
  const host = useRef<HTMLDivElement>(null);
  const drawn = useMemo(() => boxes(model), [model]);
  useEffect(() => {
    if (!host.current || drawn.length === 0) return;
    const colours = labelColours(drawn.map((b) => b.name));
    const ends = (sets: string[][]) => drawn.filter((b) => b.kinds.some((k) => sets.some((set) => set.every((l) => k.labels.includes(l)))));
    // Edge types between the same two boxes share a line.
    const lines = new Map<string, { source: string; target: string; names: string[]; directed: boolean }>();
    for (const edge of model.edge_types) {
      for (const from of ends(edge.source)) {
        for (const to of ends(edge.target)) {
          const id = `${from.name}|${to.name}|${edge.directed}`;
          const line = lines.get(id) ?? { source: from.name, target: to.name, names: [], directed: edge.directed };
          const name = edge.labels.join("&");
          if (!line.names.includes(name)) line.names.push(name);
          lines.set(id, line);
        }
      }
    }
    const view = cytoscape({
      container: host.current,
      elements: [
        ...drawn.map((b) => ({ data: { id: b.name, caption: caption(b), colour: colours.get(b.name) ?? "" } })),
        ...[...lines].map(([id, l]) => ({ data: { id, source: l.source, target: l.target, caption: l.names.join("\n"), arrow: l.directed ? "triangle" : "none" } })),
      ],
      style: [
        {
          selector: "node",
          style: {
            shape: "round-rectangle", "background-color": "#ffffff", "border-width": 2.5, "border-color": "data(colour)", label: "data(caption)",
            "text-wrap": "wrap", "text-valign": "center", "text-halign": "center", "font-size": 14, color: "#22303a",
            width: "label", height: "label", padding: "10px",
          },
        },
        {
          selector: "edge",
          style: {
            width: 1.4, "line-color": "#8b98a1", "target-arrow-color": "#8b98a1", "target-arrow-shape": "data(arrow)" as never,
            "curve-style": "bezier", label: "data(caption)", "text-wrap": "wrap", "font-size": 12, color: "#22303a",
            "text-background-color": "#fdfcfa", "text-background-opacity": 0.9, "arrow-scale": 0.9,
          },
        },
      ],
      layout: { name: "dagre", rankDir: "LR", nodeSep: 26, rankSep: 110, edgeSep: 14, animate: false } as cytoscape.LayoutOptions,
      minZoom: 0.2,
      maxZoom: 2,
    });
    view.fit(undefined, 20);
    host.current.dataset["drawn"] = `${view.nodes().length} boxes, ${view.edges().length} lines`;
    return () => view.destroy();
  }, [drawn, model]);
  if (drawn.length === 0) return <p className="empty">Nothing is in the graph yet.</p>;
  return <div className="drawing" ref={host} role="img" aria-label={`Diagram of ${drawn.length} kinds of nodes and ${model.edge_types.length} edge types`} />;
}
