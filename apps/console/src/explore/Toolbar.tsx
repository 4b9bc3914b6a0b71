// What can be done with the whole drawing.
import type cytoscape from "cytoscape";
import type { RefObject } from "react";
import Button from "react-bootstrap/Button";
import ButtonGroup from "react-bootstrap/ButtonGroup";
import Dropdown from "react-bootstrap/Dropdown";
import Form from "react-bootstrap/Form";
import { useNavigate } from "react-router-dom";
import { scalar, type LayoutName } from "./layout";
import { propertyNames } from "./picture";
import { asQuery } from "./queries";
import { save } from "../shared/save";
import type { Group } from "./hulls";
import { pngOf, svgOf } from "./svg";
import type { Exploration } from "./useExploration";
import { say } from "../shared/words";

const LAYOUTS: [LayoutName, string][] = [
  ["force", "by forces"], ["layered", "in layers"], ["rings", "in rings"], ["circle", "in a circle"], ["groups", "by label"], ["timeline", "along a date"], ["map", "on a map"],
];

interface Properties {
  graph: string;
  exploration: Exploration;
  chosen: ReadonlySet<string>;
  layout: LayoutName;
  onLayout: (name: LayoutName) => void;
  fields: [string, string];
  onFields: (fields: [string, string]) => void;
  onFit: () => void;
  onComplete: () => void;
  onChoose: (ids: ReadonlySet<string>) => void;
  drawn: RefObject<cytoscape.Core | null>;
  groups: Group[];
  dark: boolean;
}

export function Toolbar({ graph, exploration, chosen, layout, onLayout, fields, onFields, onFit, onComplete, onChoose, drawn, groups, dark }: Properties) {
  const navigate = useNavigate();
  const { picture } = exploration;
  const empty = picture.nodes.size === 0;
  const numbers = propertyNames(picture.nodes.values(), (v) => scalar(v) !== null);
  const field = (at: 0 | 1, what: string) => (
    <Form.Select size="sm" aria-label={what} value={fields[at]} onChange={(e) => onFields(at === 0 ? [e.target.value, fields[1]] : [fields[0], e.target.value])}>
      <option value="">{what}</option>
      {numbers.map((n) => <option key={n}>{n}</option>)}
    </Form.Select>
  );
  const show = () => {
    const text = asQuery(picture);
    void navigate(`/?graph=${encodeURIComponent(graph)}&text=${encodeURIComponent(text)}`);
  };
  const png = async () => {
    const instance = drawn.current;
    if (instance) save(`${graph}.png`, "image/png", await pngOf(svgOf(instance, dark, groups)));
  };
  return (
    <div className="explore-tools" role="toolbar" aria-label={say("Drawing")}>
      <ButtonGroup size="sm">
        <Button variant="outline-secondary" disabled={exploration.at === 0} onClick={() => exploration.goTo(exploration.at - 1)} title={say("Ctrl+Z")}>{say("Undo")}</Button>
        <Button variant="outline-secondary" disabled={exploration.at === exploration.steps.length - 1} onClick={() => exploration.goTo(exploration.at + 1)} title={say("Ctrl+Shift+Z")}>{say("Redo")}</Button>
      </ButtonGroup>
      <ButtonGroup size="sm">
        <Button variant="outline-secondary" disabled={chosen.size === 0} onClick={() => exploration.hide(chosen)} title={say("Delete")}>{say("Hide")}</Button>
        <Button variant="outline-secondary" disabled={chosen.size === 0} onClick={() => exploration.keep(chosen)}>{say("Keep only")}</Button>
        <Button variant="outline-secondary" disabled={empty} onClick={() => onChoose(new Set([...picture.nodes.keys()].filter((id) => !chosen.has(id))))}>{say("Invert")}</Button>
      </ButtonGroup>
      <Form.Select size="sm" aria-label={say("Arrangement")} value={layout} onChange={(e) => onLayout(e.target.value as LayoutName)}>
        {LAYOUTS.map(([name, text]) => <option key={name} value={name}>{say(text)}</option>)}
      </Form.Select>
      {layout === "timeline" && field(0, say("date"))}
      {layout === "map" && <>{field(0, say("across"))}{field(1, say("up"))}</>}
      <Button size="sm" variant="outline-secondary" disabled={empty} onClick={onFit}>{say("Fit")}</Button>
      <Button size="sm" variant="outline-secondary" disabled={empty} onClick={onComplete} title={say("All edges between the nodes that are drawn")}>{say("Complete edges")}</Button>
      <Button size="sm" variant="outline-secondary" disabled={empty} id="as-query" onClick={show}>{say("As a query")}</Button>
      <Dropdown>
        <Dropdown.Toggle size="sm" variant="outline-secondary" disabled={empty}>{say("Save")}</Dropdown.Toggle>
        <Dropdown.Menu>
          <Dropdown.Item onClick={() => void png()}>PNG</Dropdown.Item>
          <Dropdown.Item onClick={() => drawn.current && save(`${graph}.svg`, "image/svg+xml", svgOf(drawn.current, dark, groups))}>SVG</Dropdown.Item>
        </Dropdown.Menu>
      </Dropdown>
      <Button size="sm" variant="outline-secondary" disabled={empty} onClick={exploration.clear}>{say("Clear")}</Button>
    </div>
  );
}
