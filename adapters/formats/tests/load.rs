//! Loads of random dirty tables against a reference that goes row by row: the account adds up and says what
//! happened, the graph is what the rows say, in one load or in several, and a load run again changes nothing.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_formats::{
    Account, LoadError, LoadMemory, LoadOutcome, Mapping, Progress, Shape, Source, load,
};
use graphodrome_graph::{Base, Schema, Snapshot};
use graphodrome_language::parse_graph_type;
use graphodrome_records::RejectKind;
use proptest::prelude::*;

const LIMIT: u64 = 1 << 30;

fn sources(files: &[(&str, &str)]) -> BTreeMap<String, Arc<Source>> {
    let source =
        |(name, text): &(&str, &str)| (name.to_string(), Arc::new(Source::Bytes(text.as_bytes().to_vec())));
    files.iter().map(source).collect()
}

fn loaded(mapping: &str, files: &[(&str, &str)], before: &Snapshot) -> Result<LoadOutcome, LoadError> {
    load(&Mapping::parse(mapping)?, &sources(files), before, LIMIT, &Progress::default())
}

/// The graph after a load, as the service publishes it.
fn published(before: &Snapshot, outcome: LoadOutcome) -> Snapshot {
    let after = outcome.changed.map_or_else(|| before.clone(), |(after, _)| after);
    let Some((parts, shape)) = outcome.parts else { return after };
    let schema = before.schema();
    let (base, collisions) = match shape {
        Shape::Whole => (Base::build(parts, &schema).unwrap(), vec![]),
        Shape::Level => before.base.extended(parts, &schema, &|| Ok(())).unwrap(),
    };
    let mut next = Snapshot::new(Arc::new(base), schema, after.version);
    if shape == Shape::Level {
        next = next.replay(&after.residue()).unwrap();
    }
    next.check_collisions(&collisions).unwrap();
    next
}

fn graph() -> Snapshot {
    let model = "CREATE GRAPH TYPE t AS { (A :A { code STRING NOT NULL, n INT64, m INT64 } KEY (code)), (A)-[:R { w INT64 }]->(A) }";
    Snapshot::empty(Some(Arc::new(parse_graph_type(model).unwrap()))).unwrap()
}

/// A cell of a table: mostly good, sometimes empty or wrong.
fn number() -> impl Strategy<Value = String> {
    prop_oneof![6 => (0i64..4).prop_map(|n| n.to_string()), 2 => Just(String::new()), 1 => Just("x1".to_string()), 1 => Just("99999999999999999999".to_string())]
}

fn code() -> impl Strategy<Value = String> {
    prop_oneof![8 => (0u8..12).prop_map(|c| format!("c{c}")), 1 => Just(String::new())]
}

#[derive(Clone, Debug)]
struct Tables {
    nodes: Vec<(String, String, String)>,
    edges: Vec<(String, String, String)>,
    /// Rows with a field too many.
    ragged: Vec<usize>,
}

fn tables() -> impl Strategy<Value = Tables> {
    (
        prop::collection::vec((code(), number(), number()), 0..30),
        prop::collection::vec((code(), code(), number()), 0..30),
        prop::collection::vec(0usize..40, 0..3),
    )
        .prop_map(|(nodes, edges, ragged)| Tables { nodes, edges, ragged })
}

impl Tables {
    fn texts(&self) -> (String, String) {
        let extra = |row: usize| if self.ragged.contains(&row) { ",odd" } else { "" };
        let rows = |rows: &[(String, String, String)], ragged: bool| -> String {
            let row = |(place, (a, b, c)): (usize, &(String, String, String))| {
                format!("{a},{b},{c}{}\n", if ragged { extra(place) } else { "" })
            };
            rows.iter().enumerate().map(row).collect()
        };
        (format!("code,n,m\n{}", rows(&self.nodes, true)), format!("from,to,w\n{}", rows(&self.edges, false)))
    }
}

#[derive(Clone, Copy, Debug, PartialEq)]
struct Policies {
    existing: &'static str,
    same: &'static str,
    missing: &'static str,
}

fn policies() -> impl Strategy<Value = Policies> {
    let existing = prop::sample::select(vec!["reject", "keep", "update", "replace"]);
    let same = prop::sample::select(vec!["identical-once", "same-ends-once", "one-per-row", "keep-parallel"]);
    let missing = prop::sample::select(vec!["reject", "create"]);
    (existing, same, missing).prop_map(|(existing, same, missing)| Policies { existing, same, missing })
}

