// The drawing itself: a picture with places, colours, sizes and captions; what is chosen in it is told.
import cytoscape from "cytoscape";
import { useEffect, useRef } from "react";
import type { Bundle, Picture } from "./picture";
import type { Places } from "./layout";
import { type Group, behind } from "./hulls";
import { drawPlainly } from "./plainly";
import { figure, say } from "../shared/words";

export interface Looks {
  colour: (id: string) => string;
  /** Diameter in pixels. */
  size: (id: string) => number;
  caption: (id: string) => string;
  edgeLabel: (bundle: Bundle) => string;
  dark: boolean;
}

interface Properties {
  picture: Picture;
  bundles: Bundle[];
  places: Places;
  looks: Looks;
  chosen: ReadonlySet<string>;
  faded: ReadonlySet<string>;
  /** Groups that are outlined. */
  groups?: Group[];
  onChoose: (ids: Set<string>) => void;
  onOpen: (id: string) => void;
  onMoved: (places: Places) => void;
  /** Another value fits the drawing to the frame again. */
  fit: number;
  label: string;
  drawn: (instance: cytoscape.Core | null) => void;
}

/** Beyond this, edges have no captions and the drawing is made of simple forms. */
const DETAILED = 400;

function styles(detailed: boolean, dark: boolean): cytoscape.StylesheetJson {
  const ink = dark ? "#e8e4da" : "#22303a";
  const paper = dark ? "#1b2227" : "#fdfcfa";
  const line = dark ? "#8d99a1" : "#7f8b93";
  return [
    {
      selector: "node",
      style: {
        "background-color": "data(colour)", width: "data(size)", height: "data(size)", label: "data(caption)", "font-size": 12, color: ink,
        "text-valign": "bottom", "text-margin-y": 3, "text-max-width": "120px", "text-wrap": "ellipsis", "min-zoomed-font-size": 7,
        "border-width": 1, "border-color": ink, "border-opacity": 0.45, "text-outline-color": paper, "text-outline-width": 2,
      },
    },
    {
      selector: "edge",
      style: {
        width: "data(width)", "line-color": line, "line-style": "data(style)" as never, "target-arrow-color": line, "target-arrow-shape": "data(arrow)" as never,
        "arrow-scale": 0.9, "curve-style": detailed ? "bezier" : "haystack", "control-point-step-size": 28,
        ...(detailed ? { label: "data(caption)", "font-size": 9.5, color: ink, "text-rotation": "autorotate", "text-outline-color": paper, "text-outline-width": 2, "min-zoomed-font-size": 8 } : {}),
      } as never,
    },
    { selector: "node:selected", style: { "border-width": 4, "border-opacity": 1, "border-color": dark ? "#f0a46f" : "#c2571a" } },
    { selector: "edge:selected", style: { "line-color": dark ? "#f0a46f" : "#c2571a", "target-arrow-color": dark ? "#f0a46f" : "#c2571a", width: 3 } },
    { selector: ".faded", style: { opacity: 0.18 } },
  ];
}

