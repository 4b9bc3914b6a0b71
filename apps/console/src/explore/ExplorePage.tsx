// Explore: from one node outward, step by step, and back to a query at any time.
import type cytoscape from "cytoscape";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import Alert from "react-bootstrap/Alert";
import { useSearchParams } from "react-router-dom";
import { type Measure, type Names, Problem, ask, get } from "../shared/api";
import { useLooks } from "../shared/looks";
import { useKept } from "../shared/kept";
import { ProblemBox } from "../shared/Problems";
import { useDark } from "../shared/theme";
import { Canvas } from "./Canvas";
import { DrawnTable } from "./DrawnTable";
import { FindPanel } from "./FindPanel";
import { LegendPanel } from "./LegendPanel";
import { LooksPanel } from "./LooksPanel";
import { DrawingsPanel } from "./DrawingsPanel";
import { SelectionPanel } from "./SelectionPanel";
import { StepsPanel } from "./StepsPanel";
import { Toolbar } from "./Toolbar";
import { handedOver } from "./handOver";
import { type LayoutName, type Places, placed, suitable } from "./layout";
import { openDrawing } from "./drawings";
import { type Choices, USUAL, label, looksOf } from "./looks";
import { bundled } from "./picture";
import { edgesBetween, measured } from "./queries";
import { useExploration } from "./useExploration";
import { figure, say } from "../shared/words";

const NONE: ReadonlySet<string> = new Set();
const NO_MEASURES: Measure[] = [];

