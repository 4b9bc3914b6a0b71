// Highlighting and completion for GQL in the editor.
import { type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { tags } from "@lezer/highlight";
import type { Measure, Names } from "./api";
import { CALLED, HELP } from "./functions";

const KEYWORDS =
  "ACYCLIC ALL AND ANY AS ASC BETWEEN BY CASE CAST CREATE DELETE DESC DETACH DISTINCT DROP ELSE END EXISTS FILTER FINISH FOR FROM GRAPH GROUP IF IN INSERT IS KEY LABELED LET LIKE LIMIT MATCH NOT NULL NULLS OFFSET OPTIONAL OR ORDER REMOVE REPLACE RETURN SET SHORTEST SIMPLE THEN TRAIL TYPE TYPED USE WALK WHEN WHERE WITH XOR".split(
    " ",
  );
/** Shown as keywords too; not offered one by one. */
const MORE_KEYWORDS = "AT BOUND CALL COORDINATES DISTANCE EXCEPT FALSE HAVING INDEX INTERSECT LANDMARKS NEXT ON OTHERWISE OVER SELECT TRUE UNION UPSERT VALUE VIEW YIELD".split(" ");
const keywords = new Set([...KEYWORDS, ...MORE_KEYWORDS]);
const functions = new Set(CALLED.keys());

export const gql = StreamLanguage.define<{ comment: boolean }>({
  name: "gql",
  startState: () => ({ comment: false }),
  token(stream, state) {
    if (state.comment || stream.match("/*")) {
      state.comment = !stream.match(/^.*?\*\//);
      if (state.comment) stream.skipToEnd();
      return "comment";
    }
    if (stream.match(/^(\/\/|--(?!\[)).*/)) return "comment";
    if (stream.match(/^'(?:[^'\\]|\\.|'')*'?/)) return "string";
    if (stream.match(/^["`][^"`]*["`]?/)) return "variableName";
    if (stream.match(/^\$\w+/)) return "atom";
    if (stream.match(/^\d[\d_]*(\.\d+)?([eE][+-]?\d+)?/)) return "number";
    // With a space behind the colon it is a field of a record.
    if (stream.match(/^:!?\w+/)) return "typeName";
    if (stream.match(/^\.\w+/)) return "propertyName";
    const word = stream.match(/^[A-Za-z_]\w*/);
    if (word && Array.isArray(word)) {
      const upper = (word[0] ?? "").toUpperCase();
      if (keywords.has(upper)) return "keyword";
      if (functions.has(upper)) return "function";
      return "variableName";
    }
    stream.next();
    return "operator";
  },
  languageData: { commentTokens: { line: "//", block: { open: "/*", close: "*/" } } },
  tokenTable: { function: tags.function(tags.variableName) },
});

export const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: tags.keyword, color: "var(--code-keyword)", fontWeight: "600" },
    { tag: tags.string, color: "var(--code-text)" },
    { tag: tags.number, color: "var(--code-number)" },
    { tag: tags.typeName, color: "var(--code-label)" },
    { tag: tags.propertyName, color: "var(--code-property)" },
    { tag: tags.atom, color: "var(--code-number)", fontStyle: "italic" },
    { tag: tags.comment, color: "var(--code-comment)", fontStyle: "italic" },
    { tag: tags.function(tags.variableName), color: "var(--code-keyword)" },
  ]),
);

