//! Limits: texts and values that grow without end are refused with a sentence, whatever they are made of, and
//! long loops end with their time. Everything runs on the small stack of a test's thread.

#![allow(clippy::unwrap_used)]

use std::time::{Duration, Instant};

use graphodrome_engine::{CancelToken, Code, Limits, MemoryPool, Parameters, prepare};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;

fn run_with(snapshot: &Snapshot, text: &str, limits: Limits) -> Result<(usize, Snapshot), String> {
    let first = |e: graphodrome_language::Diagnostics| format!("{} {}", e.0[0].code, e.0[0].message);
    let statements = parse(text).map_err(first)?;
    let Some(Statement::Query(query)) = statements.into_iter().next() else { return Err("no query".into()) };
    let none = Parameters::new();
    let prepared = prepare(&query, text, snapshot, &none).map_err(first)?;
    let mut execution = prepared.run(snapshot.clone(), &none, limits);
    let mut rows = 0;
    let failed = |d: graphodrome_language::Diagnostic| format!("{} {}", d.code, d.message);
    while let Some(batch) = execution.next_batch().map_err(failed)? {
        rows += batch.len;
    }
    let after = execution.finish().map_err(failed)?.map_or_else(|| snapshot.clone(), |(after, _)| after);
    Ok((rows, after))
}

fn run(text: &str, limits: Limits) -> Result<usize, String> {
    run_with(&Snapshot::empty(None).unwrap(), text, limits).map(|(rows, _)| rows)
}

/// Bytes that a query of these tests may hold.
const SMALL: u64 = 64 << 20;

fn small() -> Limits {
    Limits { memory_bytes: SMALL, time: Some(Duration::from_secs(20)), ..Limits::default() }
}

#[test]
fn texts_nest_up_to_a_depth_whatever_they_nest() {
    let many = |unit: &str, n: usize| unit.repeat(n);
    let chain_in_parentheses = {
        let mut text = "a.id".to_string();
        for _ in 0..190 {
            text = format!("({text}){}", " + a.id".repeat(999));
        }
        format!("MATCH (a) RETURN {text} AS s")
    };
    let brackets = format!("RETURN {}1{} AS x", many("[", 100_000), many("]", 100_000));
    let parentheses = format!("RETURN {}1{} AS x", many("(", 100_000), many(")", 100_000));
    let cases = format!("RETURN {}1{} AS x", many("CASE WHEN TRUE THEN ", 50_000), many(" END", 50_000));
    let texts = [
        chain_in_parentheses,
        brackets,
        parentheses,
        cases,
        format!("MATCH (n:A{}) RETURN n", many("|A", 1_000_000)),
        format!("MATCH (n:{}A) RETURN n", many("!", 100_000)),
        format!("MATCH (n:{}A{}) RETURN n", many("(", 100_000), many(")", 100_000)),
        format!("RETURN CAST([] AS INT{}) AS x", many(" LIST", 100_000)),
        format!("RETURN CAST([] AS {}INT{}) AS x", many("LIST<", 100_000), many(">", 100_000)),
        format!("RETURN TRUE{} AS x", many(" XOR TRUE", 100_000)),
        format!("RETURN 1{} AS x", many(" < 2", 100_000)),
        format!("RETURN {}TRUE AS x", many("NOT ", 100_000)),
        format!("RETURN {}1 AS x", many("- ", 100_000)),
        format!("RETURN {{}}{} AS x", many(".a", 100_000)),
        format!("RETURN []{} AS x", many("[0]", 100_000)),
        format!("MATCH {}(a)-[]->(b){} RETURN a", many("(", 50_000), many("){1,2}", 50_000)),
        format!("MATCH (){} RETURN 1 AS x", many("-[]->()", 100_000)),
        format!("MATCH (a){} RETURN 1 AS x", many(", (a)-[]->()", 100_000)),
        format!("MATCH ()-/ A{} /->() RETURN 1 AS x", many(" | A*", 100_000)),
        format!("RETURN {}1 AS a{} AS x", many("VALUE { RETURN ", 20_000), many(" }", 20_000)),
        format!("{}RETURN 1 AS x", many("FOR x IN [1] ", 100_000)),
        format!("RETURN 1 AS x{}", many(" UNION RETURN 1 AS x", 100_000)),
        format!("RETURN 1 AS x{}", many(" NEXT RETURN x", 100_000)),
    ];
    for text in texts {
        let start = Instant::now();
        let error = run(&text, small()).expect_err(&text[..60]);
        assert!(error.starts_with("42001 "), "{}: {}", &text[..60], &error[..error.len().min(200)]);
        // A bound far above what it takes, so that it only fails where the time grows with the square.
        assert!(start.elapsed() < Duration::from_secs(20), "{}: {:?}", &text[..60], start.elapsed());
    }
}

