//! Keys and indexes against the same queries without any: whatever the changes, whatever was folded.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, prepare, prepare_by};
use graphodrome_graph::{
    Base, Created, Element, KeyDefinition, NewEdge, NewNode, Schema, Snapshot, Transaction, Value, label_set,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use proptest::prelude::*;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

type Rows = Vec<Vec<Value>>;

fn execute(snapshot: &Snapshot, text: &str) -> Result<(Rows, Snapshot), String> {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare(&query, text, snapshot, &none).map_err(|e| e.0[0].message.clone())?;
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().map_err(|e| e.message)? {
        rows.extend((0..batch.len).map(|row| batch.columns.iter().map(|c| c.get(row)).collect::<Vec<_>>()));
    }
    let made = execution.finish().map_err(|e| e.message)?;
    Ok((rows, made.map_or_else(|| snapshot.clone(), |(next, _)| next)))
}

fn rows(snapshot: &Snapshot, text: &str) -> Rows {
    let mut rows = execute(snapshot, text).unwrap().0;
    rows.sort_by(|a, b| {
        a.iter().zip(b).map(|(x, y)| x.order(y)).find(|o| o.is_ne()).unwrap_or(a.len().cmp(&b.len()))
    });
    rows
}

fn operators(snapshot: &Snapshot, text: &str) -> String {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let prepared = prepare(&query, text, snapshot, &Parameters::new()).unwrap();
    serde_json::to_string(&prepared.plan()).unwrap()
}

fn on(element: Element, label: &str, properties: &[&str]) -> Arc<KeyDefinition> {
    Arc::new(KeyDefinition {
        name: format!("{label}_{}", properties.join("_")).into(),
        element,
        label: label.into(),
        properties: properties.iter().map(|p| Arc::from(*p)).collect(),
    })
}

fn indexes() -> Vec<Arc<KeyDefinition>> {
    vec![
        on(Element::Node, "A", &["x"]),
        on(Element::Node, "A", &["y", "x"]),
        on(Element::Node, "B", &["t"]),
        on(Element::Edge, "R", &["w"]),
        on(Element::Edge, "R", &["v", "w"]),
    ]
}

fn under(snapshot: &Snapshot, keys: Vec<Arc<KeyDefinition>>, indexes: Vec<Arc<KeyDefinition>>) -> Snapshot {
    snapshot
        .with_schema(Schema::new(None, Created { keys, indexes, ..Created::default() }), &|| Ok(()))
        .unwrap()
}

fn folded(snapshot: &Snapshot) -> Snapshot {
    let base = Base::build(snapshot.fold(), &snapshot.schema()).unwrap();
    let mut next = Snapshot::new(Arc::new(base), snapshot.schema(), snapshot.version);
    let ids = snapshot.next_ids();
    next.reserve_ids(ids.0, ids.1);
    next
}

#[derive(Clone, Debug)]
enum Step {
    Node { label: &'static str, x: Option<i64>, y: i64 },
    Edge { from: i64, to: i64, w: Option<i64>, v: i64, directed: bool },
    Set { x: i64, new: Option<i64> },
    SetEdge { w: i64, new: i64 },
    Label { x: i64 },
    Delete { x: i64 },
    Fold,
}

fn step() -> impl Strategy<Value = Step> {
    let value = || prop::option::weighted(0.85, 0i64..8);
    prop_oneof![
        4 => (prop_oneof![Just("A"), Just("B")], value(), 0i64..3).prop_map(|(label, x, y)| Step::Node { label, x, y }),
        4 => (0i64..8, 0i64..8, value(), 0i64..3, any::<bool>())
            .prop_map(|(from, to, w, v, directed)| Step::Edge { from, to, w, v, directed }),
        2 => (0i64..8, value()).prop_map(|(x, new)| Step::Set { x, new }),
        1 => (0i64..8, 0i64..8).prop_map(|(w, new)| Step::SetEdge { w, new }),
        1 => (0i64..8).prop_map(|x| Step::Label { x }),
        1 => (0i64..8).prop_map(|x| Step::Delete { x }),
        1 => Just(Step::Fold),
    ]
}

fn shown(value: Option<i64>) -> String {
    value.map_or("NULL".into(), |v| v.to_string())
}

impl Step {
    fn text(&self) -> Option<String> {
        Some(match self {
            Step::Node { label, x, y } => {
                format!("INSERT (:{label} {{x: {}, y: {y}, t: 't{}'}})", shown(*x), shown(*x))
            }
            Step::Edge { from, to, w, v, directed } => {
                let edge = format!("[:R {{w: {}, v: {v}}}]", shown(*w));
                let edge = if *directed { format!("-{edge}->") } else { format!("~{edge}~") };
                format!("MATCH (a {{x: {from}}}), (b {{x: {to}}}) INSERT (a){edge}(b)")
            }
            Step::Set { x, new } => format!("MATCH (a {{x: {x}}}) SET a.x = {}", shown(*new)),
            Step::SetEdge { w, new } => format!("MATCH ()-[e:R {{w: {w}}}]-() SET e.w = {new}"),
            Step::Label { x } => format!("MATCH (a:A {{x: {x}}}) SET a:B"),
            Step::Delete { x } => format!("MATCH (a {{x: {x}}}) DETACH DELETE a"),
            Step::Fold => return None,
        })
    }
}

const QUESTIONS: &[&str] = &[
    "MATCH (a:A {x: 3}) RETURN a.y AS y, a.x AS x",
    "MATCH (a:A) WHERE a.x > 2 AND a.x <= 5 RETURN a.y AS y, a.x AS x",
    "MATCH (a:A) WHERE 2 > a.x RETURN a.y AS y, a.x AS x",
    "MATCH (a:A) WHERE a.x BETWEEN 1 AND 2 RETURN a.y AS y, a.x AS x",
    "MATCH (a:A {y: 1}) WHERE a.x >= 6 RETURN a.y AS y, a.x AS x",
    "MATCH (a:A {y: 1, x: 4}) RETURN a.x AS x",
    "MATCH (a:A&B {y: 0}) RETURN a.x AS x",
    "MATCH (b:B {t: 't5'}) RETURN b.x AS x",
    "MATCH (b:B) WHERE b.t >= 't6' RETURN b.x AS x, b.t AS t",
    "MATCH (a)-[e:R {w: 3}]->(b) RETURN a.x AS x, b.x AS y, e.v AS v",
    "MATCH (a)-[e:R {w: 3}]-(b:A) RETURN a.x AS x, b.x AS y, e.v AS v",
    "MATCH (a)<-[e:R {v: 1, w: 2}]-(b) RETURN a.x AS x, b.x AS y",
    "MATCH (a)~[e:R WHERE e.w < 2]~(b) RETURN a.x AS x, b.x AS y, e.w AS w",
    "MATCH (a:A)-[e:R WHERE e.w < 2]->(b)-[f:R]-(c) RETURN a.x AS x, b.x AS y, c.x AS z",
    "MATCH (a:A {x: 1}), (b:A) WHERE b.x = a.x + 1 RETURN a.y AS y, b.y AS z",
    "MATCH (a:A {x: 1}) OPTIONAL MATCH (b:B {t: 't' || '2'}) RETURN a.x AS x, b.x AS y",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(160))]

    #[test]
    fn an_index_changes_no_answer(steps in prop::collection::vec(step(), 1..40), late in any::<bool>()) {
        let mut snapshot = Snapshot::empty(None).unwrap();
        if !late {
            snapshot = under(&snapshot, vec![], indexes());
        }
        for step in &steps {
            snapshot = match step.text() {
                Some(text) => execute(&snapshot, &text).unwrap().1,
                None => folded(&snapshot),
            };
        }
        if late {
            snapshot = under(&snapshot, vec![], indexes());
        }
        let without = under(&snapshot, vec![], vec![]);
        for question in QUESTIONS {
            prop_assert_eq!(rows(&snapshot, question), rows(&without, question), "{}", question);
        }
    }

    #[test]
    fn an_upsert_is_what_a_map_would_do(
        rounds in prop::collection::vec((prop::collection::vec((0i64..6, 0i64..3, 0i64..100), 1..8), any::<bool>()), 1..6),
    ) {
        let keys = vec![on(Element::Node, "A", &["k", "l"]), on(Element::Edge, "R", &["k"])];
        let mut snapshot = under(&Snapshot::empty(None).unwrap(), keys, vec![]);
        snapshot = execute(&snapshot, "INSERT (:Hub {n: 0}), (:Hub {n: 1})").unwrap().1;
        let mut nodes: BTreeMap<(i64, i64), i64> = BTreeMap::new();
        let mut edges: BTreeMap<i64, i64> = BTreeMap::new();
        for (entries, fold) in rounds {
            // A statement gives each element one value.
            let mut latest: BTreeMap<(i64, i64), i64> = BTreeMap::new();
            let mut by_edge: BTreeMap<i64, i64> = BTreeMap::new();
            for (k, l, v) in &entries {
                let v = *by_edge.entry(*k).or_insert(*v);
                latest.insert((*k, *l), v);
            }
            let entries: Vec<_> = entries.iter().map(|(k, l, _)| (*k, *l, latest[&(*k, *l)])).collect();
            let list: Vec<String> =
                entries.iter().map(|(k, l, v)| format!("{{k: {k}, l: {l}, v: {v}}}")).collect();
            let list = list.join(", ");
            let text = format!("FOR e IN [{list}] UPSERT (a:A {{k: e.k, l: e.l}}) SET a.v = e.v");
            snapshot = execute(&snapshot, &text).unwrap().1;
            let text = format!(
                "MATCH (x:Hub {{n: 0}}), (y:Hub {{n: 1}}) FOR e IN [{list}] UPSERT (x)-[r:R {{k: e.k}}]->(y) SET r.v = e.v"
            );
            snapshot = execute(&snapshot, &text).unwrap().1;
            for (k, l, v) in entries {
                nodes.insert((k, l), v);
                edges.insert(k, v);
            }
            if fold {
                snapshot = folded(&snapshot);
            }
        }
        let int = Value::Int;
        let wanted: Rows = nodes.iter().map(|((k, l), v)| vec![int(*k), int(*l), int(*v)]).collect();
        prop_assert_eq!(rows(&snapshot, "MATCH (a:A) RETURN a.k AS k, a.l AS l, a.v AS v"), wanted);
        let wanted: Rows = edges.iter().map(|(k, v)| vec![int(*k), int(*v)]).collect();
        prop_assert_eq!(rows(&snapshot, "MATCH (:Hub {n: 0})-[r:R]->(:Hub {n: 1}) RETURN r.k AS k, r.v AS v"), wanted);
    }
}

