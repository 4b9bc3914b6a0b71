// Ways between two chosen nodes, and what leads to or from a choice.
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import type { GraphElement, Names } from "../shared/api";
import { type Way, pathBetween, reach } from "./queries";
import type { Exploration } from "./useExploration";
import { say } from "../shared/words";

interface Properties {
  selected: GraphElement[];
  exploration: Exploration;
  names: Names | undefined;
  onChoose: (ids: ReadonlySet<string>) => void;
}

export function PathForm({ selected, exploration, names, onChoose }: Properties) {
  const [weight, setWeight] = useState("");
  const [way, setWay] = useState<Way>("any");
  const [avoid, setAvoid] = useState<string[]>([]);
  const [hops, setHops] = useState(3);
  const two = selected.length === 2;
  const [a, b] = selected;
  const path = async () => {
    if (!a || !b) return;
    const before = new Set(exploration.picture.nodes.keys());
    const picture = await exploration.run(weight === "" ? say("Fewest hops between two") : say("Least {{weight}} between two", { weight }), pathBetween(a, b, { weight, way, avoid }));
    if (picture) onChoose(new Set([...picture.nodes.keys()].filter((id) => !before.has(id) || id === a.id || id === b.id)));
  };
  const spread = (where: Way, what: string) => void exploration.run(`${what}: ${selected.length}, ${say("{{n}} hops", { count: hops })}`, reach(selected, where, hops, avoid));
  return (
    <details className="path-form" open={two}>
      <summary>{say("Ways")}</summary>
      <div className="form-row">
        <Form.Label htmlFor="avoid">{say("Stay off")}</Form.Label>
        <Form.Select id="avoid" size="sm" multiple htmlSize={3} value={avoid} onChange={(e) => setAvoid([...e.target.selectedOptions].map((o) => o.value))}>
          {(names?.edge_labels ?? []).map((l) => <option key={l}>{l}</option>)}
        </Form.Select>
      </div>
      {two && (
        <>
          <div className="form-row">
            <Form.Select size="sm" aria-label={say("Least of")} value={weight} onChange={(e) => setWeight(e.target.value)}>
              <option value="">{say("fewest hops")}</option>
              {(names?.edge_properties ?? []).map((p) => <option key={p} value={p}>{say("least {{property}}", { property: p })}</option>)}
            </Form.Select>
            <Form.Select size="sm" aria-label={say("Direction")} value={way} onChange={(e) => setWay(e.target.value as Way)}>
              <option value="any">{say("any direction")}</option>
              <option value="out">{say("along edges")}</option>
              <option value="in">{say("against edges")}</option>
            </Form.Select>
          </div>
          <Button size="sm" id="path" disabled={exploration.busy} onClick={() => void path()}>{say("Path between them")}</Button>
        </>
      )}
      <div className="form-row">
        <Form.Label htmlFor="hops">{say("Hops")}</Form.Label>
        <Form.Control id="hops" size="sm" type="number" min={1} max={30} value={hops} onChange={(e) => setHops(Math.max(1, Number(e.target.value)))} />
        <Button size="sm" variant="outline-secondary" onClick={() => spread("in", say("What leads here"))}>{say("What leads here")}</Button>
        <Button size="sm" variant="outline-secondary" onClick={() => spread("out", say("Where it leads"))}>{say("Where it leads")}</Button>
      </div>
    </details>
  );
}
