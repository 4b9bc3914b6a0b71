// What the pages write in the language: values, names, elements, and every step of an exploration as a query.
import { describe, expect, it } from "vitest";
import type { GraphElement } from "../src/shared/api";
import { parseExact, writeExact } from "../src/shared/json";
import { amongCondition, literal, name, nodePattern } from "../src/shared/quote";
import { asQuery, found, neighbourCounts, neighbours, pathBetween, reach } from "../src/explore/queries";
import { asCallable } from "../src/shared/callable";
import { parameterNames, parameterValues } from "../src/query/parameters";
import { inOrder, number } from "../src/query/values";

const node = (code: string, more: Partial<GraphElement> = {}): GraphElement => ({ type: "node", id: `n${code}`, labels: ["Junction"], key: ["code"], properties: { code }, ...more });
const edge = (id: string, source: string, target: string): GraphElement => ({ type: "edge", id, labels: ["PIPE"], key: [], properties: {}, directed: true, source, target });

describe("values", () => {
  it("are written as literals that read back", () => {
    expect(literal("it's a \\ and\na line")).toBe("'it\\'s a \\\\ and\\na line'");
    expect(literal([1, null, true, { "a b": "x" }])).toBe("[1, NULL, TRUE, {`a b`: 'x'}]");
    expect(literal(9007199254740993n)).toBe("9007199254740993");
  });

  it("are read without loss and written so again", () => {
    const text = '{"n":9007199254740993,"small":12,"list":[-9223372036854775808,0.5]}';
    const read = parseExact(text) as { n: bigint; small: number; list: (bigint | number)[] };
    expect(read.n).toBe(9007199254740993n);
    expect(read.small).toBe(12);
    expect(read.list[0]).toBe(-9223372036854775808n);
    expect(read.list[1]).toBe(0.5);
    expect(parseExact('{"text":"1234567890123456789"}')).toEqual({ text: "1234567890123456789" });
    expect(parseExact('{"t":"a \\" 99999999999999999999","n":12345678901234567,"f":1234567890123456.5,"small":1000000000000000}')).toEqual({ t: 'a " 99999999999999999999', n: 12345678901234567n, f: 1234567890123456.5, small: 1000000000000000 });
    expect(writeExact({ a: 1, b: [9007199254740993n, -2n], c: "3n" })).toBe('{"a":1,"b":[9007199254740993,-2],"c":"3n"}');
  });

  it("are in the order of their numbers, nulls last", () => {
    expect([3, null, 10n, 2].sort(inOrder)).toEqual([2, 3, 10n, null]);
    expect(["10.5", "9.25", "-3"].sort(inOrder).at(-1)).toBe("10.5");
    expect(number("12.50")).toBe(12.5);
    expect(number("12 m")).toBeNull();
  });
});

describe("names and elements", () => {
  it("are quoted where they must be", () => {
    expect(name("Junction")).toBe("Junction");
    expect(name("Group")).toBe("`Group`");
    expect(name("with space")).toBe("`with space`");
    expect(name("a`b")).toBe("`a``b`");
  });

  it("are found by their key, or by their id", () => {
    expect(nodePattern(node("J-1"), "a")).toBe("(a:Junction {code: 'J-1'})");
    expect(nodePattern(node("x", { key: [], id: "n7" }), "a")).toBe("(a WHERE ELEMENT_ID(a) = 'n7')");
    expect(amongCondition([node("J-1"), node("J-2"), node("z", { key: [], id: "n9" })], "a")).toBe(
      "(a IS LABELED Junction AND a.code IN ['J-1', 'J-2'])\n   OR ELEMENT_ID(a) IN ['n9']",
    );
    expect(amongCondition([], "a")).toBe("FALSE");
  });
});

describe("steps of an exploration", () => {
  it("are queries", () => {
    expect(neighbours(node("J-1"), ["PIPE"], "in", 20)).toBe("MATCH (a:Junction {code: 'J-1'})<-[e:PIPE]-(b)\nRETURN a, e, b\nLIMIT 20");
    expect(neighbourCounts(node("J-1")).match(/UNION ALL/g)).toHaveLength(2);
    expect(pathBetween(node("A"), node("B"), { weight: "length_m", way: "any", avoid: ["SERVES"] })).toContain("ANY SHORTEST BY e.length_m (a:Junction {code: 'A'})-[e:!SERVES]-+(b:Junction {code: 'B'})");
    expect(reach([node("A")], "out", 3, [])).toContain("-[e]->{1,3}(b)");
    expect(found("50% o'clock", ["name"])).toContain("LIKE UPPER('%50% o\\'clock%')");
  });

  it("and so is any picture", () => {
    const picture = { nodes: new Map([["n1", node("1")], ["n2", node("2")]]), edges: new Map([["e1", edge("e1", "n1", "n2")]]) };
    const text = asQuery(picture as unknown as Parameters<typeof asQuery>[0]);
    expect(text).toContain("a.code IN ['1', '2']");
    expect(text).toContain("[e:PIPE]");
    expect(asQuery({ ...picture, edges: new Map() } as unknown as Parameters<typeof asQuery>[0])).not.toContain("OPTIONAL");
  });
});

describe("parameters", () => {
  it("are those of the text, not those in texts and comments", () => {
    expect(parameterNames("MATCH (n {a: $first}) // $no\nWHERE n.b = '$neither' AND n.c > $second /* $nor */ RETURN $first")).toEqual(["first", "second"]);
  });

  it("are literals where they look like one, otherwise texts", () => {
    const values = parameterValues("$a $b $c $d $e", { a: "12", b: "DATE '2026-05-31'", c: "Teasel", d: "", e: "'quoted'" });
    expect(values).toEqual({ a: { gql: "12" }, b: { gql: "DATE '2026-05-31'" }, c: "Teasel", e: { gql: "'quoted'" } });
  });
});

describe("a procedure of one's own", () => {
  it("is offered with the arguments and columns of its signature", () => {
    const callable = asCallable({ name: "spread", description: "", signature: "spread(from LIST<NODE>, share FLOAT64 = 0.5, word STRING = 'a, b') YIELD node NODE, seen BOOL" });
    expect(callable.arguments.map((a) => [a.name, a.type, a.required, a.default])).toEqual([["from", "LIST<NODE>", true, null], ["share", "FLOAT64", false, "0.5"], ["word", "STRING", false, "'a, b'"]]);
    expect(callable.columns.map((c) => [c.name, c.type])).toEqual([["node", "NODE"], ["seen", "BOOL"]]);
    expect(asCallable({ name: "f", description: "", signature: "f() YIELD n NODE" }).arguments).toEqual([]);
  });
});
