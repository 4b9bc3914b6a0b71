// Parameters of a text, and what is written for them as values.
import type { Json } from "../shared/api";

/** Names after `$`, outside of texts and comments. */
export function parameterNames(text: string): string[] {
  const bare = text.replace(/\/\*[\s\S]*?\*\/|\/\/.*|--(?!\[).*|'(?:[^'\\]|\\.|'')*'|"[^"]*"|`[^`]*`/g, " ");
  return [...new Set([...bare.matchAll(/\$([A-Za-z_]\w*)/g)].map((m) => m[1] ?? ""))];
}

const LITERAL = /^(-?\d[\d_]*(\.\d*)?([eE][+-]?\d+)?[mdfMDF]?|TRUE|FALSE|NULL|'(?:[^'\\]|\\.|'')*'|\[[\s\S]*\]|\{[\s\S]*\}|(DATE|TIME|TIMESTAMP|DATETIME|LOCAL|ZONED|DURATION)\b.*'.*')$/i;

/** A literal of the language is one; anything else is a text. */
export function parameterValues(text: string, given: Record<string, string>): { [name: string]: Json } {
  const values: { [name: string]: Json } = {};
  for (const name of parameterNames(text)) {
    const value = given[name];
    if (value === undefined || value === "") continue;
    values[name] = LITERAL.test(value.trim()) ? { gql: value.trim() } : value;
  }
  return values;
}