#[test]
fn what_is_just_allowed_runs() {
    let hops = format!("MATCH (){} RETURN COUNT(*) AS n", "-[]->()".repeat(249));
    let arms = format!("MATCH (a){} RETURN COUNT(*) AS n", ", (a)-[]->()".repeat(160));
    let labels = format!("MATCH ()-/ A{} /->() RETURN COUNT(*) AS n", " | A*".repeat(150));
    for text in [
        hops,
        arms,
        labels,
        format!("{}RETURN x0 AS x", (0..490).map(|i| format!("FOR x{i} IN [1] ")).collect::<String>()),
        format!("RETURN 1{} AS x", " + 1".repeat(990)),
        format!("RETURN {}1{} AS x", "(".repeat(150), " + 1)".repeat(150)),
        format!("RETURN {}1{} AS x", "[".repeat(120), "]".repeat(120)),
        format!("RETURN 1 AS x{}", " UNION RETURN 1 AS x".repeat(200)),
    ] {
        let came = run(&text, small());
        assert_eq!(came, Ok(1), "{}", &text[..50]);
    }
}

#[test]
fn values_that_double_end_with_the_budget() {
    let doubling = |start: &str, step: &str| {
        let lets: String =
            (1..60).map(|i| format!("LET x{i} = {} ", step.replace('?', &format!("x{}", i - 1)))).collect();
        format!("LET x0 = {start} {lets}")
    };
    for (text, code) in [
        (doubling("'abcdefgh'", "? || ?"), Code::MEMORY_LIMIT),
        (doubling("[1]", "? || ?"), Code::MEMORY_LIMIT),
        (doubling("[1]", "[?, ?]"), Code::MEMORY_LIMIT),
        (doubling("{a: 1}", "{a: ?, b: ?}"), Code::MEMORY_LIMIT),
        (
            format!(
                "{}RETURN x199 AS x",
                (1..200).fold("LET x0 = [1] ".to_string(), |t, i| format!("{t}LET x{i} = [x{}] ", i - 1))
            ),
            "22000",
        ),
        (
            "FOR i IN [1, 2, 3, 4, 5, 6, 7, 8] LET x0 = 'a'".to_string()
                + &doubling("'b'", "? || ?").replace("LET x0 = 'b'", ""),
            Code::MEMORY_LIMIT,
        ),
    ] {
        let text = if text.contains("RETURN") { text } else { format!("{text} RETURN 1 AS n") };
        let error = run(&text, small()).expect_err(&text);
        assert!(error.starts_with(code), "{text}: {error}");
    }
}

/// A list literal of so many numbers.
fn numbers(n: usize) -> String {
    let items: Vec<String> = (0..n).map(|i| i.to_string()).collect();
    format!("[{}]", items.join(", "))
}

#[test]
fn lists_of_rows_are_accounted_for() {
    let product = format!("LET l = {} FOR a IN l FOR b IN l", numbers(2000));
    for (text, least) in [
        (format!("{product} RETURN SIZE(COLLECT_LIST(a)) AS n"), Code::MEMORY_LIMIT),
        (format!("{product} RETURN a, b, COUNT(*) AS n"), Code::MEMORY_LIMIT),
        (format!("{product} RETURN DISTINCT a, b"), Code::MEMORY_LIMIT),
        (format!("{product} RETURN a, b ORDER BY b, a"), Code::MEMORY_LIMIT),
    ] {
        let error = run(&text, small()).expect_err(&text[text.len() - 50..]);
        assert!(error.starts_with(least), "{error}");
    }
    assert_eq!(run(&format!("{product} RETURN COUNT(*) AS n"), small()), Ok(1));
}

#[test]
fn long_loops_end_with_their_time_and_when_they_are_cancelled() {
    let texts = [
        format!("LET t = '{}' RETURN t LIKE '%{}_b' AS x", "a".repeat(400_000), "a".repeat(200_000)),
        format!("LET l = {0} FOR a IN l FOR b IN l FOR c IN l RETURN COUNT(*) AS n", numbers(2000)),
        format!(
            "LET l = {0} FOR a IN l RETURN COUNT(*) AS n, SUM(CASE WHEN -1 IN l THEN 1 ELSE 0 END) AS m",
            numbers(20_000)
        ),
    ];
    for text in &texts {
        let limits =
            Limits { time: Some(Duration::from_millis(100)), memory_bytes: 1 << 30, ..Limits::default() };
        let start = Instant::now();
        let error = run(text, limits).expect_err("a time limit");
        assert!(error.starts_with(Code::TIME_LIMIT), "{error}");
        assert!(start.elapsed() < Duration::from_secs(10), "{:?}", start.elapsed());
    }
    for text in &texts {
        let cancel = CancelToken::default();
        let (token, (sender, receiver)) = (cancel.clone(), std::sync::mpsc::channel::<()>());
        let canceller = std::thread::spawn(move || {
            // Once the query has begun; how far it is does not matter.
            let _ = receiver.recv();
            token.cancel();
        });
        sender.send(()).unwrap();
        let limits = Limits { cancel, memory_bytes: 1 << 30, ..Limits::default() };
        let error = run(text, limits).expect_err("cancelled");
        assert!(error.starts_with(Code::CANCELLED), "{error}");
        canceller.join().unwrap();
    }
}