fn mapping(p: Policies) -> String {
    let Policies { existing, same, missing } = p;
    format!(
        r#"
[[table]]
file = "nodes.csv"
[[table.node]]
labels = ["A"]
properties = {{ code = "code", n = "n", m = "m" }}
existing = "{existing}"
[[table]]
file = "edges.csv"
[[table.edge]]
label = "R"
source = {{ labels = ["A"], key = {{ code = "from" }}, missing = "{missing}" }}
target = {{ labels = ["A"], key = {{ code = "to" }}, missing = "{missing}" }}
properties = {{ w = "w" }}
same = "{same}"
existing = "{existing}"
"#
    )
}

#[derive(Clone, Debug, Default, PartialEq)]
struct Counts {
    made: u64,
    changed: u64,
    /// Unchanged and duplicates together: which of the two it is depends on what was there before.
    known: u64,
    rejects: u64,
}

type Numbers = (Option<i64>, Option<i64>);
/// Both ends and the weight.
type Edge = (String, String, Option<i64>);

/// The same rows, one after another, in lists.
#[derive(Clone, Debug, Default)]
struct Reference {
    nodes: BTreeMap<String, Numbers>,
    edges: Vec<Edge>,
}

fn parsed(text: &str) -> Result<Option<i64>, ()> {
    if text.is_empty() { Ok(None) } else { text.parse().map(Some).map_err(|_| ()) }
}

impl Reference {
    fn load(&mut self, tables: &Tables, p: Policies) -> (Counts, Counts, u64) {
        let mut nodes = Counts::default();
        for (place, (code, n, m)) in tables.nodes.iter().enumerate() {
            let values = (parsed(n), parsed(m));
            let (Ok(n), Ok(m)) = values else {
                nodes.rejects += 1;
                continue;
            };
            if code.is_empty() || tables.ragged.contains(&place) {
                nodes.rejects += 1;
                continue;
            }
            match self.nodes.get_mut(code) {
                None => {
                    self.nodes.insert(code.clone(), (n, m));
                    nodes.made += 1;
                }
                Some(known) => {
                    let updated = (n.or(known.0), m.or(known.1));
                    match p.existing {
                        "keep" => nodes.known += 1,
                        "reject" if updated == *known => nodes.known += 1,
                        "reject" => nodes.rejects += 1,
                        policy => {
                            let next = if policy == "update" { updated } else { (n, m) };
                            if next == *known {
                                nodes.known += 1;
                            } else {
                                *known = next;
                                nodes.changed += 1;
                            }
                        }
                    }
                }
            }
        }
        // References are resolved, and nodes created, for the whole table before its edges are compared.
        let mut created = 0;
        if p.missing == "create" {
            for (from, to, w) in &tables.edges {
                if from.is_empty() || to.is_empty() || parsed(w).is_err() {
                    continue;
                }
                for end in [from, to] {
                    if !self.nodes.contains_key(end) {
                        self.nodes.insert(end.clone(), (None, None));
                        created += 1;
                    }
                }
            }
        }
        (nodes, self.load_edges(tables, p), created)
    }

    fn load_edges(&mut self, tables: &Tables, p: Policies) -> Counts {
        let mut edges = Counts::default();
        // Those that were there before, which no row has been found to be yet.
        let mut before = self.edges.clone();
        for (from, to, w) in &tables.edges {
            let Ok(w) = parsed(w) else {
                edges.rejects += 1;
                continue;
            };
            if !self.nodes.contains_key(from) || !self.nodes.contains_key(to) {
                edges.rejects += 1;
                continue;
            }
            let same_ends = |e: &&mut (String, String, Option<i64>)| e.0 == *from && e.1 == *to;
            if p.same == "one-per-row"
                && let Some(place) = before.iter().position(|e| e.0 == *from && e.1 == *to && e.2 == w)
            {
                before.remove(place);
                edges.known += 1;
                continue;
            }
            let known = match p.same {
                "keep-parallel" | "one-per-row" => None,
                "identical-once" => self.edges.iter_mut().filter(same_ends).find(|e| e.2 == w),
                _ => self.edges.iter_mut().find(same_ends),
            };
            match known {
                None => {
                    self.edges.push((from.clone(), to.clone(), w));
                    edges.made += 1;
                }
                Some(known) => {
                    let agrees = w.is_none() || known.2 == w;
                    match p.existing {
                        "keep" => edges.known += 1,
                        "reject" if agrees => edges.known += 1,
                        "reject" => edges.rejects += 1,
                        policy => {
                            let next = if policy == "update" { w.or(known.2) } else { w };
                            if known.2 == next {
                                edges.known += 1;
                            } else {
                                known.2 = next;
                                edges.changed += 1;
                            }
                        }
                    }
                }
            }
        }
        edges
    }
}

