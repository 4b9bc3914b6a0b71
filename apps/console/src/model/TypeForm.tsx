// One type of a model as a form: what is changed here is changed in the model's text.
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import type { ModelEdgeType, ModelNodeType, ModelProperty, ModelTypes } from "../shared/api";
import { say } from "../shared/words";

/** A type by its kind and place in the model. */
export interface Choice {
  kind: "node" | "edge";
  place: number;
}

const VALUE_TYPES = [
  "STRING", "INT64", "INT32", "INT16", "FLOAT64", "DECIMAL(10, 2)", "BOOL", "DATE", "LOCAL DATETIME", "ZONED DATETIME", "LOCAL TIME", "DURATION", "BYTES", "LIST<STRING>",
];

const sets = (ends: string[][]) => ends.map((set) => set.join("&")).join(" | ");
const labelSet = (text: string) => text.split("&").map((l) => l.trim().replace(/^:/, "")).filter(Boolean);

export function typeName(types: ModelTypes, choice: Choice): string {
  if (choice.kind === "node") return `(${types.node_types[choice.place]?.labels.join("&") ?? ""})`;
  const edge = types.edge_types[choice.place];
  if (!edge) return "";
  const [open, close] = edge.directed ? ["-[", "]->"] : ["~[", "]~"];
  return `(${sets(edge.source)})${open}${edge.labels.join("&")}${close}(${sets(edge.target)})`;
}

/** A text that is only taken over when it is left: half a name is no name. */
function Settled({ label, value, onSettle, list, ...rest }: { label: string; value: string; onSettle: (value: string) => void; list?: string; className?: string; placeholder?: string }) {
  const [typed, setTyped] = useState<string | null>(null);
  const settle = () => {
    if (typed !== null && typed.trim() !== value) onSettle(typed.trim());
    setTyped(null);
  };
  return (
    <Form.Control size="sm" aria-label={label} title={label} list={list} value={typed ?? value} {...rest}
      onChange={(e) => setTyped(e.target.value)} onBlur={settle} onKeyDown={(e) => { if (e.key === "Enter") settle(); }} />
  );
}

