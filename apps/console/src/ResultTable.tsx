// A result as a table: sortable, long values folded, elements as label and key.
import { useMemo, useState } from "react";
import Table from "react-bootstrap/Table";
import { type Json, type QueryResult, cellText } from "./api";

/** Rows put on the page; the rest is there to sort and download. */
const SHOWN = 500;
const FOLD = 80;

function order(a: Json | undefined, b: Json | undefined): number {
  if (a === null || a === undefined) return b === null || b === undefined ? 0 : 1;
  if (b === null || b === undefined) return -1;
  if (typeof a === "number" && typeof b === "number") return a - b;
  return cellText(a).localeCompare(cellText(b), undefined, { numeric: true });
}

function Cell({ value }: { value: Json | undefined }) {
  const [open, setOpen] = useState(false);
  const text = cellText(value);
  if (value === null || value === undefined) return <span className="faint">null</span>;
  if (text.length <= FOLD || open) return <>{text}</>;
  return (
    <>
      {text.slice(0, FOLD - 10)}
      <button type="button" className="unfold" onClick={() => setOpen(true)} title={`${text.length} characters`}>… more</button>
    </>
  );
}

export function ResultTable({ result }: { result: QueryResult }) {
  const [sort, setSort] = useState<{ column: number; down: boolean } | null>(null);
  const rows = useMemo(() => {
    if (!sort) return result.rows;
    const sorted = [...result.rows].sort((a, b) => order(a[sort.column], b[sort.column]));
    return sort.down ? sorted.reverse() : sorted;
  }, [result, sort]);
  if (result.columns.length === 0) return <p className="empty">Done. The query has no result rows.</p>;
  return (
    <div className="result-scroll">
      <Table size="sm" hover className="result">
        <thead>
          <tr>
            {result.columns.map((column, i) => (
              <th key={column.name} aria-sort={sort?.column === i ? (sort.down ? "descending" : "ascending") : "none"}>
                <button type="button" onClick={() => setSort({ column: i, down: sort?.column === i ? !sort.down : false })}>
                  {column.name}{sort?.column === i ? (sort.down ? " ↓" : " ↑") : ""}
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, SHOWN).map((row, r) => (
            <tr key={r}>
              {row.map((cell, c) => <td key={c} className={typeof cell === "number" ? "number" : ""}><Cell value={cell} /></td>)}
            </tr>
          ))}
        </tbody>
      </Table>
      {rows.length > SHOWN && <p className="faint">{SHOWN} of {rows.length} rows are shown. Download has all of them.</p>}
      {rows.length === 0 && <p className="empty">No rows.</p>}
    </div>
  );
}
