// A model as a diagram: node types that share a key as one box, edge types between them, laid out in layers.
import cytoscape from "cytoscape";
import dagre from "cytoscape-dagre";
import { useEffect, useMemo, useRef } from "react";
import type { ModelNodeType, ModelTypes } from "./api";
import type { Choice } from "./TypeForm";
import { labelColours } from "./palette";

cytoscape.use(dagre as cytoscape.Ext);

interface Box {
  name: string;
  kinds: ModelNodeType[];
  count: number;
}

function boxes(model: ModelTypes): Box[] {
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

export default function ModelDiagram({ model, choice, onChoose }: { model: ModelTypes; choice: Choice | null; onChoose: (choice: Choice) => void }) {
  const host = useRef<HTMLDivElement>(null);
  const drawn = useMemo(() => boxes(model), [model]);
  const view = useRef<cytoscape.Core | null>(null);
  const choose = useRef(onChoose);
  useEffect(() => {
    choose.current = onChoose;
  }, [onChoose]);
  useEffect(() => {
    if (!host.current || drawn.length === 0) return;
    const colours = labelColours(drawn.map((b) => b.name));
    const ends = (sets: string[][]) => drawn.filter((b) => b.kinds.some((k) => sets.some((set) => set.every((l) => k.labels.includes(l)))));
    // Edge types between the same two boxes share a line.
    const lines = new Map<string, { source: string; target: string; names: string[]; directed: boolean; places: number[] }>();
    for (const [place, edge] of model.edge_types.entries()) {
      for (const from of ends(edge.source)) {
        for (const to of ends(edge.target)) {
          const id = `${from.name}|${to.name}|${edge.directed}`;
          const line = lines.get(id) ?? { source: from.name, target: to.name, names: [], directed: edge.directed, places: [] };
          line.places.push(place);
          const name = edge.labels.join("&");
          if (!line.names.includes(name)) line.names.push(name);
          lines.set(id, line);
        }
      }
    }
    const made = cytoscape({
      container: host.current,
      elements: [
        ...drawn.map((b) => ({ data: { id: b.name, places: b.kinds.map((k) => model.node_types.indexOf(k)), caption: caption(b), colour: colours.get(b.name) ?? "" } })),
        ...[...lines].map(([id, l]) => ({ data: { id, source: l.source, target: l.target, places: l.places, caption: l.names.join("\n"), arrow: l.directed ? "triangle" : "none" } })),
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
        // A bow above its box, its caption over the bow: not behind the box.
        { selector: ":loop", style: { "loop-direction": "-45deg", "loop-sweep": "-50deg", "control-point-step-size": 90, "text-margin-y": -18, "text-margin-x": -14 } },
        { selector: ".chosen", style: { "border-width": 4, "line-color": "#c2571a", "target-arrow-color": "#c2571a", "border-style": "double" } },
      ],
      layout: { name: "dagre", rankDir: "LR", nodeSep: 26, rankSep: 110, edgeSep: 14, animate: false } as cytoscape.LayoutOptions,
      minZoom: 0.2,
      maxZoom: 2,
    });
    made.fit(undefined, 20);
    // Again on the same box or line: its next type.
    made.on("tap", "node, edge", (event) => {
      const target = event.target as cytoscape.SingularElementReturnValue;
      const places = target.data("places") as number[];
      const turn = ((target.scratch("turn") as number | undefined) ?? -1) + 1;
      target.scratch("turn", turn);
      choose.current({ kind: target.isNode() ? "node" : "edge", place: places[turn % places.length] ?? 0 });
    });
    host.current.dataset["drawn"] = `${made.nodes().length} boxes, ${made.edges().length} lines`;
    view.current = made;
    return () => {
      made.destroy();
      view.current = null;
    };
  }, [drawn, model]);
  useEffect(() => {
    const made = view.current;
    if (!made) return;
    made.elements().removeClass("chosen");
    if (choice) made.elements().filter((e) => e.isNode() === (choice.kind === "node") && (e.data("places") as number[]).includes(choice.place)).addClass("chosen");
  }, [choice, drawn, model]);
  if (drawn.length === 0) return <p className="empty">Nothing is in the graph yet.</p>;
  return <div className="drawing" ref={host} role="img" aria-label={`Diagram of ${drawn.length} kinds of nodes and ${model.edge_types.length} edge types`} />;
}