fn counts(account: &Account, table: usize) -> Counts {
    let rule = &account.tables[table].rules[0];
    Counts {
        made: rule.created,
        changed: rule.changed,
        known: rule.unchanged + rule.duplicates,
        rejects: rule.rejects,
    }
}

fn int(value: graphodrome_graph::Value) -> Option<i64> {
    match value {
        graphodrome_graph::Value::Int(i) => Some(i),
        _ => None,
    }
}

/// What is in the graph, as the reference has it.
fn contents(snapshot: &Snapshot) -> (BTreeMap<String, Numbers>, Vec<Edge>) {
    let node = |id: u32, name: &str| snapshot.read_node(id, &snapshot.node_reader(name));
    let text = |id: u32| match node(id, "code") {
        graphodrome_graph::Value::Text(text) => text.to_string(),
        other => panic!("a code is {other:?}"),
    };
    let nodes = (0..snapshot.node_bound()).filter(|&n| snapshot.node_exists(n));
    let nodes = nodes.map(|n| (text(n), (int(node(n, "n")), int(node(n, "m"))))).collect();
    let edges = (0..snapshot.edge_bound()).filter(|&e| snapshot.edge_exists(e));
    let mut edges: Vec<_> = edges
        .map(|e| {
            let (a, b) = snapshot.edge_ends(e);
            (text(a), text(b), int(snapshot.read_edge(e, &snapshot.edge_reader("w"))))
        })
        .collect();
    edges.sort();
    (nodes, edges)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]
    #[test]
    fn loads_do_what_the_rows_say(
        all in prop::collection::vec((tables(), policies()), 1..4),
    ) {
        let mut snapshot = graph();
        let mut reference = Reference::default();
        for (tables, p) in &all {
            let (nodes, edges) = tables.texts();
            let before = (snapshot.node_count(), snapshot.edge_count());
            let files = [("nodes.csv", nodes.as_str()), ("edges.csv", edges.as_str())];
            let outcome = loaded(&mapping(*p), &files, &snapshot).unwrap();
            let account = outcome.account.clone();
            prop_assert!(account.adds_up(), "{account:?}");
            prop_assert_eq!(outcome.rejects.len() as u64, account.rejects);
            let (of_nodes, of_edges, created) = reference.load(tables, *p);
            prop_assert_eq!(counts(&account, 0), of_nodes, "nodes of {:?}", tables);
            prop_assert_eq!(counts(&account, 1), of_edges, "edges of {:?}", tables);
            prop_assert_eq!(account.tables[1].rules[0].created_ends, created);
            snapshot = published(&snapshot, outcome);
            let made = (snapshot.node_count() - before.0, snapshot.edge_count() - before.1);
            prop_assert_eq!(made, (account.nodes_created, account.edges_created));
            let (nodes, edges) = contents(&snapshot);
            let mut wanted = reference.edges.clone();
            wanted.sort();
            prop_assert_eq!(&nodes, &reference.nodes);
            prop_assert_eq!(edges, wanted);
            // Once more: everything already exists, unless rows are always edges or disagree.
            if p.same == "one-per-row" {
                let again = loaded(&mapping(*p), &files, &snapshot).unwrap();
                prop_assert_eq!(again.account.edges_created, 0);
            }
            if p.same != "keep-parallel" && matches!(p.existing, "reject" | "keep") {
                let again = loaded(&mapping(*p), &files, &snapshot).unwrap();
                prop_assert_eq!((again.account.nodes_created, again.account.edges_created), (0, 0));
                prop_assert!(again.changed.is_none());
            }
        }
    }
}

const NODE: &str = "[[table.node]]\nlabels = [\"A\"]\nkey = [\"code\"]\n";

