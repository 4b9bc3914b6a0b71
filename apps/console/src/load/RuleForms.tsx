// One rule of a mapping as a form: a label, and for each property the column it comes from, chosen by
// keyboard or dropped on it.
import Form from "react-bootstrap/Form";
import type { Model } from "../shared/api";
import { type EdgeRule, type FieldSource, type NodeRule, type Reference, fieldText } from "./mapping";
import { say } from "../shared/words";

function Field({ name, field, columns, hint, onChange }: { name: string; field: FieldSource | undefined; columns: string[]; hint: string; onChange: (next: FieldSource | undefined) => void }) {
  const shown = fieldText(field);
  const isColumn = field === undefined || typeof field === "string";
  return (
    <label className="rule-field" onDragOver={(e) => e.preventDefault()} onDrop={(e) => { const column = e.dataTransfer.getData("text/plain"); if (columns.includes(column)) { e.preventDefault(); e.stopPropagation(); onChange(column); } }}>
      <span>{name} <span className="faint">{hint}</span></span>
      <Form.Select size="sm" aria-label={say("Column for {{name}}", { name })} value={shown} onChange={(e) => onChange(e.target.value === "" ? undefined : e.target.value)}>
        <option value="">{say("no column")}</option>
        {(!isColumn || !columns.includes(shown)) && shown !== "" && <option value={shown}>{shown}</option>}
        {columns.map((c) => <option key={c} value={c}>{c}</option>)}
      </Form.Select>
    </label>
  );
}

function changed(fields: Record<string, FieldSource> | undefined, name: string, next: FieldSource | undefined): Record<string, FieldSource> {
  const left = Object.fromEntries(Object.entries(fields ?? {}).filter(([known]) => known !== name));
  return next === undefined ? left : { ...left, [name]: next };
}

const EXISTING = [["reject", "rejected"], ["keep", "left as it is"], ["update", "updated"], ["replace", "replaced"]] as const;

function Existing({ value, onChange }: { value: string | undefined; onChange: (next: string) => void }) {
  return (
    <label className="rule-field"><span>{say("if the key exists with other values")}</span>
      <Form.Select size="sm" aria-label={say("If the element exists")} value={value ?? "reject"} onChange={(e) => onChange(e.target.value)}>
        {EXISTING.map(([name, words]) => <option key={name} value={name}>{say(words)}</option>)}
      </Form.Select>
    </label>
  );
}

export function NodeForm({ rule, columns, model, onChange }: { rule: NodeRule; columns: string[]; model: Model | null; onChange: (next: NodeRule | null) => void }) {
  const types = model?.node_types ?? [];
  const type = types.find((t) => rule.labels.every((l) => t.labels.includes(l)));
  const names = [...new Set([...(type?.properties.map((p) => p.name) ?? (columns.length > 0 ? columns : [])), ...Object.keys(rule.properties)])];
  const labels = [...new Set([...types.map((t) => t.labels.join("&")), rule.labels.join("&")])];
  return (
    <fieldset className="rule node-rule">
      <legend>{say("Node")}
        <Form.Select size="sm" aria-label={say("Label")} value={rule.labels.join("&")} onChange={(e) => onChange({ ...rule, labels: e.target.value.split("&") })}>
          {labels.map((l) => <option key={l} value={l}>{l}</option>)}
        </Form.Select>
        <button type="button" className="btn btn-sm btn-link" onClick={() => onChange(null)}>{say("Remove")}</button>
      </legend>
      <div className="rule-fields">
        {names.map((name) => {
          const known = type?.properties.find((p) => p.name === name);
          const hint = known ? `${known.type}${type?.key.includes(name) ? `, ${say("key")}` : ""}` : "";
          return <Field key={name} name={name} field={rule.properties[name]} columns={columns} hint={hint} onChange={(next) => onChange({ ...rule, properties: changed(rule.properties, name, next) })} />;
        })}
        <Existing value={rule.existing} onChange={(existing) => onChange({ ...rule, existing })} />
      </div>
    </fieldset>
  );
}

