// The proposal of a load: which tables are nodes, which are edges, and which columns name what.
import { describe, expect, it } from "vitest";
import type { Model } from "../src/shared/api";
import { type TableColumns, byHand, fieldText, propose } from "../src/load/mapping";

function table(file: string, ...names: string[]): TableColumns {
  return { file, rows: 10, delimiter: null, null: null, date_order: null, columns: names.map((name) => ({ name, kind: "STRING", nulls: 0, samples: [] })) };
}

interface Type { label: string; key: string[]; more?: string[] }

function model(nodes: Type[], edges: [string, string, string, string[]?][]): Model {
  const property = (name: string, not_null: boolean) => ({ name, type: "STRING", not_null, default: null });
  return {
    node_types: nodes.map(({ label, key, more }) => ({ name: label, labels: [label], key_labels: [label], key, properties: [...key.map((k) => property(k, true)), ...(more ?? []).map((m) => property(m, false))] })),
    edge_types: edges.map(([label, source, target, more]) => ({ name: label, labels: [label], directed: true, key: [], source: [[source]], target: [[target]], properties: (more ?? []).map((m) => property(m, false)) })),
  } as unknown as Model;
}

const library = model(
  [{ label: "Book", key: ["isbn"], more: ["title"] }, { label: "Member", key: ["member_no"], more: ["name"] }, { label: "Author", key: ["id"], more: ["name"] }],
  [["LENT", "Book", "Member", ["since"]], ["WROTE", "Author", "Book"]],
);

describe("the proposal of a load", () => {
  it("takes a table of two keys for edges, however it names them", () => {
    for (const [book, member] of [["isbn", "member_no"], ["book_isbn", "member"], ["book_id", "member_no"], ["Book", "Member No"]] as const) {
      const [made] = propose([table("loans.csv", book, member, "since")], library).table;
      expect(made?.node).toBeUndefined();
      expect(made?.edge).toEqual([{ label: "LENT", source: { labels: ["Book"], key: { isbn: book } }, target: { labels: ["Member"], key: { member_no: member } }, properties: { since: "since" } }]);
    }
  });

  it("makes edges of a row's node to what its other columns name", () => {
    const [made] = propose([table("books.csv", "isbn", "title", "author_id")], library).table;
    expect(made?.node).toEqual([{ labels: ["Book"], properties: { isbn: "isbn", title: "title" } }]);
    expect(made?.edge).toEqual([{ label: "WROTE", source: { labels: ["Author"], key: { id: "author_id" } }, target: { labels: ["Book"], key: { isbn: "isbn" } }, optional: true }]);
    const [alone] = propose([table("members.csv", "member_no", "name")], library).table;
    expect(alone?.node?.[0]?.labels).toEqual(["Member"]);
    expect(alone?.edge).toBeUndefined();
  });

  it("tells both ends of edges between nodes of one kind by from and to", () => {
    const net = model([{ label: "Junction", key: ["code"] }, { label: "Valve", key: ["code"] }], [["PIPE", "Junction", "Junction", ["length_m"]]]);
    const [made] = propose([table("pipes.csv", "from_code", "to_code", "length_m")], net).table;
    expect(made?.edge?.[0]).toEqual({ label: "PIPE", source: { labels: ["Junction"], key: { code: "from_code" } }, target: { labels: ["Junction"], key: { code: "to_code" } }, properties: { length_m: "length_m" } });
    // A key of that name does not say which end it is.
    const [own] = propose([table("pipes.csv", "code", "from", "to")], model([{ label: "Junction", key: ["code"], more: ["level"] }], [["PIPE", "Junction", "Junction"]])).table;
    expect(own?.edge?.[0]?.source.key).not.toEqual({ code: "code" });
  });

  it("chooses by columns first, then by the name of the file", () => {
    const two = model([{ label: "Pump", key: ["code"], more: ["power"] }, { label: "Site", key: ["code"], more: ["name"] }], []);
    expect(propose([table("a.csv", "code", "power")], two).table[0]?.node?.[0]?.labels).toEqual(["Pump"]);
    expect(propose([table("sites_2026.csv", "code")], two).table[0]?.node?.[0]?.labels).toEqual(["Site"]);
  });

  it("makes a node type of a table where there is no model, and keeps how the table is written", () => {
    const made = propose([{ ...table("spare parts.csv", "no", "name"), delimiter: ";", null: ["n/a"], date_order: "day-first" }], null);
    expect(made.table).toEqual([{ file: "spare parts.csv", delimiter: ";", null: ["n/a"], date_order: "day-first", node: [{ labels: ["Spare_parts"], properties: { no: "no", name: "name" } }] }]);
  });
});

describe("rules by hand", () => {
  it("are replaced or left out by their place", () => {
    expect(byHand(["a", "b", "c"], 1, "x")).toEqual(["a", "x", "c"]);
    expect(byHand(["a", "b", "c"], 1, null)).toEqual(["a", "c"]);
  });

  it("say where a value comes from", () => {
    const texts = [undefined, "code", { expr: "a || b" }, { value: 7 }, { column: "tags", split: "," }, { column: "day", pattern: "DD.MM.YYYY" }].map(fieldText);
    expect(texts).toEqual(["", "code", "= a || b", '"7"', "tags (split at ,)", "day (DD.MM.YYYY)"]);
  });
});