#[test]
fn values_are_computed_filtered_and_typed() {
    let mapping = format!(
        r#"
[[table]]
file = "a.csv"
delimiter = ";"
quote = "'"
null = ["", "NULL"]
where = "state <> 'gone'"
{NODE}properties = {{ code = {{ expr = "UPPER(TRIM(code))" }}, tags = {{ column = "tags", split = "|" }}, built = {{ column = "built", pattern = "DD.MM.YYYY" }}, source = {{ value = "survey" }}, feet = {{ expr = "CAST(len AS FLOAT64) / 0.3048" }}, note = "note" }}
types = {{ tags = "LIST<INT64>", built = "DATE", feet = "FLOAT64" }}
"#
    );
    let text = "code;state;tags;built;len;note\n a1 ;ok;1|2;31.12.2024;3.048;'x;y'\na2;gone;1;01.01.2024;1;n\na3;ok;1|b;01.01.2024;1;n\na4;ok;;32.01.2024;1;n\na5;ok;NULL;NULL;x;n\na6;ok;;;NULL;NULL\n";
    let before = Snapshot::empty_with(Schema::default()).unwrap();
    let outcome = loaded(&mapping, &[("a.csv", text)], &before).unwrap();
    let rule = &outcome.account.tables[0].rules[0];
    assert_eq!((rule.rows, rule.created, rule.skipped, rule.rejects), (6, 2, 1, 3));
    let said: Vec<(u64, &str, &str, RejectKind)> = outcome
        .rejects
        .iter()
        .map(|r| (r.line, r.column.as_deref().unwrap_or(""), r.value.as_deref().unwrap_or(""), r.kind))
        .collect();
    assert_eq!(
        said,
        [
            (4, "tags", "1|b", RejectKind::Value),
            (5, "built", "32.01.2024", RejectKind::Value),
            (6, "len", "x", RejectKind::Expression),
        ]
    );
    let after = published(&before, outcome);
    let shown: Vec<String> =
        (0..after.node_bound()).map(|n| format!("{:?}", after.node_properties(n))).collect();
    assert!(shown[0].contains("\"A1\"") && shown[0].contains("List([Int(1), Int(2)])"), "{shown:?}");
    assert!(shown[0].contains("2024-12-31") && shown[0].contains("Float(10.0)"), "{shown:?}");
    assert!(shown[0].contains("\"x;y\"") && shown[0].contains("survey"), "{shown:?}");
    assert!(!shown[1].contains("tags") && !shown[1].contains("feet"), "{shown:?}");
}

#[test]
fn an_empty_text_in_quotes_can_be_told_from_an_empty_field() {
    let text = "code;x;y;z\na1;'';;''\na2;;'';''\na3;'p;q';'NULL';NULL\na4;'it''s;';'';\n";
    let read = |quoted_null: &str| {
        let mapping = format!(
            "[[table]]\nfile = \"a.csv\"\ndelimiter = \";\"\nquote = \"'\"\nnull = [\"\", \"NULL\"]\n{quoted_null}{NODE}properties = {{ code = \"code\", x = \"x\", y = \"y\", z = \"z\" }}\n"
        );
        let before = Snapshot::empty_with(Schema::default()).unwrap();
        let outcome = loaded(&mapping, &[("a.csv", text)], &before).unwrap();
        let after = published(&before, outcome);
        let property = |node: u32, name: &str| match after.read_node(node, &after.node_reader(name)) {
            graphodrome_graph::Value::Null => "-".to_string(),
            graphodrome_graph::Value::Text(text) => format!("[{text}]"),
            other => panic!("{other:?}"),
        };
        let row = |node: u32| ["x", "y", "z"].map(|name| property(node, name)).join(" ");
        (0..after.node_bound()).map(row).collect::<Vec<_>>()
    };
    assert_eq!(read("quoted_null = false\n"), ["[] - []", "- [] []", "[p;q] [NULL] -", "[it's;] [] -"]);
    assert_eq!(read(""), ["- - -", "- - -", "[p;q] - -", "[it's;] - -"]);
}

#[test]
fn rows_that_are_edges_of_their_own_are_found_again_one_by_one() {
    let policies = Policies { existing: "reject", same: "one-per-row", missing: "reject" };
    let mut snapshot = graph();
    let mut load = |edges: &str| {
        let files = [("nodes.csv", "code,n,m\nx,,\ny,,\n"), ("edges.csv", edges)];
        let outcome = loaded(&mapping(policies), &files, &snapshot).unwrap();
        let rule = outcome.account.tables[1].rules[0].clone();
        snapshot = published(&snapshot, outcome);
        (rule.created, rule.unchanged, snapshot.edge_count())
    };
    let three = "from,to,w\nx,y,1\nx,y,1\nx,y,\nx,x,1\n";
    assert_eq!(load(three), (4, 0, 4));
    assert_eq!(load(three), (0, 4, 4));
    assert_eq!(load("from,to,w\nx,y,1\nx,y,1\nx,y,1\ny,x,1\n"), (2, 2, 6));
    assert_eq!(load("from,to,w\nx,y,1\nx,y,\nx,x,\n"), (1, 2, 7));
}