#[test]
fn stored_values_have_a_depth() {
    let mut snapshot = run_with(&Snapshot::empty(None).unwrap(), "INSERT (:A {v: [1]})", small()).unwrap().1;
    let mut failed = None;
    for _ in 0..10 {
        let text = format!("MATCH (n:A) SET n.v = {}n.v{}", "[".repeat(40), "]".repeat(40));
        match run_with(&snapshot, &text, small()) {
            Ok((_, after)) => snapshot = after,
            Err(error) => {
                failed = Some(error);
                break;
            }
        }
    }
    assert!(failed.unwrap().contains("levels deep"));
}

#[test]
fn queries_share_a_pool_and_give_back_what_they_held() {
    let pool = MemoryPool::new(SMALL);
    let limits = Limits { pool: Some(pool.clone()), memory_bytes: 1 << 40, ..Limits::default() };
    let text = format!("LET l = {} FOR a IN l FOR b IN l RETURN DISTINCT a, b", numbers(2000));
    let error = run(&text, limits.clone()).expect_err("more than the pool");
    assert!(error.starts_with(Code::MEMORY_LIMIT) && error.contains("together"), "{error}");
    assert_eq!(pool.held(), 0);
    assert!(run("FOR a IN [1, 2] RETURN DISTINCT a ORDER BY a", limits).is_ok());
    assert_eq!(pool.held(), 0);
}

#[test]
fn the_rows_of_a_sort_are_those_of_one_sort() {
    // More than one run of the sort, with ties that keep their order.
    let snapshot = Snapshot::empty(None).unwrap();
    let text = format!(
        "LET l = {} FOR a IN l FOR b IN l RETURN a, b ORDER BY MOD(a * 7919 + b * 104729, 997), b DESC",
        numbers(300)
    );
    let statements = parse(&text).unwrap();
    let Statement::Query(query) = &statements[0] else { panic!() };
    let none = Parameters::new();
    let prepared = prepare(query, &text, &snapshot, &none).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().unwrap() {
        for row in 0..batch.len {
            let number = |column: usize| match batch.columns[column].get(row) {
                Value::Int(i) => i,
                other => panic!("{other}"),
            };
            rows.push((number(0), number(1)));
        }
    }
    let mut wanted: Vec<(i64, i64)> = (0..300).flat_map(|a| (0..300).map(move |b| (a, b))).collect();
    wanted.sort_by_key(|(a, b)| ((a * 7919 + b * 104_729) % 997, std::cmp::Reverse(*b)));
    assert_eq!(rows, wanted);
}

/// Every one of 40 nodes with an edge to each other: more trails than anybody could make.
#[test]
fn a_search_that_was_cut_off_says_how_far_it_got_and_what_would_be_less() {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let node = |transaction: &mut Transaction, k: i64| {
        let properties = vec![("k".into(), Value::Int(k))];
        transaction.insert_node(NewNode { labels: label_set(["N"]), properties }).unwrap()
    };
    let nodes: Vec<u32> = (0..40).map(|k| node(&mut transaction, k)).collect();
    for (source, target) in nodes.iter().flat_map(|a| nodes.iter().map(move |b| (*a, *b))) {
        let (labels, properties) = (label_set(["E"]), vec![]);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    }
    let snapshot = transaction.finish().unwrap().0;
    let asked = |text: &str, time: u64| {
        let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
        let none = Parameters::new();
        let prepared = prepare(&query, text, &snapshot, &none).unwrap_or_else(|e| panic!("{text}: {e:?}"));
        let limits = Limits { time: Some(Duration::from_millis(time)), ..Limits::default() };
        let mut execution = prepared.run(snapshot.clone(), &none, limits);
        loop {
            match execution.next_batch() {
                Ok(Some(_)) => {}
                Ok(None) => return None,
                Err(error) => return Some(error),
            }
        }
    };
    let pattern = "(a:N)-[e:E]->+(b:N)";
    let error = asked(&format!("MATCH {pattern} WHERE a.k = 0 RETURN MAX(SIZE(e)) AS n, MIN(b.k) AS m"), 200)
        .unwrap();
    assert_eq!(error.code, Code::TIME_LIMIT);
    assert!(error.message.contains(&format!("SearchPaths of {pattern} was at hop ")), "{}", error.message);
    assert!(error.message.contains("edges looked at"), "{}", error.message);
    let hint = error.hint.unwrap();
    println!("{}; {hint}", error.message);
    assert!(hint.contains("(a:N)-[e:E]->{1,"), "{hint}");
    // What is proposed in its place is a text, and the first of them comes to its end.
    for (part, ends) in [(format!("ANY SHORTEST {pattern}"), true), (format!("ACYCLIC {pattern}"), false)] {
        assert!(hint.contains(&part), "{hint}");
        let error =
            asked(&format!("MATCH {part} WHERE a.k = 0 RETURN MAX(SIZE(e)) AS n, MIN(b.k) AS m"), 2_000);
        assert_eq!(error.is_none(), ends, "{part}");
    }
}
