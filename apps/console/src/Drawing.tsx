// A result as a drawing: its nodes, edges and paths, laid out without help.
import cytoscape from "cytoscape";
import dagre from "cytoscape-dagre";
import { useEffect, useMemo, useRef, useState } from "react";
import { type GraphElement, type Json, type QueryResult, cellText, elementName, isElement } from "./api";
import { labelColours } from "./palette";

cytoscape.use(dagre as cytoscape.Ext);

/** More than this is a blot, not a drawing. */
const MOST = 400;

interface Found {
  nodes: Map<string, GraphElement>;
  edges: Map<string, GraphElement>;
}

function collect(value: Json | undefined, found: Found): void {
  if (value === null || value === undefined || typeof value !== "object") return;
  if (Array.isArray(value)) {
    value.forEach((v) => collect(v, found));
  } else if (isElement(value, "node")) {
    const element = value as unknown as GraphElement;
    if (found.nodes.size < MOST) found.nodes.set(element.id, element);
  } else if (isElement(value, "edge")) {
    const element = value as unknown as GraphElement;
    found.edges.set(element.id, element);
  } else {
    Object.values(value).forEach((v) => collect(v, found));
  }
}

export default function Drawing({ result }: { result: QueryResult }) {
  const host = useRef<HTMLDivElement>(null);
  const [chosen, choose] = useState<GraphElement | null>(null);
  const found = useMemo(() => {
    const found: Found = { nodes: new Map(), edges: new Map() };
    result.rows.forEach((row) => row.forEach((cell) => collect(cell, found)));
    return found;
  }, [result]);
  const labels = useMemo(() => {
    const counts = new Map<string, number>();
    for (const node of found.nodes.values()) {
      const label = node.labels.join("&");
      counts.set(label, (counts.get(label) ?? 0) + 1);
    }
    return [...counts].sort();
  }, [found]);

  const colours = useMemo(() => labelColours(labels.map(([label]) => label)), [labels]);

  useEffect(() => {
    if (!host.current || found.nodes.size === 0) return;
    const ink = getComputedStyle(document.documentElement).getPropertyValue("--ink").trim() || "#22303a";
    const edges = [...found.edges.values()].filter((e) => found.nodes.has(e.source ?? "") && found.nodes.has(e.target ?? ""));
    const drawn = cytoscape({
      container: host.current,
      elements: [
        ...[...found.nodes.values()].map((n) => ({
          data: {
            id: n.id,
            caption: n.key.map((k) => String(n.properties[k])).join("/") || n.id,
            colour: colours.get(n.labels.join("&")) ?? "",
          },
        })),
        ...edges.map((e) => ({
          data: { id: e.id, source: e.source ?? "", target: e.target ?? "", caption: e.labels.join("&"), arrow: e.directed === false ? "none" : "triangle" },
        })),
      ],
      style: [
        {
          selector: "node",
          style: {
            "background-color": "data(colour)", label: "data(caption)", width: 26, height: 26, "font-size": 14, color: ink,
            "text-valign": "bottom", "text-margin-y": 3, "text-background-color": "#ffffff", "text-background-opacity": 0.7,
          },
        },
        {
          selector: "edge",
          style: {
            width: 1.4, "line-color": "#8b98a1", "target-arrow-color": "#8b98a1", "target-arrow-shape": "data(arrow)" as never,
            "curve-style": "bezier", label: "data(caption)", "font-size": 10, color: ink, "text-rotation": "autorotate",
            "text-background-color": "#ffffff", "text-background-opacity": 0.7, "arrow-scale": 0.9,
          },
        },
        { selector: ":selected", style: { "border-width": 3, "border-color": ink, "line-color": ink, "target-arrow-color": ink } },
      ],
      layout:
        edges.length > 0 && edges.length <= found.nodes.size * 1.3
          ? ({ name: "dagre", rankDir: "LR", nodeSep: 30, rankSep: 90, animate: false } as cytoscape.LayoutOptions)
          : { name: "cose", animate: false, nodeRepulsion: () => 9000, idealEdgeLength: () => 70, randomize: true } as cytoscape.LayoutOptions,
      minZoom: 0.1,
      maxZoom: 3,
    });
    drawn.fit(undefined, 30);
    if (drawn.zoom() > 1.6) {
      drawn.zoom(1.6);
      drawn.center();
    }
    drawn.on("select", (event) => {
      const id = event.target.id() as string;
      choose(found.nodes.get(id) ?? found.edges.get(id) ?? null);
    });
    drawn.on("unselect", () => choose(null));
    host.current.dataset["drawn"] = `${drawn.nodes().length} nodes, ${drawn.edges().length} edges`;
    return () => drawn.destroy();
  }, [found, colours]);

  if (found.nodes.size === 0) {
    return <p className="empty">Nothing to draw: return nodes, edges or paths, such as <code>RETURN n</code> or <code>p = ... RETURN p</code>.</p>;
  }
  return (
    <div className="drawing-frame">
      <div className="drawing" ref={host} role="img" aria-label={`Drawing of ${found.nodes.size} nodes and ${found.edges.size} edges`} />
      <aside className="drawing-side">
        <ul className="legend">
          {labels.map(([label, count]) => (
            <li key={label}><span className="dot" style={{ background: colours.get(label) }} /> {label} <span className="faint">{count}</span></li>
          ))}
        </ul>
        {found.nodes.size >= MOST && <p className="faint">The first {MOST} nodes are drawn.</p>}
        {chosen ? (
          <div>
            <h3>{elementName(chosen)}</h3>
            <dl>{Object.entries(chosen.properties).map(([k, v]) => <div key={k}><dt>{k}</dt><dd>{cellText(v)}</dd></div>)}</dl>
          </div>
        ) : <p className="faint">Select a node or an edge to see its properties.</p>}
      </aside>
    </div>
  );
}
