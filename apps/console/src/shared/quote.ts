// Values, names and elements as the language writes them.
import type { GraphElement } from "./api";
import type { Json } from "./json";

export function literal(value: Json | undefined): string {
  if (value === null || value === undefined) return "NULL";
  if (typeof value === "string") return `'${value.replaceAll("\\", "\\\\").replaceAll("'", "\\'").replaceAll("\n", "\\n")}'`;
  if (Array.isArray(value)) return `[${value.map(literal).join(", ")}]`;
  if (typeof value === "object") return `{${Object.entries(value).map(([k, v]) => `${name(k)}: ${literal(v)}`).join(", ")}}`;
  return String(value).toUpperCase();
}

const RESERVED = new Set("ALL AND ANY AS AT BY CASE DATE DISTINCT ELSE END EXISTS FALSE FILTER FOR FROM GROUP HAVING IN INSERT IS KEY LIKE LIMIT MATCH NOT NULL OF OFFSET ON OR ORDER RETURN SET THEN TRUE TYPE UNION USE VALUE WALK WHEN WHERE WITH XOR".split(" "));

export function name(text: string): string {
  return /^[A-Za-z_]\w*$/.test(text) && !RESERVED.has(text.toUpperCase()) ? text : `\`${text.replaceAll("`", "``")}\``;
}

export function labelsOf(element: GraphElement): string {
  return element.labels.map(name).join("&");
}

/** `(n:Junction {code: 'J-00012'})`; by its id where it has no key. */
export function nodePattern(element: GraphElement, variable: string): string {
  if (element.key.length === 0) return `(${variable} WHERE ELEMENT_ID(${variable}) = ${literal(element.id)})`;
  const fields = element.key.map((k) => `${name(k)}: ${literal(element.properties[k])}`);
  return `(${variable}:${labelsOf(element)} {${fields.join(", ")}})`;
}

/** A condition that is true of these elements alone. */
export function amongCondition(elements: Iterable<GraphElement>, variable: string): string {
  const groups = new Map<string, { labels: string; key: string | null; values: string[] }>();
  for (const element of elements) {
    const key = element.key.length === 1 ? (element.key[0] ?? null) : null;
    const labels = key === null ? "" : labelsOf(element);
    const group = groups.get(`${labels} ${key}`) ?? { labels, key, values: [] };
    group.values.push(key === null ? literal(element.id) : literal(element.properties[key]));
    groups.set(`${labels} ${key}`, group);
  }
  const parts = [...groups.values()].map(({ labels, key, values }) =>
    key === null
      ? `ELEMENT_ID(${variable}) IN [${values.join(", ")}]`
      : `(${variable} IS LABELED ${labels} AND ${variable}.${name(key)} IN [${values.join(", ")}])`,
  );
  return parts.length === 0 ? "FALSE" : parts.join("\n   OR ");
}