fn network() -> Snapshot {
    let mut snapshot = Snapshot::empty(None).unwrap();
    let list: Vec<String> = (0..500).map(|i| i.to_string()).collect();
    let list = list.join(", ");
    for text in [
        format!("FOR i IN [{list}] INSERT (:A {{x: i, y: i - i / 10 * 10, t: 'n' || CAST(i AS STRING)}})"),
        format!(
            "MATCH (a:A {{x: 0}}) FOR i IN [{list}] MATCH (b:A {{x: i}}) INSERT (a)-[:R {{w: i, v: 1}}]->(b)"
        ),
    ] {
        snapshot = execute(&snapshot, &text).unwrap().1;
    }
    folded(&snapshot)
}

#[test]
fn the_planner_uses_a_key_or_an_index_as_soon_as_it_is_there() {
    let plain = network();
    let keys = vec![on(Element::Edge, "R", &["w"]), on(Element::Node, "A", &["t"])];
    let made = under(&plain, keys, vec![on(Element::Node, "A", &["x"]), on(Element::Edge, "R", &["v", "w"])]);
    for (text, operator) in [
        ("MATCH (a:A {t: 'n7'}) RETURN a.x AS x", "SeekKey"),
        ("MATCH (a:A) WHERE a.x < 5 RETURN a.x AS x", "SeekIndex"),
        ("MATCH (a:A) WHERE a.x BETWEEN 5 AND 9 RETURN a.x AS x", "SeekIndex"),
        ("MATCH (a)-[e:R {w: 12}]->(b) RETURN b.x AS x", "SeekEdges"),
        ("MATCH (a)-[e:R]->(b) WHERE e.v = 1 AND e.w > 495 RETURN b.x AS x", "SeekEdges"),
    ] {
        assert!(!operators(&plain, text).contains(operator), "{text}");
        assert!(operators(&made, text).contains(operator), "{text}: {}", operators(&made, text));
        assert_eq!(rows(&made, text), rows(&plain, text), "{text}");
    }
    // Most of the nodes: an index would only get in the way, and the plan says so.
    let most = operators(&made, "MATCH (a:A) WHERE a.x > 5 RETURN a.x AS x");
    assert!(
        !most.contains("SeekIndex") && most.contains("\"index A_x\"") && most.contains("it would find"),
        "{most}"
    );
    // Of edges it is still better than going through all nodes.
    let text = "MATCH (a)-[e:R]->(b) WHERE e.v = 1 AND e.w > 300 RETURN b.x AS x";
    assert!(operators(&made, text).contains("SeekEdges"), "{}", operators(&made, text));
    assert_eq!(rows(&made, text), rows(&plain, text));
}

