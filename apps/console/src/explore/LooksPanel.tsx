// By what nodes are coloured, sized and captioned.
import { memo, useMemo } from "react";
import Form from "react-bootstrap/Form";
import type { Measure } from "../shared/api";
import { scalar } from "./layout";
import { type Choices, label } from "./looks";
import { type Picture, labelCounts, propertyNames } from "./picture";
import { say } from "../shared/words";

interface Properties {
  picture: Picture;
  choices: Choices;
  onChange: (choices: Choices) => void;
  measures: Measure[];
}

/** Measures with one row a node and no argument that must be given, with a column of numbers each. */
function usable(measures: Measure[]): [string, string][] {
  return measures
    .filter((m) => m.once_an_element && m.columns[0]?.type === "NODE" && m.arguments.every((a) => !a.required))
    .flatMap((m) => m.columns.filter((c) => c.type === "FLOAT64" || c.type === "INT64").slice(0, 1).map((c) => [m.name, c.name] as [string, string]));
}

/** Names of properties that a choice may be of. */
function offered(picture: Picture) {
  const nodes = [...picture.nodes.values()];
  return {
    all: propertyNames(nodes, (v) => v !== null),
    numbers: propertyNames(nodes, (v) => scalar(v) !== null),
    edgeProperties: propertyNames(picture.edges.values(), (v) => v !== null),
    labels: labelCounts(nodes).map(([name]): [string, string[]] => [name, propertyNames(nodes.filter((n) => label(n) === name), (v) => v !== null)]),
  };
}

// A choice in the drawing changes nothing here, and a large picture's properties are many.
export const LooksPanel = memo(function LooksPanel({ picture, choices, onChange, measures }: Properties) {
  const { all, numbers, edgeProperties, labels } = useMemo(() => offered(picture), [picture]);
  if (picture.nodes.size === 0) return null;
  const measured = usable(measures).map(([m, c]) => <option key={`${m}:${c}`} value={`${m}:${c}`}>{m.replaceAll("_", " ")}</option>);
  return (
    <details className="side-part">
      <summary>{say("Colours, sizes, captions")}</summary>
      <div className="form-row">
        <Form.Label htmlFor="colour-by">{say("Colour by")}</Form.Label>
        <Form.Select id="colour-by" size="sm" value={choices.colourBy} onChange={(e) => onChange({ ...choices, colourBy: e.target.value })}>
          <option value="">{say("label")}</option>
          <optgroup label={say("Properties")}>{all.map((p) => <option key={p}>{p}</option>)}</optgroup>
          <optgroup label={say("Measures of the whole graph")}>{measured}</optgroup>
        </Form.Select>
      </div>
      <div className="form-row">
        <Form.Label htmlFor="size-by">{say("Size by")}</Form.Label>
        <Form.Select id="size-by" size="sm" value={choices.sizeBy} onChange={(e) => onChange({ ...choices, sizeBy: e.target.value })}>
          <option value="">{say("all alike")}</option>
          <option value="#degree">{say("edges in the drawing")}</option>
          <optgroup label={say("Properties")}>{numbers.map((p) => <option key={p}>{p}</option>)}</optgroup>
          <optgroup label={say("Measures of the whole graph")}>{measured}</optgroup>
        </Form.Select>
      </div>
      {labels.map(([name, properties]) => (
        <div className="form-row" key={name}>
          <Form.Label htmlFor={`caption-${name}`}>{name}</Form.Label>
          <Form.Select id={`caption-${name}`} size="sm" value={choices.captions[name] ?? ""} onChange={(e) => onChange({ ...choices, captions: { ...choices.captions, [name]: e.target.value } })}>
            <option value="">{say("its key")}</option>
            {properties.map((p) => <option key={p}>{p}</option>)}
          </Form.Select>
        </div>
      ))}
      <div className="form-row">
        <Form.Label htmlFor="edge-caption">{say("Edges")}</Form.Label>
        <Form.Select id="edge-caption" size="sm" value={choices.edgeCaption} onChange={(e) => onChange({ ...choices, edgeCaption: e.target.value })}>
          <option value="">{say("label")}</option>
          {edgeProperties.map((p) => <option key={p}>{p}</option>)}
        </Form.Select>
      </div>
      <Form.Check id="outlined" label={say("Outline nodes of one colour")} checked={choices.outlined === true} onChange={(e) => onChange({ ...choices, outlined: e.target.checked })} />
    </details>
  );
});
