//! A query on several threads gives what it gives on one: the same rows in the same order, the same sums to
//! the last bit, the same work, the same error.

#![allow(clippy::unwrap_used)]

use std::time::Duration;

use graphodrome_engine::{CancelToken, Code, Limits, Parameters, PlanTree, prepare};
use graphodrome_graph::{Base, NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

const NODES: u32 = 1500;

/// Every node has edges to about eight others, most of them to the first few.
fn graph() -> Snapshot {
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let ids: Vec<u32> = (0..NODES)
        .map(|x| {
            let properties = vec![("x".into(), Value::Int(x.into()))];
            transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
        })
        .collect();
    for _ in 0..8 * NODES {
        let mut end = || {
            let far = random.random_range(0..NODES);
            ids[random.random_range(0..=far) as usize]
        };
        let (source, target) = (end(), end());
        let properties = vec![("w".into(), Value::Float(random.random::<f64>()))];
        let labels = label_set(["R"]);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    }
    let (made, _) = transaction.finish().unwrap();
    let base = Base::build(made.fold(), &Default::default()).unwrap();
    Snapshot::new(base.into(), Default::default(), made.version)
}

/// All rows, and the profile.
fn run(snapshot: &Snapshot, text: &str, limits: Limits) -> Result<(Vec<String>, PlanTree), Diagnostic> {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let prepared = prepare(&query, text, snapshot, &Parameters::new()).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &Parameters::new(), limits);
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch()? {
        for row in 0..batch.len {
            let cells: Vec<String> = batch.columns.iter().map(|c| c.get(row).to_string()).collect();
            rows.push(cells.join(" | "));
        }
    }
    Ok((rows, execution.profile()))
}

fn spread(after: Duration) -> Limits {
    Limits { spread_after: after, ..Limits::default() }
}

/// Operators from the root down with rows and work, and whether several threads ran.
fn work(profile: &PlanTree) -> (Vec<String>, bool) {
    let all = profile.walk();
    let threads = all.iter().any(|(_, o)| o.actual.iter().any(|a| !a.notes.is_empty()));
    let figures = all.iter().map(|(_, o)| {
        let a = o.actual.as_ref().unwrap();
        format!("{}: {} {} {:?}", o.operator, a.rows_in, a.rows_out, a.counters)
    });
    (figures.collect(), threads)
}

#[test]
fn several_threads_give_the_rows_the_sums_and_the_work_of_one() {
    let snapshot = graph();
    let several = std::thread::available_parallelism().is_ok_and(|n| n.get() > 1);
    for text in [
        "MATCH (a:A)-[:R]->(b:A)-[:R]->(c:A)-[:R]->(a) RETURN COUNT(*) AS n",
        "MATCH (a:A)-[:R]->(b:A)-[:R]->(c:A)-[:R]->(a) RETURN a.x AS x, COUNT(*) AS n",
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN SUM(e.w * f.w) AS s, AVG(e.w) AS m",
        "MATCH (a:A)-[e:R]->(b:A)-[f:R WHERE f.w < 0.1]->(c:A) RETURN a.x AS x, COLLECT_LIST(c.x) AS l",
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) WHERE f.w < 0.05 RETURN a.x AS x, b.x AS y, c.x AS z",
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN DISTINCT c.x AS x ORDER BY x DESC LIMIT 7",
        "MATCH (a:A) WHERE EXISTS { (a)-[e:R]->()-[f:R]->(a) } RETURN COUNT(*) AS n",
        "MATCH (a:A WHERE a.x < 200), (b:A WHERE b.x < 40), p = ANY SHORTEST (a)-[:R]->+(b) RETURN a.x AS x, b.x AS y, PATH_LENGTH(p) AS n",
        "MATCH (a:A)-[:R]->{1,2}(b:A) RETURN COUNT(*) AS n",
        // What is the same for all rows is asked once, whatever the number of threads.
        "MATCH (a:A)-[:R]->(b:A)-[:R]->(c:A) WHERE c.x > VALUE { MATCH (x:A) RETURN AVG(x.x) } RETURN COUNT(*) AS n",
    ] {
        let (one, profile) = run(&snapshot, text, spread(Duration::MAX)).unwrap();
        let (figures, threads) = work(&profile);
        assert!(!threads, "{text}");
        for _ in 0..3 {
            let (many, profile) = run(&snapshot, text, spread(Duration::ZERO)).unwrap();
            assert_eq!(one, many, "{text}");
            let (same, threads) = work(&profile);
            assert_eq!(figures, same, "{text}");
            assert_eq!(threads, several, "{text}");
        }
    }
}

#[test]
fn a_limit_takes_the_first_rows_of_several_threads() {
    let snapshot = graph();
    let text = "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN a.x AS x, b.x AS y, c.x AS z LIMIT 5000";
    let (one, _) = run(&snapshot, text, spread(Duration::MAX)).unwrap();
    let (many, _) = run(&snapshot, text, spread(Duration::ZERO)).unwrap();
    assert_eq!(one.len(), 5000);
    assert_eq!(one, many);
}

#[test]
fn errors_and_bounds_stop_several_threads() {
    let snapshot = graph();
    let dividing = "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) WHERE 1 / (c.x - 700) > 2 RETURN COUNT(*) AS n";
    let one = run(&snapshot, dividing, spread(Duration::MAX)).unwrap_err();
    let many = run(&snapshot, dividing, spread(Duration::ZERO)).unwrap_err();
    assert_eq!((one.code, &one.message, one.span), (many.code, &many.message, many.span));

    let long = "MATCH (a:A)-[:R]->(b:A)-[:R]->(c:A)-[:R]->(d:A)-[:R]->(e:A) RETURN SUM(a.x + e.x) AS n";
    let cancel = CancelToken::default();
    cancel.cancel();
    let limits = Limits { cancel, ..spread(Duration::ZERO) };
    assert_eq!(run(&snapshot, long, limits).unwrap_err().code, Code::CANCELLED);
    let limits = Limits { time: Some(Duration::from_millis(30)), ..spread(Duration::ZERO) };
    assert_eq!(run(&snapshot, long, limits).unwrap_err().code, Code::TIME_LIMIT);

    let paths = "MATCH p = (a:A)-[:R]->{1,3}(b:A) RETURN COLLECT_LIST(p) AS l";
    let limits = Limits { memory_bytes: 1 << 20, ..spread(Duration::ZERO) };
    assert_eq!(run(&snapshot, paths, limits).unwrap_err().code, Code::MEMORY_LIMIT);
}