export default function ExplorePage({ graph }: { graph: string }) {
  const exploration = useExploration(graph);
  const { picture, run, take, show, tell, fail } = exploration;
  const dark = useDark();
  const kept = useLooks(graph);
  const [chosen, choose] = useState<ReadonlySet<string>>(NONE);
  const [choices, setChoices] = useKept<Choices>(`looks ${graph}`, USUAL);
  const [layout, setLayout] = useState<LayoutName | null>(null);
  const [fields, setFields] = useState<[string, string]>(["", ""]);
  const [places, setPlaces] = useState<Places>(new Map());
  const [fit, setFit] = useState(0);
  const [off, setOff] = useState<ReadonlySet<string>>(NONE);
  const [values, setValues] = useState<ReadonlyMap<string, number>>(new Map());
  const [measuring, setMeasuring] = useState<Problem | null>(null);
  const drawn = useRef<cytoscape.Core | null>(null);
  const frame = useRef<HTMLDivElement>(null);
  const names = useQuery({ queryKey: ["names", graph], queryFn: () => get<Names>(`/v1/graphs/${encodeURIComponent(graph)}/names`) });
  const measures = useQuery({ queryKey: ["measures"], queryFn: () => get<Measure[]>("/v1/measures"), staleTime: Infinity });
  const [asked, setAsked] = useSearchParams();
  const [open, setOpen] = useState<{ name: string; revision: number } | null>(null);
  // Where nodes are put by a saved drawing, until they are.
  const saved = useRef<Places | null>(null);

  // A link may bring a query, the Query page a result.
  const begun = useRef<string | null>(null);
  useEffect(() => {
    const text = asked.get("text");
    const key = `${graph} ${text}`;
    if (begun.current === key) return;
    begun.current = key;
    const handed = handedOver(graph);
    if (handed) take(say("Result of a query"), handed.rows, handed.text);
    else if (text !== null && exploration.at === 0) void run(say("Linked query"), text);
  }, [asked, graph, run, take, exploration.at]);

  // A link may name a saved drawing, and so does choosing one.
  const named = asked.get("drawing");
  useEffect(() => {
    if (named === null) return;
    setAsked((now) => {
      now.delete("drawing");
      now.set("graph", graph);
      return now;
    }, { replace: true });
    openDrawing(graph, named).then(({ revision, query, picture: kept_, arrangement, gone }) => {
      saved.current = arrangement.places;
      setLayout(arrangement.layout);
      setFields(arrangement.fields);
      setChoices(arrangement.choices);
      show(named, kept_, query);
      setOpen({ name: named, revision });
      if (gone > 0) tell(say("{{n}} elements of the drawing {{name}} are no longer in the graph.", { count: gone, name: named }));
    }, (error: unknown) => {
      if (error instanceof Problem) fail(error);
    });
  }, [named, graph, setAsked, setChoices, show, tell, fail]);

  const bundles = useMemo(() => bundled(picture), [picture]);
  const name = layout ?? suitable(picture, bundles);
  const known = useRef<{ places: Places; name: LayoutName; fields: string; graph: string }>({ places: new Map(), name: "force", fields: "", graph });
  useEffect(() => {
    if (picture.nodes.size === 0) return;
    let stale = false;
    const box = frame.current?.getBoundingClientRect();
    const before = known.current;
    // Forces go on from where nodes are, other layouts begin anew.
    const from = before.name === name && before.graph === graph && name === "force" ? before.places : new Map();
    const given = saved.current;
    saved.current = null;
    if (given !== null && [...picture.nodes.keys()].every((id) => given.has(id))) {
      known.current = { places: given, name, fields: fields.join(), graph };
      setPlaces(given);
      setFit((f) => f + 1);
      return;
    }
    const group = (id: string) => {
      const node = picture.nodes.get(id);
      return node ? label(node) : "";
    };
    void placed(picture, bundles, name, from, fields, box ? box.width / Math.max(box.height, 1) : 1.5, group).then((found) => {
      if (stale) return;
      known.current = { places: found, name, fields: fields.join(), graph };
      setPlaces(found);
      setFit((f) => f + 1);
    });
    return () => {
      stale = true;
    };
  }, [picture, bundles, name, fields, graph]);

  // A measure is asked for the nodes that are drawn.
  const wanted = [choices.colourBy, choices.sizeBy].find((by) => by.includes(":")) ?? null;
  useEffect(() => {
    if (wanted === null || picture.nodes.size === 0) return;
    const [measure = "", column = ""] = wanted.split(":");
    const abort = new AbortController();
    setMeasuring(null);
    ask(graph, measured(measure, column, picture), 20_000, abort.signal).then(
      (answer) => setValues(new Map(answer.rows.map((row) => [String(row[0]), Number(row[1])]))),
      (error: unknown) => {
        if (error instanceof Problem) setMeasuring(error);
      },
    );
    return () => abort.abort();
  }, [wanted, picture, graph]);

  const { looks, legend, scale } = useMemo(() => looksOf(picture, bundles, choices, values, dark, kept), [picture, bundles, choices, values, dark, kept]);
  const faded = useMemo(() => new Set(legend.filter((e) => off.has(e.name)).flatMap((e) => e.ids)), [legend, off]);
  const groups = useMemo(() => (choices.outlined === true ? legend.filter((e) => !off.has(e.name)) : []), [choices.outlined, legend, off]);
  const there = useMemo(() => new Set([...chosen].filter((id) => picture.nodes.has(id) || picture.edges.has(id))), [chosen, picture]);
  const selected = useMemo(() => [...there].flatMap((id) => picture.nodes.get(id) ?? []), [there, picture]);
  const chooseAll = useCallback((ids: Set<string>) => choose(ids), []);
  const keys = (event: React.KeyboardEvent) => {
    if ((event.target as HTMLElement).closest("input, select, textarea")) return;
    const command = event.ctrlKey || event.metaKey;
    if (event.key === "Delete" && there.size > 0) exploration.hide(there);
    else if (command && event.key === "z") exploration.goTo(exploration.at - (event.shiftKey ? -1 : 1));
    else if (command && event.key === "a") choose(new Set(picture.nodes.keys()));
    else if (event.key === "Escape") choose(NONE);
    else return;
    event.preventDefault();
  };
  const empty = picture.nodes.size === 0;
  return (
    <main className="page explore" onKeyDown={keys}>
      <h1 className="visually-hidden">{say("Explore {{graph}}", { graph })}</h1>
      <FindPanel graph={graph} names={names.data} exploration={exploration} onFound={(ids) => choose(ids)} />
      {exploration.problem && <ProblemBox problem={exploration.problem} onClose={exploration.dismiss} />}
      {measuring && <ProblemBox problem={measuring} onClose={() => setMeasuring(null)} />}
      {exploration.note && <Alert variant="info" className="problem" dismissible onClose={exploration.dismiss}>{exploration.note}</Alert>}
      <div className="explore-frame">
        <div className="explore-main" ref={frame}>
          <Toolbar
            graph={graph} exploration={exploration} chosen={there} layout={name} onLayout={setLayout} fields={fields} onFields={setFields} onFit={() => setFit((f) => f + 1)}
            drawn={drawn} groups={groups} dark={dark} onComplete={() => void run(say("All edges between"), edgesBetween(picture))} onChoose={choose}
          />
          <Canvas
            picture={picture} bundles={bundles} places={places} looks={looks} chosen={there} faded={faded} groups={groups} fit={fit} onChoose={chooseAll}
            onOpen={(id) => choose(new Set([id]))}
            onMoved={(moved) => {
              known.current = { ...known.current, places: moved };
            }}
            label={say("Drawing of {{nodes}} nodes and {{edges}} edges; the table below lists them", { nodes: figure(picture.nodes.size), edges: figure(picture.edges.size) })}
            drawn={(instance) => {
              drawn.current = instance;
            }}
          />
          {empty && (
            <div className="explore-empty">
              <p>{say("Look for a node above, by its key or its name, or begin with one of these:")}</p>
              <p><button type="button" className="example" onClick={() => void run(say("Forty edges"), "MATCH (a)-[e]->(b)\nRETURN a, e, b\nLIMIT 40")}>{say("Forty edges")}</button></p>
            </div>
          )}
        </div>
        <aside className="explore-side" aria-label={say("About the drawing")}>
          <SelectionPanel key={selected.map((n) => n.id).join()} graph={graph} selected={selected} edges={[...there].flatMap((id) => picture.edges.get(id) ?? [])} exploration={exploration} names={names.data} onChoose={choose} />
          <LegendPanel legend={legend} off={off} onOff={setOff} onChoose={choose} scale={scale} by={choices.colourBy} />
          <LooksPanel picture={picture} choices={choices} onChange={setChoices} measures={measures.data ?? NO_MEASURES} />
          <StepsPanel exploration={exploration} graph={graph} />
          <DrawingsPanel
            graph={graph} picture={picture} arrangement={() => ({ layout, fields, choices, places: known.current.places })} open={open}
            onOpen={(of) => setAsked({ graph, drawing: of })} onSaved={(of, revision) => setOpen({ name: of, revision })}
          />
        </aside>
      </div>
      <DrawnTable picture={picture} chosen={there} onChoose={choose} />
    </main>
  );
}