export function TypeForm({ types, choice, onChoose, onChange }: { types: ModelTypes; choice: Choice | null; onChoose: (choice: Choice | null) => void; onChange: (types: ModelTypes) => void }) {
  const type: ModelNodeType | ModelEdgeType | undefined = choice?.kind === "node" ? types.node_types[choice.place] : choice ? types.edge_types[choice.place] : undefined;
  const edge = choice?.kind === "edge" ? types.edge_types[choice.place] : undefined;

  const replace = (changed: Partial<ModelEdgeType>) => {
    if (!choice) return;
    const at = <T,>(list: T[]) => list.map((t, i) => (i === choice.place ? { ...t, ...changed } : t));
    onChange(choice.kind === "node" ? { ...types, node_types: at(types.node_types) } : { ...types, edge_types: at(types.edge_types) });
  };
  const property = (place: number, changed: Partial<ModelProperty>) => {
    if (!type) return;
    const before = type.properties[place];
    const properties = type.properties.map((p, i) => (i === place ? { ...p, ...changed } : p));
    const key = type.key.map((k) => (changed.name !== undefined && k === before?.name ? changed.name : k));
    replace({ properties, key });
  };
  const relabel = (text: string) => {
    const labels = labelSet(text);
    if (labels.length === 0 || !type || !choice) return;
    // The ends of edge types go with the labels of a node type.
    const before = type.labels.join("&");
    const ends = (list: string[][]) => list.map((set) => (set.join("&") === before ? labels : set));
    if (choice.kind === "edge") return replace({ labels });
    onChange({
      ...types,
      node_types: types.node_types.map((t, i) => (i === choice.place ? { ...t, labels, key_labels: [] } : t)),
      edge_types: types.edge_types.map((e) => ({ ...e, source: ends(e.source), target: ends(e.target) })),
    });
  };
  const remove = () => {
    if (!choice) return;
    const without = <T,>(list: T[]) => list.filter((_, i) => i !== choice.place);
    onChoose(null);
    onChange(choice.kind === "node" ? { ...types, node_types: without(types.node_types) } : { ...types, edge_types: without(types.edge_types) });
  };
  const free = (wanted: string, taken: string[]) => {
    let name = wanted;
    for (let i = 2; taken.includes(name); i++) name = `${wanted}${i}`;
    return name;
  };
  const addNode = () => {
    const label = free("NewType", types.node_types.flatMap((t) => t.labels));
    onChange({ ...types, node_types: [...types.node_types, { name: null, labels: [label], key_labels: [], properties: [], key: [], count: 0 }] });
    onChoose({ kind: "node", place: types.node_types.length });
  };
  const addEdge = () => {
    const label = free("NEW_EDGE", types.edge_types.flatMap((t) => t.labels));
    const end = [types.node_types[choice?.kind === "node" ? choice.place : 0]?.labels ?? []];
    onChange({ ...types, edge_types: [...types.edge_types, { name: null, labels: [label], directed: true, source: end, target: end, properties: [], key: [], count: 0 }] });
    onChoose({ kind: "edge", place: types.edge_types.length });
  };

  const nodeLabels = [...new Set(types.node_types.flatMap((t) => [t.labels.join("&"), ...(t.key_labels.length > 0 ? [t.key_labels.join("&")] : [])]))];
  return (
    <section className="type-form" aria-label={say("A type of the model")}>
      <div className="tools">
        <Form.Select size="sm" aria-label={say("Type to change")} value={choice ? `${choice.kind}:${choice.place}` : ""} onChange={(e) => {
          const [kind, place] = e.target.value.split(":");
          onChoose(kind === "node" || kind === "edge" ? { kind, place: Number(place) } : null);
        }}>
          <option value="">{say("Choose a type here or in the diagram")}</option>
          <optgroup label={say("Nodes")}>{types.node_types.map((_, place) => <option key={place} value={`node:${place}`}>{typeName(types, { kind: "node", place })}</option>)}</optgroup>
          <optgroup label={say("Edges")}>{types.edge_types.map((_, place) => <option key={place} value={`edge:${place}`}>{typeName(types, { kind: "edge", place })}</option>)}</optgroup>
        </Form.Select>
        <Button size="sm" variant="outline-secondary" id="add-node" onClick={addNode}>{say("Add node type")}</Button>
        <Button size="sm" variant="outline-secondary" id="add-edge" disabled={types.node_types.length === 0} onClick={addEdge}>{say("Add edge type")}</Button>
        {type && <Button size="sm" variant="outline-danger" id="remove-type" onClick={remove}>{say("Drop this type")}</Button>}
      </div>
      {type && choice && (
        <>
          <div className="tools">
            <Settled label={say("Labels")} className="name" value={type.labels.join("&")} onSettle={relabel} />
            {edge && (
              <>
                <Settled label={say("From")} list="node-labels" className="name" value={sets(edge.source)} onSettle={(text) => replace({ source: text.split("|").map(labelSet) })} />
                <Form.Select size="sm" className="direction" aria-label={say("Direction")} value={edge.directed ? "to" : "with"} onChange={(e) => replace({ directed: e.target.value === "to" })}>
                  <option value="to">{say("to")}</option>
                  <option value="with">{say("with (undirected)")}</option>
                </Form.Select>
                <Settled label={say("To")} list="node-labels" className="name" value={sets(edge.target)} onSettle={(text) => replace({ target: text.split("|").map(labelSet) })} />
              </>
            )}
            <span className="faint">{choice.kind === "node" ? say("{{n}} nodes", { count: type.count }) : say("{{n}} edges with these labels", { count: type.count })}</span>
            <datalist id="node-labels">{nodeLabels.map((l) => <option key={l} value={l} />)}</datalist>
            <datalist id="value-types">{VALUE_TYPES.map((t) => <option key={t} value={t} />)}</datalist>
          </div>
          <table className="properties">
            <thead><tr><th>{say("Property")}</th><th>{say("Type")}</th><th>{say("Needed")}</th><th>{say("Key")}</th><th>{say("Default")}</th><th></th></tr></thead>
            <tbody>
              {type.properties.map((p, i) => (
                <tr key={p.name}>
                  <td><Settled label={say("Property")} value={p.name} onSettle={(name) => property(i, { name })} /></td>
                  <td><Settled label={say("Type of {{name}}", { name: p.name })} list="value-types" value={p.type} onSettle={(t) => property(i, { type: t })} /></td>
                  <td><Form.Check aria-label={say("{{name}} is needed", { name: p.name })} checked={p.not_null} disabled={type.key.includes(p.name)} onChange={(e) => property(i, { not_null: e.target.checked })} /></td>
                  <td><Form.Check aria-label={say("{{name}} is in the key", { name: p.name })} checked={type.key.includes(p.name)} onChange={(e) => {
                    const key = e.target.checked ? [...type.key, p.name] : type.key.filter((k) => k !== p.name);
                    replace({ key, properties: type.properties.map((q, j) => (j === i && e.target.checked ? { ...q, not_null: true } : q)) });
                  }} /></td>
                  <td><Settled label={say("Default of {{name}}", { name: p.name })} placeholder={say("none")} value={p.default ?? ""} onSettle={(d) => property(i, { default: d === "" ? null : d })} /></td>
                  <td><Button size="sm" variant="link" aria-label={say("Drop {{name}}", { name: p.name })} onClick={() => replace({ properties: type.properties.filter((_, j) => j !== i), key: type.key.filter((k) => k !== p.name) })}>{say("drop")}</Button></td>
                </tr>
              ))}
            </tbody>
          </table>
          <Button size="sm" variant="outline-secondary" id="add-property" onClick={() => replace({ properties: [...type.properties, { name: free("property", type.properties.map((p) => p.name)), type: "STRING", not_null: false, default: null }] })}>{say("Add property")}</Button>
        </>
      )}
    </section>
  );
}
