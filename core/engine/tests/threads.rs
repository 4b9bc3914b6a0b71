//! Queries on several threads: the same rows in the same order, the same sums to the last bit, the same work and
//! the same errors as on one.

#![allow(clippy::unwrap_used)]

use std::time::Duration;

use graphodrome_engine::{CancelToken, Code, Limits, Parameters, PlanTree, Rule, Rules, prepare_by};
use graphodrome_graph::{Base, Decimal, NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
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
            // Equal numbers are of several types.
            let k = match x % 3 {
                0 => Value::Int((x % 5).into()),
                1 => Value::Float((x % 5).into()),
                _ => Value::Decimal(Decimal::of(i128::from(x % 5) * 100, 2).unwrap()),
            };
            let properties = vec![
                ("x".into(), Value::Int(x.into())),
                ("k".into(), k),
                ("t".into(), Value::Text(format!("kind {}", x % 11).into())),
            ];
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
    run_by(snapshot, text, limits, Rules::all())
}

fn run_by(
    snapshot: &Snapshot, text: &str, limits: Limits, rules: Rules,
) -> Result<(Vec<String>, PlanTree), Diagnostic> {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let prepared = prepare_by(&query, text, snapshot, &Parameters::new(), rules).unwrap();
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
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN f.w AS w, c.t AS t, a.x AS x ORDER BY w, t DESC, x LIMIT 20",
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN c.t AS t, COUNT(DISTINCT a) AS n, PERCENTILE_CONT(f.w, 0.3) AS w",
        "MATCH (a:A) WHERE EXISTS { (a)-[e:R]->()-[f:R]->(a) } RETURN COUNT(*) AS n",
        "MATCH (a:A WHERE a.x < 200), (b:A WHERE b.x < 40), p = ANY SHORTEST (a)-[:R]->+(b) RETURN a.x AS x, b.x AS y, PATH_LENGTH(p) AS n",
        // Which of equal ones is found does not depend on the threads.
        "MATCH (a:A WHERE a.x < 200), (b:A WHERE b.x < 40), p = ANY SHORTEST (a)-[:R]->+(b) RETURN EDGES(p) AS e",
        "MATCH (a:A WHERE a.x < 60), (b:A WHERE b.x < 30), p = SHORTEST 3 ACYCLIC (a)-[:R]->+(b) RETURN EDGES(p) AS e",
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

/// Groups of parts of the rows, put together, are the groups of all rows: in their order, with the same keys and the same
/// values to the last bit, whatever rows come to which thread.
#[test]
fn groups_of_parts_are_the_groups_of_all_rows() {
    let snapshot = graph();
    let keys =
        ["", "a.k AS key, ", "c.t AS key, ", "b AS key, ", "a.k + 0 AS key, ", "a.t AS one, c.k AS two, "];
    let values = [
        "COUNT(*) AS n, SUM(f.w) AS s, AVG(e.w * f.w) AS m, MIN(c.k) AS least, MAX(b.k) AS most",
        "COUNT(DISTINCT c) AS n, COUNT(DISTINCT c.k) AS d, SUM(c.k) AS s, MAX(DISTINCT a.t) AS t",
        "PERCENTILE_CONT(f.w, 0.5) AS m, PERCENTILE_DISC(c.k, 0.5) AS d, COUNT(c.y) AS none, SUM(c.y) AS nothing",
        "SUM(e.w - f.w) AS s, SUM(1e300 * e.w) AS large, MIN(e.w) AS least, COUNT(f) AS n",
    ];
    let off = Rules::all().without(Rule::GroupParts);
    for (key, value) in keys.iter().flat_map(|key| values.iter().map(move |value| (key, value))) {
        let text = format!("MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN {key}{value}");
        let (plain, _) = run_by(&snapshot, &text, spread(Duration::MAX), off).unwrap();
        let (one, profile) = run(&snapshot, &text, spread(Duration::MAX)).unwrap();
        assert!(profile.walk().iter().any(|(_, o)| o.operator == "GroupParts"), "{text}");
        assert_eq!(plain, one, "{text}");
        for _ in 0..3 {
            let (many, again) = run(&snapshot, &text, spread(Duration::ZERO)).unwrap();
            assert_eq!(plain, many, "{text}");
            assert_eq!(work(&profile).0, work(&again).0, "{text}");
        }
    }
    for text in [
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN SUM(a.t) AS n",
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN SUM(1e308 + e.w * 1e308) AS n",
        "MATCH (a:A)-[e:R]->(b:A)-[f:R]->(c:A) RETURN c.k AS k, MIN(CASE WHEN a.x = 900 THEN 'x' ELSE 1 END) AS n",
    ] {
        let plain = run_by(&snapshot, text, spread(Duration::MAX), off).unwrap_err();
        for after in [Duration::MAX, Duration::ZERO] {
            let error = run(&snapshot, text, spread(after)).unwrap_err();
            assert_eq!((plain.code, plain.span), (error.code, error.span), "{text}");
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

/// What runs on all threads by itself, below operators that are shared out: a thread that waits for the others while they wait for
/// what it holds would wait for ever.
#[test]
fn what_uses_all_threads_runs_below_what_is_shared_out() {
    let snapshot = graph();
    let ends = "MATCH (a:A)-[:R]->(b:A)-[:R]->(c:A) RETURN DISTINCT c AS a";
    let last = "MATCH (a)-[:R]->(e)-[:R]->(g) RETURN SUM(e.x * g.x) AS s, COUNT(*) AS n";
    let text = format!("MATCH (a:A) RETURN a UNION ALL {ends} NEXT {last}");
    let (one, _) = run(&snapshot, &text, spread(Duration::MAX)).unwrap();
    let (many, profile) = run(&snapshot, &text, spread(Duration::ZERO)).unwrap();
    assert_eq!(one, many);
    let has = |name: &str| profile.walk().iter().any(|(_, o)| o.operator == name);
    let operators: Vec<_> = profile.walk().iter().map(|(_, o)| o.operator.to_string()).collect();
    assert!(has("MergeEnds") && has("ShareOut"), "{operators:?}");
}