/** Names that the text binds: elements of patterns, LET, FOR, AS, YIELD. */
function variables(text: string): string[] {
  const found = [...text.matchAll(/[([]\s*([A-Za-z_]\w*)\s*(?=[:){\]\s])|\b(?:LET|FOR|AS|YIELD)\s+([A-Za-z_]\w*)|\b([A-Za-z_]\w*)\s*=\s*(?=ANY|ALL|SHORTEST|\()/gi)];
  return [...new Set(found.map((m) => m[1] ?? m[2] ?? m[3] ?? ""))].filter((w) => w !== "" && !keywords.has(w.toUpperCase()));
}

/** The labels that the text gives a variable. */
function labelsOf(variable: string, text: string): string[] {
  const found = new RegExp(`[(\\[]\\s*${variable}\\s*:\\s*([\\w|&!]+)`).exec(text);
  return found?.[1]?.split(/[|&!]/).filter((l) => l !== "") ?? [];
}

function propertiesOf(labels: string[], edge: boolean | null, names: Names | undefined): string[] {
  const known = [...new Set(labels.flatMap((l) => names?.properties_of?.[l] ?? []))];
  if (known.length > 0) return known.sort();
  const all = [...(edge === true ? [] : (names?.node_properties ?? [])), ...(edge === false ? [] : (names?.edge_properties ?? []))];
  return [...new Set(all)].sort();
}

/** A measure or a saved query as it is called. */
function called({ name, arguments: takes, columns }: Measure): string {
  const needed = takes.filter((a) => a.required).map((a) => `${a.name}: `);
  const given = needed.length > 0 ? `{${needed.join(", ")}}` : "";
  return `${name}(${given})${columns.length > 0 ? ` YIELD ${columns.map((c) => c.name).join(", ")}` : ""}`;
}

export function completion(names: () => Names | undefined, measures: () => Measure[]) {
  return (context: CompletionContext): CompletionResult | null => {
    const word = context.matchBefore(/\w*/);
    const from = word?.from ?? context.pos;
    const whole = context.state.doc.toString();
    const before = context.state.sliceDoc(Math.max(0, from - 400), from);
    const known = names();
    const inEdge = before.lastIndexOf("[") > Math.max(before.lastIndexOf("("), before.lastIndexOf("]"));
    // Properties in braces within an element: `(x:Label {co`, `[e:LABEL {a: 1, b`.
    const braces = /([([])\s*\w*\s*(?::\s*([\w|&!]+))?\s*\{(?:[^{}]*,)?\s*$/.exec(before);
    if (braces) return { from, options: propertiesOf((braces[2] ?? "").split(/[|&!]/), braces[1] === "[", known).map((label) => ({ label, type: "property", apply: `${label}: ` })) };
    if (/[([]\s*\w*\s*:\s*!?(?:\w+\s*[|&]\s*!?)*$/.test(before) || /\bLABELED\s+$/i.test(before)) {
      const labels = (inEdge ? known?.edge_labels : known?.node_labels) ?? [];
      return { from, options: labels.map((label) => ({ label, type: "type" })) };
    }
    const owner = /([A-Za-z_]\w*)\.$/.exec(before)?.[1];
    if (owner !== undefined) return { from, options: propertiesOf(labelsOf(owner, whole), null, known).map((label) => ({ label, type: "property" })) };
    if (before.endsWith("$")) return { from, options: [...new Set([...whole.matchAll(/\$(\w+)/g)].map((m) => m[1] ?? ""))].filter((p) => p !== "").map((label) => ({ label, type: "constant" })) };
    if (/\bCALL\s+$/i.test(before)) return { from, options: measures().map((m) => ({ label: m.name, detail: m.description, type: "function", apply: called(m) })) };
    if (!word || (word.text === "" && !context.explicit)) return null;
    const bound = variables(whole);
    // A word that is whole is not offered to itself.
    if (!context.explicit && (keywords.has(word.text.toUpperCase()) || functions.has(word.text.toUpperCase()) || bound.includes(word.text))) return null;
    return {
      from,
      options: [
        ...bound.map((label) => ({ label, type: "variable", boost: 5 })),
        ...KEYWORDS.map((label) => ({ label, type: "keyword", ...(HELP.has(label) ? { info: HELP.get(label)?.text } : {}) })),
        ...[...CALLED].map(([label, help]) => ({ label, type: "function", detail: help.signature.slice(label.length), info: help.text })),
      ],
    };
  };
}
