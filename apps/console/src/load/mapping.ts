// Load mappings as the console handles them, and the first proposal of one.
import type { Model } from "../shared/api";

/** A column's name, or how a value is made otherwise; the form edits columns, the text everything. */
export type FieldSource = string | { column?: string; expr?: string; value?: unknown; split?: string; pattern?: string };

export interface Reference {
  labels?: string[];
  key?: Record<string, FieldSource>;
  id?: FieldSource;
  missing?: "reject" | "create";
}

export interface NodeRule {
  labels: string[];
  label_from?: string;
  key?: string[];
  id?: FieldSource;
  properties: Record<string, FieldSource>;
  existing?: string;
  optional?: boolean;
  where?: string;
}

export interface EdgeRule {
  label: string;
  undirected?: boolean;
  source: Reference;
  target: Reference;
  properties?: Record<string, FieldSource>;
  same?: string;
  existing?: string;
  optional?: boolean;
  where?: string;
}

export interface MappingTable {
  file: string;
  node?: NodeRule[];
  edge?: EdgeRule[];
  [other: string]: unknown;
}

export interface Mapping {
  table: MappingTable[];
  [other: string]: unknown;
}

export interface TableColumns {
  file: string;
  rows: number;
  delimiter: string | null;
  null: string[] | null;
  date_order: string | null;
  columns: { name: string; kind: string; nulls: number; samples: string[] }[];
}

/** A list with one item replaced, or left out. */
export function byHand<T>(items: T[], place: number, next: T | null): T[] {
  return next === null ? items.filter((_, i) => i !== place) : items.map((item, i) => (i === place ? next : item));
}

export function fieldText(field: FieldSource | undefined): string {
  if (field === undefined) return "";
  if (typeof field === "string") return field;
  if (field.expr !== undefined) return `= ${field.expr}`;
  if (field.value !== undefined) return `"${String(field.value)}"`;
  const how = field.split !== undefined ? ` (split at ${field.split})` : field.pattern !== undefined ? ` (${field.pattern})` : "";
  return `${field.column ?? ""}${how}`;
}

const plain = (name: string) => name.toLowerCase().replace(/[^a-z0-9]/g, "");

/** The column that a property's name means, if one does. */
function columnFor(property: string, label: string, columns: string[]): string | undefined {
  const wanted = plain(property);
  return columns.find((c) => plain(c) === wanted) ?? columns.find((c) => plain(c) === plain(label) + wanted) ?? columns.find((c) => plain(c) === plain(label) && wanted.length > 0);
}

function keyFor(model: Model, labels: string[]): { label: string; key: string[] } | null {
  const type = model.node_types.find((t) => labels.every((l) => t.labels.includes(l)) && t.key.length > 0);
  return type ? { label: (type.key_labels[0] ?? type.labels[0] ?? ""), key: type.key } : null;
}

/** The column that names a node of another kind by its label: `book_isbn`, `book`, `book_id`. */
function byLabel(key: string, label: string, columns: string[]): string | undefined {
  const own = plain(label);
  const ends = [plain(key), "", "id", "no", "nr", "number", "code", "key"];
  return ends.map((end) => columns.find((c) => plain(c) === own + end)).find((c) => c !== undefined);
}

/** The column that names it by its key alone, `isbn`, where the key of no other type is called so. */
function byKey(key: string, columns: string[], model: Model): string | undefined {
  const alone = model.node_types.filter((t) => t.key.some((k) => plain(k) === plain(key))).length === 1;
  return alone ? columns.find((c) => plain(c) === plain(key)) : undefined;
}

/** Edges of a row's node to nodes whose key another column of the row holds. */
function edgesOf(labels: string[], key: string[], properties: Record<string, string>, columns: string[], model: Model): EdgeRule[] {
  const own = { labels: labels.slice(0, 1), key: Object.fromEntries(key.map((k) => [k, properties[k] ?? ""])) };
  const free = columns.filter((c) => !Object.values(properties).includes(c));
  return model.edge_types.flatMap((type) => {
    const from = type.source.some((s) => s.every((l) => labels.includes(l)));
    const other = keyFor(model, (from ? type.target[0] : type.source[0]) ?? []);
    const to = type.target.some((t) => t.every((l) => labels.includes(l)));
    const column = other && other.key.length === 1 ? (byLabel(other.key[0] ?? "", other.label, free) ?? byKey(other.key[0] ?? "", free, model)) : undefined;
    if ((!from && !to) || !other || column === undefined) return [];
    const end = { labels: [other.label], key: { [other.key[0] ?? ""]: column } };
    const rest = free.filter((c) => c !== column);
    const found = type.properties.map((p) => [p.name, columnFor(p.name, "", rest)] as const).filter(([, c]) => c !== undefined);
    const rule: EdgeRule = { label: type.labels[0] ?? "", source: from ? own : end, target: from ? end : own, optional: true };
    if (!type.directed) rule.undirected = true;
    if (found.length > 0) rule.properties = Object.fromEntries(found) as Record<string, string>;
    return [rule];
  });
}

