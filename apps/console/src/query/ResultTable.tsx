// A result as a table of which only the rows in view are on the page: sorted, filtered, with a look at one column or one
// cell.
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import Form from "react-bootstrap/Form";
import { type Json, type QueryResult, cellText } from "../shared/api";
import { writeExact } from "../shared/json";
import { ColumnStatistics } from "./ColumnStatistics";
import { inOrder } from "./values";
import { figure, say } from "../shared/words";

const ROW = 28;
const WIDEST = 46;

/** Widths in characters by what stands in the first rows. */
function widths(result: QueryResult): number[] {
  const sample = result.rows.slice(0, 100);
  return result.columns.map((column, c) => {
    const longest = sample.reduce((most, row) => Math.max(most, cellText(row[c]).length), 0);
    return Math.min(WIDEST, Math.max(column.name.length + 5, longest, 6));
  });
}

export function ResultTable({ result }: { result: QueryResult }) {
  const [sort, setSort] = useState<{ column: number; down: boolean } | null>(null);
  const [wanted, setWanted] = useState("");
  const [cell, setCell] = useState<{ name: string; value: Json } | null>(null);
  const [column, setColumn] = useState<number | null>(null);
  const scroll = useRef<HTMLDivElement>(null);
  const rows = useMemo(() => {
    const text = wanted.trim().toLowerCase();
    const kept = text === "" ? result.rows : result.rows.filter((row) => row.some((v) => cellText(v).toLowerCase().includes(text)));
    if (!sort) return kept;
    const sorted = [...kept].sort((a, b) => inOrder(a[sort.column], b[sort.column]));
    return sort.down ? sorted.reverse() : sorted;
  }, [result, sort, wanted]);
  const sizes = useMemo(() => widths(result), [result]);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroll.current, estimateSize: () => ROW, overscan: 12 });
  if (result.columns.length === 0) return <p className="empty">{say("Done. The query has no result rows.")}</p>;
  const items = virtual.getVirtualItems();
  const above = items[0]?.start ?? 0;
  const below = virtual.getTotalSize() - (items[items.length - 1]?.end ?? 0);
  const whole = sizes.reduce((a, b) => a + b, 0);
  return (
    <>
      {result.rows.length > 8 && <div className="tools"><Form.Control size="sm" className="filter" type="search" aria-label={say("Filter rows")} placeholder={say("Filter rows")} value={wanted} onChange={(e) => setWanted(e.target.value)} />{wanted !== "" && <span className="faint">{say("{{rows}} of {{all}} rows", { rows: figure(rows.length), all: figure(result.rows.length) })}</span>}</div>}
      <div className="result-scroll" ref={scroll} tabIndex={0} role="region" aria-label={say("Rows")} style={{ maxHeight: "62vh" }}>
        <table className="result" aria-rowcount={rows.length + 1} style={{ width: `${whole * 8.3 + result.columns.length * 26}px` }}>
          <colgroup>{sizes.map((s, i) => <col key={i} style={{ width: `${(s / whole) * 100}%` }} />)}</colgroup>
          <thead>
            <tr>
              {result.columns.map((c, i) => (
                <th key={c.name} scope="col" aria-sort={sort?.column === i ? (sort.down ? "descending" : "ascending") : "none"}>
                  <button type="button" onClick={() => setSort(sort?.column === i && sort.down ? null : { column: i, down: sort?.column === i })}>{c.name}{sort?.column === i ? (sort.down ? " ↓" : " ↑") : ""}</button>
                  <button type="button" className="about" aria-label={say("About {{name}}", { name: c.name })} aria-expanded={column === i} onClick={() => setColumn(column === i ? null : i)}>Σ</button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {above > 0 && <tr aria-hidden="true" style={{ height: above }}><td colSpan={result.columns.length} /></tr>}
            {items.map((item) => {
              const row = rows[item.index] ?? [];
              return (
                <tr key={item.index} aria-rowindex={item.index + 2} style={{ height: ROW }}>
                  {row.map((value, c) => (
                    <td key={c} className={typeof value === "number" || typeof value === "bigint" ? "number" : ""}>
                      <button type="button" className="cell" tabIndex={-1} onClick={() => setCell({ name: result.columns[c]?.name ?? "", value })}>{value === null || value === undefined ? <span className="faint">null</span> : cellText(value).slice(0, 300)}</button>
                    </td>
                  ))}
                </tr>
              );
            })}
            {below > 0 && <tr aria-hidden="true" style={{ height: below }}><td colSpan={result.columns.length} /></tr>}
          </tbody>
        </table>
        {rows.length === 0 && <p className="empty">{result.rows.length === 0 ? say("No rows.") : say("No row has this.")}</p>}
      </div>
      {column !== null && <ColumnStatistics name={result.columns[column]?.name ?? ""} values={rows.map((row) => row[column])} onClose={() => setColumn(null)} />}
      {cell && (
        <section className="panel cell-view" aria-label={say("Value of {{name}}", { name: cell.name })}>
          <div className="tools"><strong>{cell.name}</strong><span className="spacer" />
            <button type="button" className="btn btn-sm btn-outline-secondary" onClick={() => void navigator.clipboard.writeText(typeof cell.value === "object" ? writeExact(cell.value, 2) : String(cell.value))}>{say("Copy")}</button>
            <button type="button" className="btn btn-sm btn-outline-secondary" onClick={() => setCell(null)}>{say("Close")}</button>
          </div>
          <pre tabIndex={0}>{typeof cell.value === "object" ? writeExact(cell.value, 2) : String(cell.value)}</pre>
        </section>
      )}
    </>
  );
}
