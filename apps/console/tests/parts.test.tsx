// Parts of pages on their own: what they show, what they do by keyboard, and that nothing of the data is ever markup.
import { cleanup, render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { type PlanTree, Problem } from "../src/shared/api";
import { useAttempt } from "../src/shared/attempt";
import { PALETTE, labelColours } from "../src/shared/palette";
import { ProblemBox, Warnings } from "../src/shared/Problems";
import { Tabs } from "../src/shared/Tabs";
import { contentOf, pictureOf } from "../src/explore/drawings";
import { hull } from "../src/explore/hulls";
import { EMPTY, withRows } from "../src/explore/picture";
import Chart from "../src/query/Chart";
import { ColumnStatistics } from "../src/query/ColumnStatistics";
import { setLanguage } from "../src/shared/words";
import { forget, past, pin, remember } from "../src/query/history";
import { TextCell } from "../src/notebooks/TextCell";
import { bars } from "../src/profile/FlameView";
import { PlanTreeView, flow } from "../src/profile/PlanTreeView";

afterEach(() => {
  cleanup();
  localStorage.clear();
});

describe("a problem", () => {
  it("is told with its code, its place and the way out", () => {
    const error = { severity: "error" as const, code: "42002", message: "there is no variable m", excerpt: "RETURN m\n       ^", hint: "did you mean n?" };
    render(<ProblemBox problem={new Problem(400, "the query has an error", undefined, [error])} />);
    const box = screen.getByRole("alert");
    for (const said of ["42002", "there is no variable m", "did you mean n?"]) expect(box.textContent).toContain(said);
    expect(box.querySelector("pre")?.textContent).toContain("^");
  });

  it("shows warnings and no errors among the marks", () => {
    render(<Warnings marks={[{ severity: "warning", code: "01000", message: "no node has the label X" }, { severity: "error", code: "42001", message: "not this" }]} />);
    expect(screen.getByText("no node has the label X")).toBeTruthy();
    expect(screen.queryByText("not this")).toBeNull();
  });

  it("is kept where an attempt fails, and gone with the next", async () => {
    function Page() {
      const { problem, busy, attempt } = useAttempt();
      const run = (fails: boolean) => void attempt("work", async () => {
        if (fails) throw new Problem(503, "PostgreSQL is away", undefined, []);
      });
      return <>{problem && <ProblemBox problem={problem} />}<span>{busy ?? "idle"}</span><button onClick={() => run(true)}>fail</button><button onClick={() => run(false)}>work</button></>;
    }
    const user = userEvent.setup();
    render(<Page />);
    await user.click(screen.getByText("fail"));
    expect((await screen.findByRole("alert")).textContent).toContain("PostgreSQL is away");
    expect(screen.getByText("idle")).toBeTruthy();
    await user.click(screen.getByText("work"));
    expect(screen.queryByRole("alert")).toBeNull();
  });
});

describe("tabs", () => {
  it("are moved through by the arrow keys, round the ends", async () => {
    function Page() {
      const [open, setOpen] = useState<"a" | "b" | "c">("a");
      return <Tabs name="Parts" tabs={[["a", "One"], ["b", "Two"], ["c", "Three"]]} open={open} onOpen={setOpen} />;
    }
    const user = userEvent.setup();
    render(<Page />);
    const chosen = () => within(screen.getByRole("tablist")).getAllByRole("tab").find((t) => t.getAttribute("aria-selected") === "true")?.textContent;
    screen.getByText("One").focus();
    await user.keyboard("{ArrowRight}");
    expect(chosen()).toBe("Two");
    await user.keyboard("{ArrowLeft}{ArrowLeft}");
    expect(chosen()).toBe("Three");
    expect(document.activeElement?.textContent).toBe("Three");
  });
});

describe("a column at a glance", () => {
  it("counts values, nulls and extremes by number", () => {
    render(<ColumnStatistics name="level" values={[9, 10, 9, null, 9007199254740993n, 2]} onClose={() => undefined} />);
    const text = screen.getByRole("region", { name: "About level" }).textContent ?? "";
    expect(text).toContain("6 rows, 1 null, 4 different, from 2 to 9007199254740993");
    expect(screen.getAllByRole("listitem")[0]?.textContent).toContain("2 × 9");
  });
});

describe("a text of a notebook", () => {
  it("is Markdown to read, a field to write, and never the data's markup", async () => {
    const changed = vi.fn();
    function Cell() {
      const [editing, setEditing] = useState(false);
      return <TextCell text={"## Pressure\n<img src=x onerror=alert(1)> *much*"} editing={editing} onEdit={setEditing} onChange={changed} />;
    }
    const user = userEvent.setup();
    render(<Cell />);
    expect(screen.getByRole("heading", { name: "Pressure" })).toBeTruthy();
    expect(document.querySelector("img")).toBeNull();
    await user.click(screen.getByTitle("Choose it to write"));
    const field = screen.getByRole("textbox", { name: "Text, as Markdown" });
    expect(document.activeElement).toBe(field);
    await user.type(field, "!");
    expect(changed).toHaveBeenCalled();
    await user.keyboard("{Escape}");
    expect(screen.queryByRole("textbox")).toBeNull();
  });
});

describe("colours of labels", () => {
  it("are of the palette, one for each while there are enough, and the same for the same label alone", () => {
    const labels = ["Site", "Junction", "Valve", "Crew", "Alarm"];
    const colours = labelColours(labels);
    expect(new Set(colours.values()).size).toBe(labels.length);
    for (const colour of colours.values()) expect(PALETTE).toContain(colour);
    expect(labelColours(["Valve"]).get("Valve")).toBe(labelColours(["Valve"]).get("Valve"));
  });
});

describe("the history", () => {
  const run = (text: string, at: number) => ({ text, graph: "averley", at, rows: 1, failed: null, us: 5 });
  it("has a text once, the newest first, and keeps what is pinned", () => {
    remember(run("RETURN 1", 1));
    remember(run("RETURN 2", 2));
    remember(run("RETURN 1", 3));
    expect(past().map((p) => p.text)).toEqual(["RETURN 1", "RETURN 2"]);
    pin(run("RETURN 2", 2));
    for (let i = 0; i < 320; i++) remember(run(`RETURN ${i + 10}`, i + 10));
    expect(past().some((p) => p.text === "RETURN 2" && p.pinned)).toBe(true);
    expect(past().length).toBeLessThanOrEqual(301);
    forget(run("RETURN 2", 2));
    expect(past().some((p) => p.text === "RETURN 2")).toBe(false);
  });

  it("begins anew where what is stored cannot be read", () => {
    localStorage.setItem("history", "{broken");
    expect(past()).toEqual([]);
    remember(run("RETURN 1", 1));
    expect(past()).toHaveLength(1);
  });
});

describe("a profile as bars", () => {
  const operator = (name: string, own_us: number, inputs: PlanTree[], hops: object[] = []) => ({
    operator: name, details: [], inputs, estimate: { rows: 1, cost: 1, basis: "counted", source: "" },
    actual: { own_us, total_us: own_us, rows_in: 0, rows_out: 1000, batches: 1, edges_looked: 0, properties_read: 0, index_probes: 0, peak_bytes: 0, estimate_factor: 1, hops },
  }) as unknown as PlanTree;
  const hop = (n: number, time_us: number) => ({ hop: n, side: "from", frontier: 1, edges_looked: 1, failed: 0, reached: 1, known: 0, largest_degree: 1, time_us });
  const plan = operator("Aggregate", 100, [operator("Join", 100, [operator("Reach", 600, [], [hop(1, 200), hop(2, 400)]), operator("ScanNodes", 200, []), operator("OneRow", 0, [])])]);

  it("has every operator as wide as its time with what is below it, side by side within the one above", () => {
    const found = bars(plan);
    const of = (name: string) => found.find((bar) => bar.name === name);
    expect(of("Aggregate")?.share).toBeCloseTo(1);
    expect(of("Join")?.share).toBeCloseTo(0.9);
    expect([of("Reach")?.from, of("Reach")?.share, of("ScanNodes")?.from, of("ScanNodes")?.share].map((n) => Math.round((n ?? 0) * 100))).toEqual([0, 60, 60, 20]);
    expect([of("hop 1 from"), of("hop 2 from")].map((bar) => [Math.round((bar?.from ?? 0) * 100), Math.round((bar?.share ?? 0) * 100), bar?.level])).toEqual([[0, 20, 3], [20, 40, 3]]);
    expect(of("OneRow")).toBeUndefined();
    // Nothing reaches over the end of what it is a part of.
    for (const bar of found) expect(bar.from + bar.share).toBeLessThanOrEqual(1.000001);
  });

  it("chooses an operator by its bar, and shows its details", async () => {
    const user = userEvent.setup();
    render(<PlanTreeView plan={plan} total={1000} first={plan} />);
    expect(screen.getByRole("complementary", { name: "Details of Aggregate" })).toBeTruthy();
    await user.click(screen.getByText("Time as bars"));
    await user.click(screen.getByRole("button", { name: /^Reach, .*60 % of the time/ }));
    expect(screen.getByRole("complementary", { name: "Details of Reach" })).toBeTruthy();
  });

  it("has links that are wider for more rows", () => {
    expect(flow(0)).toBe(flow(1));
    expect(flow(1e6)).toBeGreaterThan(flow(1e3));
    expect(flow(1e12)).toBeLessThanOrEqual(18);
  });
});

describe("texts with marks in them", () => {
  it("have these in each language", async () => {
    const result = { columns: [{ name: "a", kind: "value" as const }], rows: [["x"]], summary: { rows: 1 }, warnings: [] };
    const { unmount } = render(<Chart result={result} />);
    expect(screen.getByText(/^No column holds numbers/).querySelector("code")?.textContent).toMatch(/^RETURN LABELS/);
    unmount();
    await setLanguage("de");
    render(<Chart result={result} />);
    expect(screen.getByText(/^Keine Spalte enthält Zahlen/).querySelector("code")?.textContent).toMatch(/^RETURN LABELS/);
    await setLanguage("en");
  });
});

describe("a saved drawing", () => {
  const node = (id: string) => ({ type: "node", id, labels: ["N"], key: [], properties: {} });
  const edge = (id: string, source: string, target: string) => ({ type: "edge", id, labels: ["E"], key: [], properties: {}, source, target });
  const rows = [[node("n1"), edge("e1", "n1", "n2"), node("n2")], [node("n1"), edge("e2", "n1", "n3"), node("n3")]] as never[][];

  it("holds what is drawn with its places, and finds it again among what its query gives", () => {
    const picture = withRows(EMPTY, rows.slice(0, 1));
    const places = new Map([["n1", { x: 1.26, y: 2 }], ["n2", { x: 0, y: -3 }], ["gone", { x: 9, y: 9 }]]);
    const content = contentOf(picture, { layout: "layered", fields: ["opened", ""], choices: { colourBy: "k", sizeBy: "", captions: { N: "name" }, edgeCaption: "" }, places });
    expect([content.nodes, content.edges, content.fields]).toEqual([["n1", "n2"], ["e1"], ["opened"]]);
    expect(content.places).toEqual({ n1: [1.3, 2], n2: [0, -3] });
    const again = pictureOf(content, rows);
    expect([[...again.picture.nodes.keys()], [...again.picture.edges.keys()], again.gone]).toEqual([["n1", "n2"], ["e1"], 0]);
  });

  it("tells how much of it has left the graph", () => {
    const left = pictureOf({ nodes: ["n1", "n2", "n9"], edges: ["e1", "e8"] }, rows);
    expect([left.picture.nodes.size, left.gone]).toEqual([2, 2]);
  });
});

describe("the outline of a group", () => {
  it("goes round all of its points, and turns one way", () => {
    const points = Array.from({ length: 60 }, (_, i): [number, number] => [Math.round(Math.sin(i * 7.3) * 90), Math.round(Math.cos(i * 3.1) * 60)]);
    const found = hull(points);
    expect(found.length).toBeGreaterThan(3);
    const turn = ([ax, ay]: [number, number], [bx, by]: [number, number], [px, py]: [number, number]) => (bx - ax) * (py - ay) - (by - ay) * (px - ax);
    found.forEach((a, i) => {
      const b = found[(i + 1) % found.length] as [number, number];
      points.forEach((p) => expect(turn(a, b, p)).toBeGreaterThanOrEqual(0));
    });
    expect(hull([[1, 1], [1, 1], [4, 5]]).length).toBeLessThanOrEqual(3);
  });
});