#[test]
fn ids_of_a_load_connect_and_are_not_kept() {
    let mapping = r#"
[[table]]
file = "n.csv"
[[table.node]]
label_from = "kinds"
label_split = ";"
id = "no"
properties = { name = "name" }
[[table]]
file = "e.csv"
[[table.edge]]
label_from = "kind"
source = { id = "a" }
target = { id = "b" }
"#;
    let files = [
        ("n.csv", "no,kinds,name\n1,A;B,x\n2,C,y\n3,,z\n2,C,other\n"),
        ("e.csv", "a,b,kind\n1,2,R\n2,1,S\n1,9,R\n"),
    ];
    let before = Snapshot::empty_with(Schema::default()).unwrap();
    let outcome = loaded(mapping, &files, &before).unwrap();
    assert!(outcome.account.adds_up());
    let kinds: Vec<RejectKind> = outcome.rejects.iter().map(|r| r.kind).collect();
    assert_eq!(kinds, [RejectKind::Label, RejectKind::KeyConflict, RejectKind::NoSuchNode]);
    let after = published(&before, outcome);
    assert_eq!((after.node_count(), after.edge_count()), (2, 2));
    let mut labels = after.edge_label_counts().into_iter().map(|(l, n)| (l.join("&"), n)).collect::<Vec<_>>();
    labels.sort();
    assert_eq!(labels, [("R".to_string(), 1), ("S".to_string(), 1)]);
    for node in 0..after.node_bound() {
        assert_eq!(after.node_properties(node).len(), 1, "only the name is kept");
    }
}

#[test]
fn bad_files_are_refused_with_place_and_way_out() {
    let before = Snapshot::empty_with(Schema::default()).unwrap();
    let mapping = format!("[[table]]\nfile = \"a.csv\"\n{NODE}properties = {{ code = \"code\" }}\n");
    for (text, said) in [
        ("", "the file is empty"),
        ("code,code\n1,2\n", "the header has the column code twice"),
        ("kode\n1\n", "there is no column code; did you mean kode?"),
        (
            "code\n1\n\"2\n3\n",
            "a quote is never closed, or a row is longer than 16 MiB (the last quote is in line 3)",
        ),
    ] {
        let error = loaded(&mapping, &[("a.csv", text)], &before).err().unwrap().to_string();
        assert!(error.contains(said), "{text:?}: {error}");
    }
    let bytes =
        |bytes: &[u8]| BTreeMap::from([("a.csv".to_string(), Arc::new(Source::Bytes(bytes.to_vec())))]);
    let parsed = Mapping::parse(&mapping).unwrap();
    let run = |sources| load(&parsed, &sources, &before, LIMIT, &Progress::default());
    let wide: Vec<u8> = "\u{feff}code\nx\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let error = run(bytes(&wide)).err().unwrap().to_string();
    assert!(error.contains("add encoding = \"utf-16\""), "{error}");
    let outcome = run(bytes(b"code\ngr\xfcn\nok\nnu\0l\n")).unwrap();
    assert_eq!((outcome.account.nodes_created, outcome.account.rejects), (1, 2));
    assert!(outcome.rejects[0].reason.contains("windows-1252"), "{:?}", outcome.rejects[0]);
    assert_eq!(outcome.rejects[1].value.as_deref(), Some("nu\u{2400}l"));
}

#[test]
fn limits_are_counts_or_shares() {
    let before = Snapshot::empty_with(Schema::default()).unwrap();
    let text = format!("code\n{}\n\n\"\"\n", (0..18).map(|n| format!("c{n}")).collect::<Vec<_>>().join("\n"));
    for (limit, fails) in [("0", true), ("1", false), ("\"5%\"", true), ("\"6%\"", false)] {
        let mapping = format!(
            "reject_limit = {limit}\n[[table]]\nfile = \"a.csv\"\n{NODE}properties = {{ code = \"code\" }}\n"
        );
        let result = loaded(&mapping, &[("a.csv", &text)], &before);
        assert_eq!(result.is_err(), fails, "{limit}");
    }
}