export function Canvas(properties: Properties) {
  const { picture, bundles, places, looks, chosen, faded, groups, fit, label } = properties;
  const host = useRef<HTMLDivElement>(null);
  const back = useRef<HTMLCanvasElement>(null);
  const drawn = useRef<cytoscape.Core | null>(null);
  // What the drawing has told last: it needs not be told the same.
  const told = useRef<{ ids: ReadonlySet<string>; of: Picture | null }>({ ids: new Set(), of: null });
  const latest = useRef(properties);
  useEffect(() => {
    latest.current = properties;
  });
  const detailed = picture.nodes.size <= DETAILED && bundles.length <= DETAILED * 2;

  useEffect(() => {
    if (!host.current) return;
    const instance = cytoscape({
      container: host.current, elements: [], style: styles(true, false), layout: { name: "preset" }, minZoom: 0.02, maxZoom: 4, boxSelectionEnabled: true, selectionType: "additive",
      hideEdgesOnViewport: false, textureOnViewport: false, pixelRatio: "auto",
    });
    drawn.current = instance;
    latest.current.drawn(instance);
    const tell = () => {
      const ids = new Set(instance.$(":selected").map((e) => e.id()));
      told.current = { ids, of: latest.current.picture };
      latest.current.onChoose(ids);
    };
    let waiting = 0;
    instance.on("select unselect", () => {
      cancelAnimationFrame(waiting);
      waiting = requestAnimationFrame(tell);
    });
    instance.on("tap", (event) => {
      if (event.target === instance || !(event.originalEvent.shiftKey || event.originalEvent.ctrlKey || event.originalEvent.metaKey)) {
        const kept = event.target === instance ? null : event.target;
        instance.$(":selected").forEach((e) => {
          if (e !== kept) e.unselect();
        });
      }
    });
    instance.on("dbltap", "node", (event) => latest.current.onOpen(event.target.id()));
    instance.on("dragfree", "node", () => latest.current.onMoved(new Map(instance.nodes().map((n) => [n.id(), { ...n.position() }]))));
    return () => {
      cancelAnimationFrame(waiting);
      latest.current.drawn(null);
      drawn.current = null;
      instance.destroy();
    };
  }, []);

  useEffect(() => {
    const instance = drawn.current;
    if (!instance) return;
    instance.batch(() => {
      const wanted = new Set([...picture.nodes.keys(), ...bundles.map((b) => b.id)]);
      instance.elements().forEach((e) => {
        if (!wanted.has(e.id())) e.remove();
      });
      const added: cytoscape.ElementDefinition[] = [];
      for (const id of picture.nodes.keys()) {
        const data = { id, colour: looks.colour(id), size: looks.size(id), caption: looks.caption(id) };
        const position = places.get(id) ?? { x: 0, y: 0 };
        const known = instance.getElementById(id);
        if (known.empty()) added.push({ group: "nodes", data, position: { ...position } });
        else known.data(data).position({ ...position });
      }
      for (const bundle of bundles) {
        const many = bundle.edges.length;
        const data = {
          id: bundle.id, source: bundle.source, target: bundle.target, caption: looks.edgeLabel(bundle), arrow: bundle.directed ? "triangle" : "none",
          width: Math.min(6, 1.3 + Math.log2(many)), style: bundle.directed ? "solid" : "dashed",
        };
        const known = instance.getElementById(bundle.id);
        if (known.empty()) added.push({ group: "edges", data });
        else known.data(data);
      }
      instance.add(added);
      instance.style(styles(detailed, looks.dark));
      drawPlainly(instance, detailed ? null : looks.dark);
    });
    if (host.current) host.current.dataset["drawn"] = `${picture.nodes.size} nodes, ${bundles.length} edges`;
  }, [picture, bundles, places, looks, detailed]);

  useEffect(() => {
    drawn.current?.batch(() => drawn.current?.elements().forEach((e) => {
      e.toggleClass("faded", faded.has(e.id()) || (e.isEdge() && (faded.has(e.data("source") as string) || faded.has(e.data("target") as string))));
    }));
  }, [faded, picture, bundles]);

  useEffect(() => {
    const instance = drawn.current;
    const { ids, of } = told.current;
    if (!instance || (of === picture && ids.size === chosen.size && [...chosen].every((id) => ids.has(id)))) return;
    told.current = { ids: chosen, of: picture };
    instance.batch(() => instance.elements().forEach((e) => {
      if (chosen.has(e.id()) !== e.selected()) {
        if (chosen.has(e.id())) e.select();
        else e.unselect();
      }
    }));
  }, [chosen, picture]);

  useEffect(() => {
    const instance = drawn.current;
    if (!instance || instance.elements().empty()) return;
    instance.resize();
    instance.fit(undefined, 45);
    if (instance.zoom() > 1.5) {
      instance.zoom(1.5);
      instance.center();
    }
  }, [fit, places]);

  useEffect(() => {
    if (!back.current || !drawn.current || !groups || groups.length === 0) return undefined;
    return behind(back.current, drawn.current, groups);
  }, [groups, places, picture]);

  // The table of what is drawn says the same to those who do not see it.
  const arranging = picture.nodes.size > 0 && [...picture.nodes.keys()].some((id) => !places.has(id));
  return (
    <div className={arranging ? "canvas is-arranging" : "canvas"}>
      <canvas className="hulls" ref={back} aria-hidden="true" />
      <div className="drawing" ref={host} role="img" aria-label={label} />
      {arranging && <p className="arranging" role="status">{say("Arranging {{nodes}} nodes…", { nodes: figure(picture.nodes.size) })}</p>}
    </div>
  );
}
