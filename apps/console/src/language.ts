// Highlighting and completion for GQL in the editor.
import { type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { tags } from "@lezer/highlight";
import type { Names } from "./api";

const KEYWORDS =
  "ACYCLIC ALL AND ANY AS ASC BETWEEN BY CASE CAST CREATE DELETE DESC DETACH DISTINCT DROP ELSE END EXISTS FILTER FINISH FOR FROM GRAPH GROUP IF IN INSERT IS KEY LABELED LET LIKE LIMIT MATCH NOT NULL NULLS OFFSET OPTIONAL OR ORDER REMOVE REPLACE RETURN SET SHORTEST SIMPLE THEN TRAIL TYPE TYPED USE WALK WHEN WHERE WITH XOR".split(
    " ",
  );
const FUNCTIONS =
  "AVG COUNT SUM MIN MAX COLLECT_LIST PRODUCT COALESCE NULLIF CHAR_LENGTH UPPER LOWER TRIM ABS MOD FLOOR CEIL SQRT POWER CARDINALITY ELEMENT_ID PATH_LENGTH LABELS PROPERTIES NODES EDGES DEGREE IN_DEGREE OUT_DEGREE CURRENT_DATE DURATION_BETWEEN".split(
    " ",
  );
const keywords = new Set(KEYWORDS);
const functions = new Set(FUNCTIONS);

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
    if (stream.match(/^:\s*!?\w+/)) return "typeName";
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

export function completion(names: () => Names | undefined) {
  return (context: CompletionContext): CompletionResult | null => {
    const word = context.matchBefore(/[:.]?\s*\w*/);
    if (!word || (word.text === "" && !context.explicit)) return null;
    const known = names();
    const from = context.pos - (/\w*$/.exec(word.text)?.[0].length ?? 0);
    if (word.text.startsWith(":")) {
      const before = context.state.sliceDoc(Math.max(0, word.from - 60), word.from);
      const inEdge = before.lastIndexOf("[") > before.lastIndexOf("(");
      const labels = (inEdge ? known?.edge_labels : known?.node_labels) ?? [];
      return { from, options: labels.map((label) => ({ label, type: "type" })) };
    }
    if (word.text.startsWith(".")) {
      const properties = new Set([...(known?.node_properties ?? []), ...(known?.edge_properties ?? [])]);
      return { from, options: [...properties].map((label) => ({ label, type: "property" })) };
    }
    if (/\w/.test(word.text)) {
      return {
        from,
        options: [
          ...KEYWORDS.map((label) => ({ label, type: "keyword" })),
          ...FUNCTIONS.map((label) => ({ label, type: "function" })),
        ],
      };
    }
    return null;
  };
}