#[test]
fn a_key_that_the_elements_break_is_refused_with_them() {
    let snapshot = network();
    let schema =
        Schema::new(None, Created { keys: vec![on(Element::Node, "A", &["y"])], ..Created::default() });
    let error = snapshot.with_schema(schema, &|| Ok(())).unwrap_err();
    assert_eq!(error.message, "there is already a node :A with y = 0");
    let hint = error.hint.unwrap();
    assert!(hint.starts_with("490 nodes :A with a key that already exists: y = 0; y = 1;"), "{hint}");
}

#[test]
fn an_upsert_says_what_it_needs() {
    let keys = vec![on(Element::Node, "A", &["k"]), on(Element::Edge, "R", &["k"])];
    let snapshot = under(&Snapshot::empty(None).unwrap(), keys, vec![]);
    let snapshot = execute(&snapshot, "INSERT (:A {k: 1})-[:R {k: 1}]->(:A {k: 2})").unwrap().1;
    for (text, message) in [
        ("UPSERT (b:B {k: 1})", "UPSERT finds a node by a key, and there is no key on :B"),
        ("UPSERT (a:A {k: 1, v: 2})", "UPSERT takes the properties of the key of :A: k"),
        ("UPSERT (a:A)", "UPSERT takes the properties of the key of :A: k"),
        ("UPSERT (a {k: 1})", "UPSERT finds a node by the key of its label"),
        ("UPSERT (a:A {k: NULL})", "the key property k is null; UPSERT finds by its value"),
        ("UPSERT (a:A&B {k: 1})", "the node with this key is :A, without the label B"),
        (
            "MATCH (a:A {k: 1}), (b:A {k: 2}) UPSERT (b)-[:R {k: 1}]->(a)",
            "the edge :R with this key connects other nodes",
        ),
        (
            "MATCH (a:A {k: 1}), (b:A {k: 2}) UPSERT (b)-[:S {k: 1}]->(a)",
            "UPSERT finds an edge by a key, and there is no key on :S",
        ),
        ("UPSERT (a:A {k: 3}) SET a.k = 1", "there is already a node :A with k = 1"),
    ] {
        assert_eq!(execute(&snapshot, text).map(|_| ()).unwrap_err(), message, "{text}");
    }
    let (found, after) = execute(&snapshot, "UPSERT (a:A {k: 2}) SET a.v = 5 RETURN a.v AS v").unwrap();
    assert_eq!(found, [[Value::Int(5)]]);
    assert_eq!(after.node_count(), 2);
}

