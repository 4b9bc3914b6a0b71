// A result as a drawing, laid out without help.
import type cytoscape from "cytoscape";
import { useEffect, useMemo, useRef, useState } from "react";
import { Trans } from "react-i18next";
import type { QueryResult } from "../shared/api";
import { useLooks } from "../shared/looks";
import { useDark } from "../shared/theme";
import { Canvas } from "../explore/Canvas";
import { LegendPanel } from "../explore/LegendPanel";
import { Properties } from "../explore/SelectionPanel";
import { type Places, placed, suitable } from "../explore/layout";
import { USUAL, label, looksOf } from "../explore/looks";
import { svgOf } from "../explore/svg";
import { EMPTY, MOST_NODES, bundled, withRows } from "../explore/picture";
import { figure, say } from "../shared/words";

const NONE: ReadonlySet<string> = new Set();

export default function Drawing({ result, onDrawn }: { result: QueryResult; onDrawn?: (svg: string) => void }) {
  const dark = useDark();
  const kept = useLooks(result.summary.graph ?? null);
  const [chosen, choose] = useState<ReadonlySet<string>>(NONE);
  const [off, setOff] = useState<ReadonlySet<string>>(NONE);
  const instance = useRef<cytoscape.Core | null>(null);
  const [places, setPlaces] = useState<Places>(new Map());
  const picture = useMemo(() => withRows(EMPTY, result.rows), [result]);
  const bundles = useMemo(() => bundled(picture), [picture]);
  const { looks, legend } = useMemo(() => looksOf(picture, bundles, USUAL, new Map(), dark, kept), [picture, bundles, dark, kept]);
  useEffect(() => {
    let stale = false;
    const group = (id: string) => {
      const node = picture.nodes.get(id);
      return node ? label(node) : "";
    };
    if (picture.nodes.size > 0) {
      void placed(picture, bundles, suitable(picture, bundles), new Map(), ["", ""], 1.7, group).then((found) => {
        if (!stale) setPlaces(found);
      });
    }
    return () => {
      stale = true;
    };
  }, [picture, bundles]);
  useEffect(() => {
    // Drawn as it is on paper: for light.
    if (onDrawn && places.size > 0 && instance.current) onDrawn(svgOf(instance.current, false));
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once for each arrangement
  }, [places]);
  if (picture.nodes.size === 0) {
    return <p className="empty"><Trans i18nKey="Nothing to draw: return nodes, edges or paths, such as <code>RETURN n</code> or <code>p = ... RETURN p</code>." components={{ code: <code /> }} /></p>;
  }
  const one = [...chosen][0];
  const element = one === undefined ? undefined : (picture.nodes.get(one) ?? picture.edges.get(one));
  return (
    <div className="drawing-frame">
      <Canvas
        picture={picture} bundles={bundles} places={places} looks={looks} chosen={chosen} faded={new Set(legend.filter((e) => off.has(e.name)).flatMap((e) => e.ids))} fit={0}
        onChoose={choose} onOpen={() => undefined} onMoved={() => undefined} drawn={(now) => { instance.current = now; }}
        label={say("Drawing of {{nodes}} nodes and {{edges}} edges", { nodes: figure(picture.nodes.size), edges: figure(picture.edges.size) })}
      />
      <aside className="drawing-side">
        <LegendPanel legend={legend} off={off} onOff={setOff} onChoose={choose} scale={null} by="" />
        {picture.nodes.size >= MOST_NODES && <p className="faint">{say("The first {{nodes}} nodes are drawn.", { nodes: figure(MOST_NODES) })}</p>}
        {element ? <section className="side-part"><Properties element={element} /></section> : <p className="faint">{say("Choose a node or an edge to see its properties.")}</p>}
      </aside>
    </div>
  );
}
