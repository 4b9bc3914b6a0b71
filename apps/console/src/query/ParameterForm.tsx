// A field for each parameter of the text.
import Form from "react-bootstrap/Form";
import { parameterNames } from "./parameters";
import { type Sheet, setParameter } from "./sheets";
import { say } from "../shared/words";

export function ParameterForm({ sheet }: { sheet: Sheet }) {
  const names = parameterNames(sheet.text);
  if (names.length === 0) return null;
  return (
    <fieldset className="parameters">
      <legend>{say("Parameters")} <span className="faint">{say("a literal such as 12, TRUE or DATE '2026-05-31'; anything else is a text; nothing is null")}</span></legend>
      {names.map((name) => (
        <label key={name}>
          <code>${name}</code>
          <Form.Control size="sm" value={sheet.parameters[name] ?? ""} onChange={(e) => setParameter(sheet.id, name, e.target.value)} />
        </label>
      ))}
    </fieldset>
  );
}