/// The rows of a text under these rules, and its plan; an error by its code.
fn under_rules(snapshot: &Snapshot, text: &str, rules: Rules) -> (Result<Vec<String>, String>, String) {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = match prepare_by(&query, text, snapshot, &none, rules) {
        Ok(prepared) => prepared,
        Err(errors) => return (Err(errors.0[0].code.to_string()), String::new()),
    };
    let plan = serde_json::to_string(&prepared.plan()).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    let mut rows = vec![];
    loop {
        match execution.next_batch() {
            Ok(Some(batch)) => rows.extend((0..batch.len).map(|row| {
                batch.columns.iter().map(|c| c.get(row).to_string()).collect::<Vec<_>>().join(" ")
            })),
            Ok(None) => break,
            Err(error) => return (Err(error.code.to_string()), plan),
        }
    }
    rows.sort();
    (Ok(rows), plan)
}

/// Nodes with one label or several, whose numbers are keys of each label; some without a number, some with a text for it.
fn labelled(rng: &mut ChaCha8Rng, closed: bool) -> Snapshot {
    let graph_type = closed.then(|| {
        let text = "CREATE GRAPH TYPE t AS { (:A { x INT64, y INT64 }), (:B { x INT64, y INT64 }), (:A&C { x INT64, y INT64 }), (:D { y INT64 }), (:A|:B|:D)-[:R]->(:A|:B|:D) }";
        let Statement::CreateGraphType { definition, .. } = parse(text).unwrap().remove(0) else { panic!() };
        Arc::new(*definition)
    });
    let mut transaction = Transaction::new(Snapshot::empty(graph_type).unwrap());
    let mut made = vec![];
    for i in 0..12i64 {
        let labels = match rng.random_range(0..4) {
            0 => label_set(["A"]),
            1 => label_set(["B"]),
            2 => label_set(["A", "C"]),
            _ => label_set(["D"]),
        };
        let mut properties = vec![("y".into(), Value::Int(rng.random_range(0..6)))];
        let has_number = !labels.iter().any(|l| &**l == "D") && rng.random_bool(0.9);
        if has_number {
            // Nodes of A and B may have the same number; those of A and C may not.
            let number = if labels.iter().any(|l| &**l == "B") { i * 5 % 12 } else { i };
            properties.push(("x".into(), Value::Int(number)));
        }
        let node = NewNode { labels, properties };
        let before = transaction.snapshot().clone();
        match transaction.insert_node(node) {
            Ok(node) => made.push(node),
            Err(_) => transaction = Transaction::new(before),
        }
        if rng.random_bool(0.3) {
            transaction = Transaction::new(transaction.finish().unwrap().0);
        }
    }
    for _ in 0..14 {
        let end = |rng: &mut ChaCha8Rng| made[rng.random_range(0..made.len())];
        let (source, target) = (end(rng), end(rng));
        let edge = NewEdge { labels: label_set(["R"]), properties: vec![], directed: true, source, target };
        transaction.insert_edge(edge).unwrap();
    }
    let made = transaction.finish().unwrap().0;
    let keys = ["A", "B", "C"].map(|label| on(Element::Node, label, &["x"]));
    let schema = |made: &Snapshot| {
        Schema::new(made.graph_type.clone(), Created { keys: keys.to_vec(), ..Default::default() })
    };
    Snapshot::new(Arc::new(Base::build(made.fold(), &schema(&made)).unwrap()), schema(&made), made.version)
}

