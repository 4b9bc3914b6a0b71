// A table with its columns, and the rules that make nodes and edges of its rows.
import Badge from "react-bootstrap/Badge";
import Button from "react-bootstrap/Button";
import type { Model } from "../shared/api";
import { figure, say } from "../shared/words";
import { type EdgeRule, type MappingTable, type NodeRule, type TableColumns, byHand } from "./mapping";
import { EdgeForm, NodeForm } from "./RuleForms";

function Columns({ table }: { table: TableColumns }) {
  return (
    <div className="columns-list" aria-label={say("Columns of {{file}}", { file: table.file })}>
      {table.columns.map((c) => (
        <div key={c.name} className="column-chip" draggable onDragStart={(e) => e.dataTransfer.setData("text/plain", c.name)} title={say("Drag onto a property")}>
          <strong>{c.name}</strong> <Badge bg="secondary">{c.kind}</Badge>
          <div className="faint samples">{c.samples.join(" · ")}{c.nulls > 0 && ` (${say("{{nulls}} null", { nulls: figure(c.nulls) })})`}</div>
        </div>
      ))}
    </div>
  );
}

interface Properties {
  table: MappingTable;
  known: TableColumns | undefined;
  types: Model | null;
  change: (table: MappingTable) => void;
}

export function TableCard({ table, known, types, change }: Properties) {
  const columns = known?.columns.map((c) => c.name) ?? [];
  const [nodes, edges] = [table.node ?? [], table.edge ?? []];
  const newNode: NodeRule = { labels: [types?.node_types[0]?.labels[0] ?? "Thing"], properties: {} };
  const newEdge: EdgeRule = { label: types?.edge_types[0]?.labels[0] ?? "IS", source: { labels: [], key: {} }, target: { labels: [], key: {} } };
  return (
    <section className="table-card" aria-label={table.file}>
      <h2>{table.file} {known && <span className="faint">{say("{{n}} rows", { count: known.rows })}</span>}</h2>
      {known && <Columns table={known} />}
      {nodes.map((rule, i) => <NodeForm key={`n${i}`} rule={rule} columns={columns} model={types} onChange={(next) => change({ ...table, node: byHand(nodes, i, next) })} />)}
      {edges.map((rule, i) => <EdgeForm key={`e${i}`} rule={rule} columns={columns} model={types} onChange={(next) => change({ ...table, edge: byHand(edges, i, next) })} />)}
      <div className="tools">
        <Button size="sm" variant="outline-secondary" onClick={() => change({ ...table, node: [...nodes, newNode] })}>{say("Add a node")}</Button>
        <Button size="sm" variant="outline-secondary" onClick={() => change({ ...table, edge: [...edges, newEdge] })}>{say("Add an edge")}</Button>
      </div>
    </section>
  );
}
