/// <reference types="vite/client" />
// Every text of the pages is said through `say` or `Trans`, and has its German.
import ts from "typescript";
import { describe, expect, it } from "vitest";
import german from "../src/words/de.json";
import english from "../src/words/en.json";
import { duration } from "../src/shared/api";
import { figure, initialLanguage, say, setLanguage } from "../src/shared/words";

const SOURCES = Object.entries(import.meta.glob<string>("../src/**/*.{ts,tsx}", { query: "?raw", eager: true, import: "default" })).filter(([f]) => !f.endsWith("/schema.ts"));

/** What people read though it is no child of an element. */
const READ = new Set(["aria-label", "title", "placeholder", "label", "alt"]);
const LETTERS = /\p{L}/u;
/** Names, codes and signs that are the same in every language. */
const SAME = new Set(["Graphodrome", "PNG", "SVG", "null", "Σ", "JSON", "×", "load.toml"]);

interface Found {
  unsaid: string[];
  said: Set<string>;
  literals: Set<string>;
}

function look(): Found {
  const found: Found = { unsaid: [], said: new Set(), literals: new Set() };
  for (const [file, text] of SOURCES) {
    const source = ts.createSourceFile(file, text, ts.ScriptTarget.Latest, true, file.endsWith("x") ? ts.ScriptKind.TSX : ts.ScriptKind.TS);
    const unsaid = (node: ts.Node, text: string) => {
      const bare = text.trim();
      if (LETTERS.test(bare) && !SAME.has(bare)) found.unsaid.push(`${file}:${source.getLineAndCharacterOfPosition(node.getStart()).line + 1}: ${bare}`);
    };
    const visit = (node: ts.Node): void => {
      if (ts.isImportDeclaration(node)) return;
      if (ts.isStringLiteral(node) || ts.isNoSubstitutionTemplateLiteral(node)) found.literals.add(node.text);
      if (ts.isJsxText(node)) unsaid(node, node.text);
      if (ts.isCallExpression(node) && node.expression.getText() === "say") collect(node.arguments[0]);
      if (ts.isJsxAttribute(node) && node.initializer) {
        const name = node.name.getText();
        if (name === "i18nKey" && ts.isStringLiteral(node.initializer)) found.said.add(node.initializer.text);
        if (READ.has(name)) shown(node.initializer);
      }
      if (ts.isJsxExpression(node) && !ts.isJsxAttribute(node.parent)) shown(node);
      ts.forEachChild(node, visit);
    };
    const collect = (node: ts.Node | undefined): void => {
      if (node === undefined) return;
      if (ts.isStringLiteral(node)) found.said.add(node.text);
      else if (ts.isConditionalExpression(node)) [node.whenTrue, node.whenFalse].forEach(collect);
    };
    // A text that an element shows as it stands: itself, or either side of a choice.
    const shown = (node: ts.Node | undefined): void => {
      if (node === undefined) return;
      if (ts.isStringLiteral(node) || ts.isNoSubstitutionTemplateLiteral(node)) unsaid(node, node.text);
      else if (ts.isTemplateExpression(node)) [node.head, ...node.templateSpans.map((s) => s.literal)].forEach((part) => unsaid(part, part.text.replace(/\b(MiB|MB|KiB|s)$/, "")));
      else if (ts.isJsxExpression(node) || ts.isParenthesizedExpression(node)) shown(node.expression);
      else if (ts.isConditionalExpression(node)) [node.whenTrue, node.whenFalse].forEach(shown);
      else if (ts.isBinaryExpression(node) && ["&&", "||", "??"].includes(node.operatorToken.getText())) shown(node.right);
    };
    visit(source);
  }
  return found;
}

const found = look();
const bare = (key: string) => key.replace(/_(one|other)$/, "");
const places = (text: string) => [...text.matchAll(/\{\{(\w+)\}\}|<\/?(\w+)>/g)].map((m) => m[0]).sort();
const germanKeys = new Set(Object.keys(german).map(bare));

describe("the languages of the pages", () => {
  it("have no text that is not said", () => expect(found.unsaid).toEqual([]));

  it("have the German of every text", () => expect([...found.said].filter((text) => !germanKeys.has(text))).toEqual([]));

  it("have no German of what nobody says", () => expect([...germanKeys].filter((key) => !found.literals.has(key))).toEqual([]));

  it("have one and many of what is counted, in both", () => {
    const counted = [...found.said].filter((text) => text.startsWith("{{n}} ") || text.includes(" {{n}} "));
    const numbered = counted.filter((text) => `${text}_one` in english || `${text}_one` in german);
    expect(numbered.filter((text) => !(`${text}_one` in english && `${text}_one` in german && `${text}_other` in german))).toEqual([]);
  });

  it("keep each place for a value and each mark", () => {
    const texts: [string, string][] = [...Object.entries<string>(german), ...Object.entries<string>(english)];
    const other = texts.filter(([key, text]) => {
      const [wanted, has] = [places(bare(key)), places(text)];
      return wanted.join() !== has.join();
    });
    expect(other).toEqual([]);
  });

  it("say one and many, figures and units as each language does", async () => {
    expect([say("{{n}} rows", { count: 1 }), say("{{n}} rows", { count: 12_345 })]).toEqual(["1 row", "12,345 rows"]);
    expect(duration(1_234.5)).toBe("1.23 ms");
    await setLanguage("de");
    expect([say("{{n}} rows", { count: 1 }), say("{{n}} rows", { count: 12_345 })]).toEqual(["1 Zeile", "12.345 Zeilen"]);
    expect([duration(1_234.5), figure(0.5, 1)]).toEqual(["1,23 ms", "0,5"]);
    expect(say("No node has “{{text}}” in {{properties}}.", { text: "<b>&", properties: "code" })).toBe("Kein Knoten hat „<b>&“ in code.");
    expect(document.documentElement.lang).toBe("de");
    await setLanguage("en");
    expect(say("{{n}} rows", { count: 0 })).toBe("0 rows");
  });

  it("go on as they were chosen", async () => {
    localStorage.setItem("language", "de");
    await initialLanguage();
    expect(say("Query")).toBe("Abfrage");
    localStorage.setItem("language", "tlh");
    await initialLanguage();
    expect(say("Query")).toBe("Query");
    localStorage.removeItem("language");
  });
});
