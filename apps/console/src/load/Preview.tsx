// The first rows of tables as the elements that a mapping makes of them.
import { say } from "../shared/words";

export interface Preview {
  table: string;
  rows: { row: number; rejects: string[]; elements: { kind: string; labels: string[]; properties: Record<string, unknown>; source: string | null; target: string | null }[] }[];
}

/** `(:Junction {code: J-1})`, as a query would write it. */
function ElementText({ element }: { element: Preview["rows"][number]["elements"][number] }) {
  const properties = Object.entries(element.properties).map(([name, value]) => `${name}: ${typeof value === "string" ? `'${value}'` : JSON.stringify(value)}`).join(", ");
  const inside = `:${element.labels.join("&")}${properties ? ` {${properties}}` : ""}`;
  return <code className="element">{element.kind === "node" ? `(${inside})` : `${element.source}-[${inside}]->${element.target}`}</code>;
}

export function PreviewRows({ previews }: { previews: Preview[] }) {
  return (
    <section aria-label={say("Preview")}>
      {previews.map((p) => (
        <div key={p.table}>
          <h3>{p.table} <span className="faint">{say("its first rows as elements")}</span></h3>
          <table className="table table-sm result"><tbody>
            {p.rows.map((row) => (
              <tr key={row.row}>
                <td className="number">{row.row}</td>
                <td>
                  {row.elements.map((element, i) => <div key={i}><ElementText element={element} /></div>)}
                  {row.rejects.map((reason, i) => <div key={i} className="lost">{reason}</div>)}
                </td>
              </tr>
            ))}
          </tbody></table>
        </div>
      ))}
    </section>
  );
}