function End({ name, end, columns, model, onChange }: { name: string; end: Reference; columns: string[]; model: Model | null; onChange: (next: Reference) => void }) {
  if (end.id !== undefined) return <Field name={`${name} (id)`} field={end.id} columns={columns} hint="" onChange={(id) => onChange(id === undefined ? {} : { ...end, id })} />;
  const label = end.labels?.join(", ") ?? "";
  const keyed = (model?.node_types ?? []).filter((t) => t.key.length > 0);
  const labels = [...new Set([...keyed.map((t) => t.key_labels[0] ?? t.labels[0] ?? ""), ...(label ? [label] : [])])];
  const key = Object.keys(end.key ?? {});
  const pick = (next: string) => {
    const type = keyed.find((t) => t.labels.includes(next));
    onChange({ ...end, labels: [next], key: Object.fromEntries((type?.key ?? key).map((k) => [k, end.key?.[k] ?? columns[0] ?? ""])) });
  };
  return (
    <>
      <label className="rule-field"><span>{name}</span>
        <Form.Select size="sm" aria-label={say("Label of {{name}}", { name })} value={label} onChange={(e) => pick(e.target.value)}>
          {label === "" && <option value="">{say("choose")}</option>}
          {labels.map((l) => <option key={l} value={l}>{l}</option>)}
        </Form.Select>
      </label>
      {key.map((k) => <Field key={k} name={`${name} ${k}`} field={end.key?.[k]} columns={columns} hint="" onChange={(next) => onChange({ ...end, key: changed(end.key, k, next ?? "") })} />)}
    </>
  );
}

export function EdgeForm({ rule, columns, model, onChange }: { rule: EdgeRule; columns: string[]; model: Model | null; onChange: (next: EdgeRule | null) => void }) {
  const types = model?.edge_types ?? [];
  const type = types.find((t) => t.labels.includes(rule.label));
  const names = [...new Set([...(type?.properties.map((p) => p.name) ?? []), ...Object.keys(rule.properties ?? {})])];
  const labels = [...new Set([...types.flatMap((t) => t.labels), rule.label])];
  return (
    <fieldset className="rule edge-rule">
      <legend>{say("Edge")}
        <Form.Select size="sm" aria-label={say("Edge label")} value={rule.label} onChange={(e) => { const next = types.find((t) => t.labels.includes(e.target.value)); onChange({ ...rule, label: e.target.value, undirected: next ? !next.directed : (rule.undirected ?? false) }); }}>
          {labels.map((l) => <option key={l} value={l}>{l}</option>)}
        </Form.Select>
        <button type="button" className="btn btn-sm btn-link" onClick={() => onChange(null)}>{say("Remove")}</button>
      </legend>
      <div className="rule-fields">
        <End name={say("source")} end={rule.source} columns={columns} model={model} onChange={(source) => onChange({ ...rule, source })} />
        <End name={say("target")} end={rule.target} columns={columns} model={model} onChange={(target) => onChange({ ...rule, target })} />
        {names.map((name) => <Field key={name} name={name} field={rule.properties?.[name]} columns={columns} hint={type?.properties.find((p) => p.name === name)?.type ?? ""} onChange={(next) => onChange({ ...rule, properties: changed(rule.properties, name, next) })} />)}
        <label className="rule-field"><span>{say("edges with the same ends are")}</span>
          <Form.Select size="sm" aria-label={say("Same edges")} value={rule.same ?? "identical-once"} onChange={(e) => onChange({ ...rule, same: e.target.value })}>
            <option value="identical-once">{say("one if all values agree")}</option>
            <option value="same-ends-once">{say("one")}</option>
            <option value="one-per-row">{say("parallel, one for each row")}</option>
            <option value="keep-parallel">{say("parallel, new ones each time")}</option>
          </Form.Select>
        </label>
      </div>
    </fieldset>
  );
}