/** Rules for each table by the names of its columns; what fits nothing is left to be done by hand. */
export function propose(tables: TableColumns[], model: Model | null): Mapping {
  return { table: tables.map((table) => ({ ...options(table), ...rules(table, model) })) };
}

function options(table: TableColumns): MappingTable {
  const made: MappingTable = { file: table.file };
  if (table.delimiter !== null) made["delimiter"] = table.delimiter;
  if (table.null !== null) made["null"] = table.null;
  if (table.date_order !== null) made["date_order"] = table.date_order;
  return made;
}

function rules(table: TableColumns, model: Model | null): { node?: NodeRule[]; edge?: EdgeRule[] } {
  const columns = table.columns.map((c) => c.name);
  const stem = table.file.split("/").pop()?.split(".")[0] ?? "thing";
  if (!model || model.node_types.length === 0) {
    const label = stem.charAt(0).toUpperCase() + stem.slice(1);
    return { node: [{ labels: [label.replace(/[^A-Za-z0-9]/g, "_")], properties: Object.fromEntries(columns.map((c) => [c, c])) }] };
  }
  const fits = model.node_types.map((type) => {
    const label = type.labels[0] ?? "";
    const found = type.properties.map((p) => [p.name, columnFor(p.name, label, columns)] as const).filter(([, c]) => c !== undefined);
    const hasKey = type.key.every((k) => found.some(([name]) => name === k));
    const needed = type.properties.filter((p) => p.not_null && p.default === null).every((p) => found.some(([name]) => name === p.name));
    // A table called like the label is meant for it, where the columns leave it open.
    const named = plain(stem).startsWith(plain(label)) ? 0.5 : 0;
    return { type, properties: Object.fromEntries(found) as Record<string, string>, good: hasKey && needed, score: new Set(found.map(([, c]) => c)).size / Math.max(columns.length, type.properties.length) + named };
  });
  const best = fits.filter((f) => f.good).sort((a, b) => b.score - a.score)[0];
  const edges = model.edge_types.map((type) => {
    const from = keyFor(model, type.source[0] ?? []);
    const to = keyFor(model, type.target[0] ?? []);
    if (!from || !to) return null;
    const left = [...columns];
    const end = (of: { label: string; key: string[] }, words: string[]) => Object.fromEntries(of.key.map((key) => {
      const column = byLabel(key, of.label, left) ?? left.find((c) => words.some((w) => plain(c).startsWith(w))) ?? byKey(key, left, model);
      if (column !== undefined) left.splice(left.indexOf(column), 1);
      return [key, column];
    }));
    const ends = [end(from, ["from", "source", "start"]), end(to, ["to", "target", "end"])] as const;
    if (ends.some((e) => Object.values(e).some((c) => c === undefined))) return null;
    const properties = Object.fromEntries(type.properties.map((p) => [p.name, columnFor(p.name, "", left)] as const).filter(([, c]) => c !== undefined)) as Record<string, string>;
    const rule: EdgeRule = { label: type.labels[0] ?? "", source: { labels: [from.label], key: ends[0] as Record<string, string> }, target: { labels: [to.label], key: ends[1] as Record<string, string> } };
    if (!type.directed) rule.undirected = true;
    if (Object.keys(properties).length > 0) rule.properties = properties;
    return { rule, score: (2 + Object.keys(properties).length) / columns.length };
  }).filter((e) => e !== null).sort((a, b) => b.score - a.score)[0];
  if (best && (!edges || best.score >= edges.score)) {
    const made: { node: NodeRule[]; edge?: EdgeRule[] } = { node: [{ labels: best.type.labels, properties: best.properties }] };
    const more = edgesOf(best.type.labels, best.type.key, best.properties, columns, model);
    return more.length > 0 ? { ...made, edge: more } : made;
  }
  if (edges) return { edge: [edges.rule] };
  const type = model.node_types[0];
  return { node: [{ labels: type?.labels ?? ["Thing"], properties: {} }] };
}