/// Nodes without a label, or of one of several, found by several keys: the rows of the scan, however the text goes on.
#[test]
fn several_keys_find_what_a_scan_finds() {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let (mut by_keys, mut full) = (0, 0);
    for case in 0..600 {
        let closed = rng.random_bool(0.5);
        let snapshot = labelled(&mut rng, closed);
        let label =
            ["", ":A|B", ":A|C", ":B|A|C", ":(A&C)|B", ":A|D", ":!D", ":A"][rng.random_range(0..8usize)];
        let x = rng.random_range(0..12);
        let text = match rng.random_range(0..7) {
            0 => format!("MATCH (n{label} {{x: {x}}}) RETURN n"),
            1 => format!("MATCH (n{label} WHERE n.x = {x} AND n.y > 1)-[:R]->(m) RETURN n, m"),
            2 => format!("FOR v IN [0, 1, 2, 3, 4, 5] MATCH (n{label} WHERE n.x = v) RETURN v, n"),
            3 => format!("MATCH (m:D) MATCH (n{label} WHERE n.x = m.y) RETURN m, n"),
            4 => format!("MATCH (n{label} {{x: {x}}})-[:R]->{{1,3}}(m) RETURN DISTINCT m"),
            5 => format!(
                "MATCH p = ANY SHORTEST (n{label} {{x: {x}}})-[:R]->+(m{label} {{x: 1}}) RETURN PATH_LENGTH(p) AS l"
            ),
            _ => format!("MATCH (n{label} {{x: 'a'}}) RETURN n"),
        };
        let (plain, _) = under_rules(&snapshot, &text, Rules::none());
        full += plain.as_ref().is_ok_and(|rows| !rows.is_empty()) as u32;
        let alone = Rules::none().with(Rule::KeyLookup).with(Rule::SeveralKeys);
        for rules in [Rules::all(), Rules::all().without(Rule::SeveralKeys), alone] {
            let (rows, plan) = under_rules(&snapshot, &text, rules);
            by_keys += plan.contains("A_x or B_x") as u32 + plan.contains("B_x or A_x") as u32;
            assert_eq!(rows, plain, "case {case}, closed: {closed}\n{text}\n{plan}");
        }
    }
    assert!(by_keys > 150 && full > 150, "{by_keys} by several keys, {full} with rows");
}
