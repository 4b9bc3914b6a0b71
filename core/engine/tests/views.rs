//! Views: a measure over a view equals the measure over the same nodes, edges and weights; a view follows its
//! graph, and its subgraph is cached for each version.

#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use graphodrome_engine::{Limits, Parameters, Rules, check_view, prepare_by, procedures};
use graphodrome_graph::{
    Created, NewEdge, NewNode, Schema, Snapshot, Transaction, Value, ViewDefinition, label_set,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::{Span, Takes, parse};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

fn view(name: &str, nodes: Option<&str>, edges: Option<&str>, weight: Option<&str>) -> Arc<ViewDefinition> {
    let text = |text: Option<&str>| text.map(Arc::from);
    Arc::new(ViewDefinition {
        name: name.into(),
        nodes: text(nodes),
        edges: text(edges),
        weight: text(weight),
    })
}

const NODES: &str = "(n:A WHERE n.x > 3)";
const EDGES: &str = "-[e:R WHERE e.w < 8]->";

fn views() -> Vec<Arc<ViewDefinition>> {
    vec![
        view("some", Some(NODES), Some(EDGES), None),
        view("weighed", None, Some("-[:R]-"), Some("w")),
        view("nodes only", Some("(:A|B)"), None, None),
    ]
}

fn graph(seed: u64) -> Snapshot {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let created = Created { views: views(), ..Created::default() };
    let mut transaction = Transaction::new(Snapshot::empty_with(Schema::new(None, created)).unwrap());
    let mut ids = vec![];
    for x in 0..12 {
        let labels = label_set([["A", "B", "C"][random.random_range(0..3)]]);
        let properties = vec![("x".into(), Value::Int(x))];
        ids.push(transaction.insert_node(NewNode { labels, properties }).unwrap());
    }
    for _ in 0..30 {
        let (source, target) = (ids[random.random_range(0..12)], ids[random.random_range(0..12)]);
        let properties = vec![("w".into(), Value::Int(random.random_range(0..12)))];
        let labels = label_set([["R", "S"][random.random_range(0..2)]]);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    }
    transaction.finish().unwrap().0
}

/// The rows, or what is wrong; and the notes of the call.
fn run(snapshot: &Arc<Snapshot>, text: &str) -> (Result<Vec<String>, String>, Vec<String>) {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let prepared = match prepare_by(&query, text, snapshot, &Parameters::new(), Rules::all()) {
        Ok(prepared) => prepared,
        Err(error) => return (Err(error.0[0].message.clone()), vec![]),
    };
    let mut execution = prepared.run(snapshot.clone(), &Parameters::new(), Limits::default());
    let mut rows = vec![];
    loop {
        match execution.next_batch() {
            Ok(Some(batch)) => rows.extend((0..batch.len).map(|row| {
                let cells: Vec<String> = batch.columns.iter().map(|c| c.get(row).to_string()).collect();
                cells.join(" | ")
            })),
            Ok(None) => break,
            Err(error) => {
                return (Err(format!("{} {}", error.message, error.hint.unwrap_or_default())), vec![]);
            }
        }
    }
    let profile = execution.profile();
    let ran = profile.walk().into_iter().filter_map(|(_, o)| o.actual.clone());
    (Ok(rows), ran.flat_map(|a| a.notes).collect())
}

#[test]
fn a_view_is_what_it_says_to_every_measure() {
    for seed in 0..8 {
        let snapshot = Arc::new(graph(seed));
        for procedure in procedures().iter() {
            let needed = procedure.arguments.iter().filter(|a| a.usual.is_none());
            let needed: String = needed
                .map(|a| match a.takes {
                    Takes::Nodes => format!(", {}: [a]", a.name),
                    Takes::Node if a.name == "target" => format!(", {}: b", a.name),
                    Takes::Node => format!(", {}: a", a.name),
                    Takes::Text => format!(", {}: 'w'", a.name),
                    other => panic!("{} of {} takes {other:?}", a.name, procedure.name),
                })
                .collect();
            let weights = procedure.argument("weight").is_some();
            let capacity = procedure.argument("capacity").is_some() && !needed.contains("capacity");
            let ends = "MATCH (a {x: 5}), (b {x: 7}) ";
            let call = |part: &str| format!("{ends}CALL {}({{{part}{needed}}}) RETURN *", procedure.name);
            let weight = match (weights, capacity) {
                (true, _) => ", weight: 'w'",
                (_, true) => ", capacity: 'w'",
                _ => "",
            };
            for (by_view, by_parts) in [
                ("view: 'some'", format!("nodes: '{NODES}', edges: '{EDGES}'")),
                ("view: 'weighed'", format!("edges: '-[:R]-'{weight}")),
                ("view: 'nodes only'", "nodes: '(:A|B)'".to_string()),
            ] {
                let (view, _) = run(&snapshot, &call(by_view));
                let (parts, _) = run(&snapshot, &call(&by_parts));
                assert_eq!(view, parts, "{} over {by_view}, graph {seed}", procedure.name);
            }
        }
    }
}

#[test]
fn what_was_read_for_a_version_is_kept_for_it() {
    let kept = |notes: &[String]| notes.iter().any(|note| note.contains("kept from before"));
    let snapshot = Arc::new(graph(1));
    let text = "CALL degree({view: 'some'}) YIELD node, degree RETURN COUNT(*) AS n, SUM(degree) AS d";
    let (first, notes) = run(&snapshot, text);
    assert!(!kept(&notes), "{notes:?}");
    let (second, notes) = run(&snapshot, text);
    assert!(kept(&notes), "{notes:?}");
    assert_eq!(first, second);
    // Another measure reads the same part; the same part without a name is read anew.
    let (_, notes) = run(&snapshot, "CALL page_rank({view: 'some'}) YIELD node RETURN COUNT(*) AS n");
    assert!(kept(&notes), "{notes:?}");
    let unnamed =
        format!("CALL degree({{nodes: '{NODES}', edges: '{EDGES}'}}) YIELD node RETURN COUNT(*) AS n");
    (0..2).for_each(|_| assert!(!kept(&run(&snapshot, &unnamed).1)));
    // The view follows its graph.
    let mut transaction = Transaction::new((*snapshot).clone());
    let properties = vec![("x".into(), Value::Int(100))];
    transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap();
    let next = Arc::new(transaction.finish().unwrap().0);
    let count = |rows: &Result<Vec<String>, String>| {
        rows.as_ref().unwrap()[0].split(" | ").next().unwrap().parse::<u32>().unwrap()
    };
    let (after, notes) = run(&next, text);
    assert!(!kept(&notes), "{notes:?}");
    assert_eq!(count(&after), count(&first) + 1);
    // The earlier version has its own.
    let (again, notes) = run(&snapshot, text);
    assert!(kept(&notes), "{notes:?}");
    assert_eq!(again, first);
}

#[test]
fn what_is_wrong_with_a_view_is_said() {
    let snapshot = Arc::new(graph(2));
    for (arguments, said) in [
        ("view: 'sme'", "there is no view sme did you mean some?"),
        ("view: 'other'", "there is no view other there is some, weighed, nodes only"),
        ("view: 'some', nodes: '(:A)'", "the view some says which nodes and edges are looked at"),
        ("view: 3", "view of degree must be a STRING"),
    ] {
        let (rows, _) = run(&snapshot, &format!("CALL degree({{{arguments}}}) YIELD node RETURN node"));
        let error = rows.unwrap_err();
        assert!(error.contains(said), "{arguments}: {error}");
    }
    let wrong = |nodes, edges, weight| {
        check_view(&snapshot, &view("v", nodes, edges, weight), Span::default()).unwrap_err().message
    };
    assert!(wrong(Some("(n:A)-[:R]->(m)"), None, None).contains("nodes is '(n:A)-[:R]->(m)'"));
    assert!(wrong(Some("(n WHERE n.x > y)"), None, None).contains("no variable y"));
    assert!(wrong(None, Some("-[:R]->{2}"), None).contains("edges is"));
    assert!(wrong(None, None, Some("ww")).contains("there is no property ww"));
    for view in views() {
        let text = view.to_string();
        let Statement::CreateView(read) = parse(&text).unwrap().remove(0) else { panic!("{text}") };
        let of = |name: Option<graphodrome_language::ast::Name>| name.map(|n| n.text);
        assert_eq!(of(Some(read.name)), Some(view.name.clone()), "{text}");
        assert_eq!(
            (of(read.nodes), of(read.edges), of(read.weight)),
            (view.nodes.clone(), view.edges.clone(), view.weight.clone())
        );
    }
}
