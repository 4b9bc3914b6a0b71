// Order and sums of a column's values.
import { type Json, cellText } from "../shared/api";

/** Numbers by value, exactly; decimals come as texts and are ordered as numbers too; nulls last. */
export function inOrder(a: Json | undefined, b: Json | undefined): number {
  const none = (v: Json | undefined) => v === null || v === undefined;
  if (none(a) || none(b)) return none(a) ? (none(b) ? 0 : 1) : -1;
  if ((typeof a === "number" || typeof a === "bigint") && (typeof b === "number" || typeof b === "bigint")) return a < b ? -1 : a > b ? 1 : 0;
  return cellText(a).localeCompare(cellText(b), undefined, { numeric: true });
}

export function number(value: Json | undefined): number | null {
  if (typeof value === "number") return value;
  if (typeof value === "bigint") return Number(value);
  return typeof value === "string" && /^-?\d+(\.\d+)?$/.test(value) ? Number(value) : null;
}
