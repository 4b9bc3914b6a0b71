// Parts of the Explore page: pictures and how they look, what is listed of them, and the questions that its steps are.
import { cleanup, render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { GraphElement } from "../src/shared/api";
import type { Json } from "../src/shared/json";
import { DrawnTable } from "../src/explore/DrawnTable";
import { suitable } from "../src/explore/layout";
import { LegendPanel } from "../src/explore/LegendPanel";
import { LooksPanel } from "../src/explore/LooksPanel";
import { USUAL, captionOf, looksOf } from "../src/explore/looks";
import { EMPTY, type Picture, bundled, labelCounts, only, propertyNames, withRows, without } from "../src/explore/picture";
import { asQuery, edgesBetween, neighbourCounts, neighbours, pathBetween, reach } from "../src/explore/queries";

afterEach(cleanup);

function node(id: string, properties: Record<string, Json> = {}, labels = ["Site"]): GraphElement {
  return { type: "node", id, labels, key: ["code"], properties: { code: id.toUpperCase(), ...properties } };
}

function edge(id: string, source: string, target: string, labels = ["PIPE"], directed = true, properties: Record<string, Json> = {}): GraphElement {
  return { type: "edge", id, labels, key: [], properties, directed, source, target };
}

const json = (elements: GraphElement[]) => elements as unknown as Json[];

function picture(nodes: GraphElement[], edges: GraphElement[] = []): Picture {
  return withRows(EMPTY, [json(nodes), json(edges)]);
}

describe("a picture", () => {
  it("takes elements out of rows, lists and records, each once", () => {
    const [a, b, e] = [node("a"), node("b"), edge("e", "a", "b")];
    const nested = { where: json([a, b]), more: { way: json([e]) } } as unknown as Json;
    const made = withRows(picture([a]), [[nested, 7, null, "text"], json([a])]);
    expect([...made.nodes.keys()]).toEqual(["a", "b"]);
    expect([...made.edges.keys()]).toEqual(["e"]);
  });

  it("draws edges of one label between the same ends, the same way, as one line", () => {
    const made = picture([node("a"), node("b")], [
      edge("1", "a", "b"), edge("2", "a", "b"), edge("3", "b", "a"), edge("4", "a", "b", ["ROAD"]), edge("5", "a", "b", ["PIPE"], false), edge("6", "a", "elsewhere"),
    ]);
    expect(bundled(made).map((b) => [b.id, b.edges.length, b.directed])).toEqual([["1", 2, true], ["3", 1, true], ["4", 1, true], ["5", 1, false]]);
  });

  it("loses the edges of nodes that go, and keeps none to what is not there", () => {
    const made = picture([node("a"), node("b"), node("c")], [edge("1", "a", "b"), edge("2", "b", "c")]);
    expect([...without(made, new Set(["c"])).edges.keys()]).toEqual(["1"]);
    expect([...without(made, new Set(["1"])).edges.keys()]).toEqual(["2"]);
    expect([...only(made, new Set(["b", "c"])).edges.keys()]).toEqual(["2"]);
    expect(made.edges.size).toBe(2);
  });

  it("counts labels and names properties with values that fit", () => {
    const nodes = [node("a", { level: 3, note: null }), node("b", { note: "x" }, ["Pump", "Site"]), node("c", {}, [])];
    expect(labelCounts(nodes)).toEqual([["(no label)", 1], ["Pump&Site", 1], ["Site", 1]]);
    expect(propertyNames(nodes, (v) => v !== null)).toEqual(["code", "level", "note"]);
    expect(propertyNames(nodes, (v) => typeof v === "number")).toEqual(["level"]);
  });

  it("is laid out by its shape", () => {
    const line = picture(["a", "b", "c", "d"].map((id) => node(id)), [edge("1", "a", "b"), edge("2", "b", "c"), edge("3", "c", "d")]);
    const ring = picture(["a", "b", "c"].map((id) => node(id)), [edge("1", "a", "b"), edge("2", "b", "c"), edge("3", "c", "a")]);
    const alone = picture(["a", "b", "c"].map((id) => node(id)));
    const of = (made: Picture) => suitable(made, bundled(made));
    expect([of(line), of(ring), of(alone)]).toEqual(["layered", "force", "circle"]);
  });
});

describe("the looks of a picture", () => {
  const levels = picture(Array.from({ length: 30 }, (_, i) => node(`n${i}`, { level: i, kind: i % 2 === 0 ? "even" : "odd" }, [i < 20 ? "Site" : "Pump"])), [edge("1", "n0", "n1"), edge("2", "n0", "n1"), edge("3", "n0", "n2", ["PIPE"], true, { bore: 90 })]);
  const of = (choices: Partial<typeof USUAL>) => looksOf(levels, bundled(levels), { ...USUAL, ...choices }, new Map(), false, { labels: {} });

  it("give each label a colour, the most frequent first", () => {
    const { legend, looks, scale } = of({});
    expect(legend.map((entry) => [entry.name, entry.count])).toEqual([["Site", 20], ["Pump", 10]]);
    expect(looks.colour("n0")).not.toBe(looks.colour("n25"));
    expect(scale).toBeNull();
  });

  it("show many numbers as a scale from low to high, few values each by itself", () => {
    const { legend, scale } = of({ colourBy: "level" });
    expect(scale).toEqual({ least: 0, most: 29 });
    expect(legend[0]?.name.startsWith("0 ")).toBe(true);
    expect(legend.reduce((sum, entry) => sum + entry.count, 0)).toBe(30);
    expect(of({ colourBy: "kind" }).legend.map((entry) => entry.name).sort()).toEqual(["even", "odd"]);
    expect(of({ colourBy: "code" }).legend.some((entry) => entry.name === "other values" && entry.count === 20)).toBe(true);
  });

  it("let areas grow with numbers, and edges say what they are", () => {
    const { looks } = of({ sizeBy: "level", edgeCaption: "bore" });
    expect(looks.size("n29")).toBe(54);
    expect(looks.size("n0")).toBe(10);
    expect(of({ sizeBy: "#degree" }).looks.size("n0")).toBe(54);
    expect(bundled(levels).map(looks.edgeLabel)).toEqual(["PIPE ×2", "90"]);
  });

  it("name a node by the property that was chosen, its key, its name or its number", () => {
    expect(captionOf(node("a", { level: 3 }), "level")).toBe("3");
    expect(captionOf(node("a", { level: null }), "level")).toBe("A");
    expect(captionOf({ ...node("a"), key: [], properties: { name: "Weir" } }, undefined)).toBe("Weir");
    expect(captionOf({ ...node("a"), key: [], properties: {} }, "")).toBe("a");
  });
});

describe("the list of what is drawn", () => {
  const nodes = Array.from({ length: 250 }, (_, i) => node(`n${i}`, { note: i === 7 ? "<b>bold</b>" : `note ${i}` }));
  function Listed({ onChoose }: { onChoose: (ids: ReadonlySet<string>) => void }) {
    const [chosen, choose] = useState<ReadonlySet<string>>(new Set());
    return <DrawnTable picture={picture(nodes)} chosen={chosen} onChoose={(ids) => { choose(ids); onChoose(ids); }} />;
  }

  it("chooses and unchooses by its boxes, each choice with those before", async () => {
    const chosen = vi.fn();
    const user = userEvent.setup();
    const { container } = render(<Listed onChoose={chosen} />);
    const boxes = container.querySelectorAll<HTMLInputElement>("input[type=checkbox]");
    expect(boxes.length).toBe(200);
    for (const place of [3, 5, 3]) await user.click(boxes[place] as HTMLInputElement);
    expect(chosen.mock.calls.map(([ids]) => [...(ids as Set<string>)])).toEqual([["n3"], ["n3", "n5"], ["n5"]]);
    expect(container.querySelector("b")).toBeNull();
    expect(container.textContent).toContain("<b>bold</b>");
  });

  it("finds by name and by value, and Enter chooses all that are found", async () => {
    const chosen = vi.fn();
    const user = userEvent.setup();
    const { container } = render(<Listed onChoose={chosen} />);
    expect(container.textContent).toContain("200 of 250 are listed");
    const search = container.querySelector("input[type=search]") as HTMLInputElement;
    await user.type(search, "note 24");
    expect(container.querySelectorAll("li").length).toBe(11);
    await user.type(search, "{Enter}");
    expect((chosen.mock.calls[0]?.[0] as Set<string>).size).toBe(11);
  });
});

describe("the panels beside a drawing", () => {
  it("turn labels off and on, and choose all of one", async () => {
    const [off, chosen] = [vi.fn(), vi.fn()];
    const user = userEvent.setup();
    const legend = [{ name: "Site", colour: "#111", count: 2, ids: ["a", "b"] }, { name: "Pump", colour: "#222", count: 1200, ids: ["c"] }];
    render(<LegendPanel legend={legend} off={new Set(["Pump"])} onOff={off} onChoose={chosen} scale={null} by="" />);
    expect(screen.getByText("1,200")).toBeTruthy();
    await user.click(screen.getByLabelText("Show Site"));
    await user.click(screen.getByLabelText("Show Pump"));
    expect(off.mock.calls.map(([names]) => [...(names as Set<string>)])).toEqual([["Pump", "Site"], []]);
    await user.click(screen.getByText("Site"));
    expect([...(chosen.mock.calls[0]?.[0] as Set<string>)]).toEqual(["a", "b"]);
  });

  it("offer the properties that have values, numbers for sizes, and measures that need nothing", () => {
    const made = picture([node("a", { level: 3, note: "x", gone: null }), node("b", { head: 2.5 }, ["Pump"])], [edge("1", "a", "b", ["PIPE"], true, { bore: 90 })]);
    const measure = (name: string, required: boolean) => ({ name, once_an_element: true, columns: [{ name: "node", type: "NODE" }, { name: "rank", type: "FLOAT64" }], arguments: [{ name: "weight", required }] });
    const measures = [measure("page_rank", false), measure("flow_to", true)] as never;
    const changed = vi.fn();
    render(<LooksPanel picture={made} choices={USUAL} onChange={changed} measures={measures} />);
    const options = (label: string) => within(screen.getByLabelText(label)).getAllByRole("option", { hidden: true }).map((o) => o.textContent);
    expect(options("Colour by")).toEqual(["label", "code", "head", "level", "note", "page rank"]);
    expect(options("Size by")).toEqual(["all alike", "edges in the drawing", "head", "level", "page rank"]);
    expect(options("Pump")).toEqual(["its key", "code", "head"]);
    expect(options("Edges")).toEqual(["label", "bore"]);
  });
});

describe("the questions of an exploration", () => {
  const [a, b] = [node("a"), node("b'c")];

  it("are texts that find the same again, whatever names and values are", () => {
    expect(neighbours(a, ["FLOWS TO"], "in", 20)).toBe("MATCH (a:Site {code: 'A'})<-[e:`FLOWS TO`]-(b)\nRETURN a, e, b\nLIMIT 20");
    expect(neighbourCounts(a).split("UNION ALL").length).toBe(3);
    expect(pathBetween(a, b, { weight: "length_m", way: "any", avoid: ["VALVE", "OLD PIPE"] })).toBe(
      "MATCH p = ANY SHORTEST BY e.length_m (a:Site {code: 'A'})-[e:!VALVE&!`OLD PIPE`]-+(b:Site {code: 'B\\'C'})\nRETURN p",
    );
    expect(reach([a], "out", 4, [])).toContain("-[e]->{1,4}(b)");
  });

  it("ask for a picture with its edges, or its nodes alone", () => {
    const made = picture([a, b], [edge("1", "a", "b'c", ["PIPE"]), edge("2", "a", "b'c", ["ROAD"])]);
    expect(asQuery(made)).toContain("e:PIPE|ROAD");
    expect(asQuery(picture([a]))).not.toContain("OPTIONAL");
    expect(edgesBetween(made)).toContain("~[e]~>");
  });
});