#[test]
fn a_load_holds_no_more_than_it_may_and_gives_all_back() {
    let before = graph();
    let text: String = (0..20_000).map(|n| format!("c{n},{n}\n")).collect();
    let text = format!("code,n\n{text}");
    let mapping =
        format!("[[table]]\nfile = \"a.csv\"\n{NODE}properties = {{ code = \"code\", n = \"n\" }}\n");
    let mapping = Mapping::parse(&mapping).unwrap();
    let mut refused = 0;
    for bound in [1 << 10, 100 << 10, 400 << 10, 1 << 20, 64 << 20] {
        let memory = LoadMemory::new(bound);
        let progress = Progress::within(memory.clone());
        match load(&mapping, &sources(&[("a.csv", &text)]), &before, LIMIT, &progress) {
            Ok(outcome) => {
                assert_eq!(outcome.account.nodes_created, 20_000);
                assert!(memory.held() > 0 && memory.held() <= bound, "{} of {bound}", memory.held());
            }
            Err(error) => {
                assert!(matches!(error, LoadError::Memory { alone: true, .. }), "{error}");
                refused += 1;
            }
        }
        drop(progress);
        assert_eq!(memory.held(), 0);
    }
    assert!((2..5).contains(&refused), "{refused}");
}

/// How often each value comes among the edges; those without one are -1.
fn values_of_edges(snapshot: &Snapshot) -> BTreeMap<i64, u64> {
    let mut counts = BTreeMap::new();
    for (_, _, w) in contents(snapshot).1 {
        *counts.entry(w.unwrap_or(-1)).or_default() += 1;
    }
    counts
}

/// Thousands of edges between the same two nodes: each row is compared with those that have its values, whether they
/// are of the graph or of rows before.
#[test]
fn many_edges_between_two_nodes_are_told_apart_by_their_values() {
    let nodes = "code,n,m\nc0,1,1\nc1,2,2\nc2,3,3\n";
    // Some values come once, some often; some rows have none.
    let value = |row: u64| match row % 11 {
        0 => -1,
        1 | 2 => (row % 7) as i64,
        _ => (row * 37 % 2000) as i64,
    };
    let table = |rows: std::ops::Range<u64>| {
        let cell = |v: i64| if v < 0 { String::new() } else { v.to_string() };
        rows.fold(String::from("from,to,w\n"), |text, row| text + &format!("c0,c1,{}\n", cell(value(row))))
    };
    let counted = |rows: std::ops::Range<u64>| {
        let mut counts: BTreeMap<i64, u64> = BTreeMap::new();
        rows.for_each(|row| *counts.entry(value(row)).or_default() += 1);
        counts
    };
    for same in ["identical-once", "one-per-row", "same-ends-once", "keep-parallel"] {
        let mapping = mapping(Policies { existing: "keep", same, missing: "reject" });
        let load = |rows: std::ops::Range<u64>, before: &Snapshot| {
            let outcome =
                loaded(&mapping, &[("nodes.csv", nodes), ("edges.csv", &table(rows.clone()))], before)
                    .unwrap();
            let account = counts(&outcome.account, 1);
            (published(before, outcome), account)
        };
        // The second load has the second half of the first and as much that is new.
        let (first, account) = load(0..3000, &graph());
        let (second, again) = load(1500..4500, &first);
        let expected = |known: BTreeMap<i64, u64>, rows: std::ops::Range<u64>| -> BTreeMap<i64, u64> {
            let mut after = known.clone();
            for (value, count) in counted(rows) {
                let now = after.entry(value).or_default();
                *now = match same {
                    "identical-once" => 1,
                    "one-per-row" => (*now).max(count),
                    _ => *now + count,
                };
            }
            after
        };
        if same == "same-ends-once" {
            assert_eq!(values_of_edges(&second).values().sum::<u64>(), 1, "{same}");
            continue;
        }
        let after_first = expected(BTreeMap::new(), 0..3000);
        assert_eq!(values_of_edges(&first), after_first, "{same}: first load");
        let after_second = expected(after_first.clone(), 1500..4500);
        assert_eq!(values_of_edges(&second), after_second, "{same}: second load");
        let made = |after: &BTreeMap<i64, u64>| after.values().sum::<u64>();
        assert_eq!(account.made, made(&after_first), "{same}");
        assert_eq!(again.made, made(&after_second) - made(&after_first), "{same}");
        assert_eq!(account.made + account.known, 3000, "{same}: {account:?}");
        assert_eq!(again.made + again.known, 3000, "{same}: {again:?}");
    }
}
