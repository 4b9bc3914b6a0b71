//! Unread paths, and paths of which only the length is read: the same answers with and without building them, in
//! every kind of search.

#![allow(clippy::unwrap_used)]

mod asked;
mod crowded;
mod folded;

use graphodrome_engine::{Rule, Rules};
use graphodrome_graph::{Snapshot, Value};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::asked::{Rows, run_as};
use crate::crowded::changed_a_little;

fn cell(value: &Value) -> String {
    value.to_string()
}

fn run(snapshot: &Snapshot, text: &str, rules: Rules) -> (Rows, String) {
    run_as(cell, snapshot, text, rules, false)
}

fn pick(rng: &mut ChaCha8Rng, from: &[&'static str]) -> &'static str {
    from[rng.random_range(0..from.len())]
}

/// A pattern with a named path, of which only the length is the same whatever path is found.
fn pattern(rng: &mut ChaCha8Rng) -> String {
    let start = rng.random_range(0..40);
    let edge = pick(rng, &["-[e:R]->", "<-[e:R]-", "-[e]-", "~[e]~>", "-[e:R|S]->"]);
    let end = pick(rng, &["(b)", "(b:B)", "(b {x: 7})", "(b WHERE b.x < 30)", "(a)"]);
    match rng.random_range(0..9) {
        0 | 1 => format!("MATCH p = ALL SHORTEST (a {{x: {start}}}){edge}+{end}"),
        2 => format!("MATCH p = ALL SHORTEST TRAIL (a {{x: {start}}}){edge}{{1,3}}{end}"),
        3 => format!("MATCH p = ANY SHORTEST (a {{x: {start}}}){edge}*{end}"),
        4 => format!("MATCH p = (a {{x: {start}}}){edge}{{1,2}}{end}"),
        5 => format!("MATCH p = (a {{x: {start}}}){edge}(c)-[f]->{end}"),
        6 if rng.random() => {
            format!("MATCH p = ALL SHORTEST (a {{x: {start}}})-[e:R WHERE e IS DIRECTED]->+(b)")
        }
        6 => format!("MATCH p = ACYCLIC (a {{x: {start}}}){edge}{{0,2}}{end}"),
        7 => {
            let reads = pick(rng, &["PATH_LENGTH(p) < 3", "SIZE(NODES(p)) < 4", "b.x > PATH_LENGTH(p)"]);
            format!("MATCH p = ALL SHORTEST (a {{x: {start}}}){edge}+(c), (c)-[:R]->(b WHERE {reads})")
        }
        _ => format!("MATCH p = ALL SHORTEST (a {{x: {start}}}){edge}+(c), q = (c)-[f:R]->{end}"),
    }
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let pattern = pattern(rng);
    let end = if pattern.ends_with("(a)") { "a" } else { "b" };
    let rest = pick(
        rng,
        &[
            "RETURN MAX(PATH_LENGTH(p)) AS n",
            "RETURN MIN(PATH_LENGTH(p)) AS n, MAX(END.x) AS m",
            "RETURN DISTINCT END.x AS x, PATH_LENGTH(p) AS n",
            "RETURN END.x AS x, MIN(PATH_LENGTH(p)) AS n",
            "RETURN END.x AS x, PATH_LENGTH(p) AS n",
            "RETURN PATH_LENGTH(p) AS n, COUNT(*) AS m",
            "WHERE PATH_LENGTH(p) > 1 RETURN DISTINCT END.x AS x",
            "WHERE PATH_LENGTH(p) > 1 RETURN COUNT(*) AS n",
            "LET n = PATH_LENGTH(p) FILTER n < 3 RETURN n, MAX(END.x) AS m",
            "RETURN DISTINCT END.x AS x ORDER BY END.x",
            "RETURN COUNT(*) AS n",
            "RETURN COUNT(p) AS n",
            "RETURN MIN(PATH_LENGTH(p)) AS n, MAX(SIZE(NODES(p))) AS m",
            "RETURN DISTINCT PATH_LENGTH(p) AS n, SIZE(EDGES(p)) AS m",
            "RETURN END.x AS x, SUM(PATH_LENGTH(p)) AS n ORDER BY n",
            "RETURN PATH_LENGTH(p) AS n NEXT RETURN DISTINCT n",
            "NEXT RETURN MAX(PATH_LENGTH(p)) AS n",
            "OPTIONAL MATCH q2 = (END)-[g:S]->(z) RETURN DISTINCT PATH_LENGTH(p) AS n, PATH_LENGTH(q2) AS m",
            "WHERE EXISTS { MATCH r = (END)-[:R]->(z) WHERE PATH_LENGTH(r) = PATH_LENGTH(p) } RETURN DISTINCT PATH_LENGTH(p) AS n",
            "RETURN DISTINCT VALUE { MATCH (z) WHERE z.x = PATH_LENGTH(p) RETURN COUNT(*) } AS n",
        ],
    );
    let rest = rest.replace("END", end);
    match rest.strip_prefix("NEXT ") {
        Some(after) => format!("{pattern} RETURN p, {end}.x AS x NEXT {after}"),
        None => format!("{pattern} {rest}"),
    }
}

#[test]
fn lengths_are_the_same_without_their_paths() {
    let cases = std::env::var("CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(300u64);
    let [mut lengths, mut unread, mut refused] = [0; 3];
    for seed in 0..cases {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let snapshot = changed_a_little(&mut rng);
        let text = question(&mut rng);
        let (wanted, _) = run(&snapshot, &text, Rules::none());
        let others = [Rules::none(), Rules::all().without(Rule::LengthsAlone)];
        let both = [Rule::LengthsAlone, Rule::UnreadPaths];
        let on = both.map(|rule| others[rng.random_range(0..2)].with(rule));
        for rules in
            [Rules::all(), Rules::all().without(Rule::UnreadPaths)].into_iter().chain(on).chain(others)
        {
            let (found, plan) = run(&snapshot, &text, rules);
            assert_eq!(found, wanted, "seed {seed}: {text}\n{plan}");
            lengths += usize::from(plan.contains("= length of the path"));
            unread += usize::from(text.contains("p = ") && !plan.contains("p = "));
        }
        refused += usize::from(wanted.is_err());
    }
    assert!(lengths > cases as usize && unread > cases as usize / 4, "{lengths} {unread}");
    assert!(refused < cases as usize / 10, "{refused}");
}

/// Diamonds in a row: two ways through each, a quarter and three quarters of what comes in.
fn diamonds(count: i64) -> Snapshot {
    use graphodrome_graph::{NewEdge, NewNode, Transaction, label_set};
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let node = |x: i64, t: &mut Transaction| {
        t.insert_node(NewNode { labels: label_set(["N"]), properties: vec![("x".into(), Value::Int(x))] })
            .unwrap()
    };
    let mut last = node(0, &mut transaction);
    for i in 1..=count {
        let next = node(i, &mut transaction);
        for share in [0.25, 0.75] {
            let between = node(-i, &mut transaction);
            for (source, target, s) in [(last, between, share), (between, next, 1.0)] {
                let properties = vec![("s".into(), Value::Float(s))];
                let new = NewEdge { labels: label_set(["E"]), properties, directed: true, source, target };
                transaction.insert_edge(new).unwrap();
            }
        }
        last = next;
    }
    folded::folded(&transaction.finish().unwrap().0)
}

#[test]
fn what_has_more_paths_than_can_be_made_is_answered() {
    let few = diamonds(60);
    let many = diamonds(150);
    for (snapshot, text, wanted) in [
        (&few, "MATCH p = ALL SHORTEST (a {x: 0})-[:E]->+(b) RETURN MAX(PATH_LENGTH(p)) AS n", Ok("120")),
        (
            &many,
            "MATCH p = ALL SHORTEST (a {x: 0})-[:E]->+(b {x: 150}) RETURN MIN(PATH_LENGTH(p)) AS n",
            Ok("300"),
        ),
        (&few, "MATCH p = (a {x: 0})-[e:E]->+(b {x: 60}) RETURN COUNT(*) AS n", Ok("1152921504606846976")),
        // Of more paths than an INT64 counts, and even than 128 bits do, what adds up is known.
        (&many, "MATCH p = (a {x: 0})-[e:E]->+(b {x: 150}) RETURN SUM(PRODUCT(e.s)) AS n", Ok("1.0")),
        (&many, "MATCH (a {x: 0})-[e:E]->{1,300}(b {x: 150}) RETURN SUM(PRODUCT(e.s)) AS n", Ok("1.0")),
        (&many, "MATCH (a {x: 0})-[e:E]->+(b {x: 150}) RETURN MAX(SUM(e.s)) AS n", Ok("262.5")),
        (
            &many,
            "MATCH (a {x: 0})-[e:E]->+(b {x: 150}) RETURN SUM(PRODUCT(e.s)) AS n, COUNT(*) AS m",
            Err("22003"),
        ),
        // The sum over all paths of what each adds up to needs their number.
        (&many, "MATCH (a {x: 0})-[e:E]->+(b {x: 150}) RETURN SUM(SUM(e.s)) AS n", Err("22003")),
    ] {
        let (found, plan) = run(snapshot, text, Rules::all());
        let found = found.map(|rows| rows.concat().concat());
        assert_eq!(found.as_deref().map_err(String::as_str), wanted, "{text}\n{plan}");
    }
}
