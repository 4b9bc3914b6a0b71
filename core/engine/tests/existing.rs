//! EXISTS of one edge between nodes of the pattern: looked for with the pattern's own edges, against one subquery a row.

#![allow(clippy::unwrap_used)]

mod crowded;
mod folded;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, TextOptions, prepare, prepare_by, render_plan};
use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::crowded::changed_a_little;

fn pick<'a>(random: &mut ChaCha8Rng, from: &[&'a str]) -> &'a str {
    from[random.random_range(0..from.len())]
}

fn rows_by(snapshot: &Snapshot, text: &str, rules: Rules) -> Result<Vec<String>, String> {
    let statements = parse(text).unwrap();
    let [Statement::Query(query)] = &statements[..] else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare_by(query, text, snapshot, &none, rules).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().map_err(|e| e.code.to_string())? {
        for row in 0..batch.len {
            let shown = |value: Value| value.literal();
            rows.push(batch.columns.iter().map(|c| shown(c.get(row))).collect::<Vec<_>>().join(" "));
        }
    }
    rows.sort();
    Ok(rows)
}

fn plan_text(snapshot: &Snapshot, text: &str) -> String {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let plan = prepare(&query, text, snapshot, &Parameters::new()).unwrap().plan();
    render_plan(&plan, &[], &TextOptions::default())
}

const LINKS: &[&str] = &["-[:R]-", "~[:R]~", "-[:R]->", "<-[:R]-", "-[]-", "-[:R|S]->", "<-[:R]->"];

/// Each row comes as often as before, whatever else is bound and however many edges there are.
#[test]
fn an_edge_that_must_exist_is_one_of_the_pattern() {
    let mut random = ChaCha8Rng::seed_from_u64(41);
    let (mut closed, mut some, mut taken) = (0, 0, 0);
    for round in 0..800 {
        let snapshot = changed_a_little(&mut random);
        let [l, m, n, o] = [(); 4].map(|_| pick(&mut random, LINKS));
        let label = pick(&mut random, &["", ":A", ":B"]);
        let (pattern, pairs): (String, &[&str]) = match random.random_range(0..7) {
            0 => (format!("MATCH (a{label}){l}(b){m}(c)"), &["ac", "ca", "ab"]),
            1 => (format!("MATCH (a{label}){l}(b) MATCH (b){m}(c)"), &["ac", "ca", "bc"]),
            2 => (
                format!("MATCH (a{label}){l}(b) RETURN DISTINCT a, b NEXT MATCH (b){m}(c)"),
                &["ac", "ca", "ab"],
            ),
            3 => (format!("MATCH (a{label}), (b) "), &["ab", "ba"]),
            4 => (format!("MATCH (a{label}) OPTIONAL MATCH (a){l}(b) MATCH (a){m}(c)"), &["ab", "bc", "cb"]),
            5 => (format!("MATCH REPEATABLE ELEMENTS (a{label}){l}(b){m}(c){n}(d)"), &["ad", "da", "bd"]),
            _ => (format!("MATCH (a{label} WHERE a.x < 20) OPTIONAL MATCH (a){l}(b){m}(c)"), &["ac", "ca"]),
        };
        let exists = |random: &mut ChaCha8Rng| {
            let pair = pick(random, pairs);
            let (from, to) = pair.split_at(1);
            match random.random_range(0..6) {
                4 => {
                    let repeated = pick(random, &["+", "*", "{1,3}", "{0,2}", "{1,}"]);
                    format!("EXISTS {{ ({from}){o}{repeated}({to}) }}")
                }
                0 => format!("EXISTS {{ MATCH ({from}){o}({to}) }}"),
                1 => format!("EXISTS {{ ({from}){n}({to}) }}"),
                _ => format!("EXISTS {{ ({from}){o}({to}) }}"),
            }
        };
        let mut conditions = vec![exists(&mut random)];
        if random.random_bool(0.3) {
            conditions.push(exists(&mut random));
        }
        if random.random_bool(0.4) {
            conditions.push(
                pick(&mut random, &["a.x < b.x", "a <> b", "b.x % 2 = 0"]).replace("b.x % 2", "MOD(b.x, 2)"),
            );
        }
        let result = pick(
            &mut random,
            &[
                "a.x AS a, b.x AS b",
                "COUNT(*) AS n",
                "DISTINCT a.x AS a",
                "b, COUNT(*) AS n",
                "a.x AS a, COUNT(DISTINCT b) AS n",
            ],
        );
        let text = format!("{pattern} WHERE {} RETURN {result}", conditions.join(" AND "));
        let plan = plan_text(&snapshot, &text);
        closed += (plan.contains("IntersectEdges")) as usize;
        taken += (!plan.contains("EXISTS {")) as usize;
        let all = rows_by(&snapshot, &text, Rules::all());
        let without = rows_by(&snapshot, &text, Rules::all().without(Rule::ExistsInPattern));
        assert_eq!(all, without, "round {round}: {text}\n{plan}");
        // One by one there are too many paths to be made.
        let few = !["+(", "*(", "{1,}("].iter().any(|open| text.contains(open));
        if few && random.random_bool(0.2) {
            assert_eq!(all, rows_by(&snapshot, &text, Rules::none()), "round {round}: {text}\n{plan}");
        }
        some += all.is_ok_and(|rows| !rows.is_empty() && rows != ["0"]) as usize;
    }
    assert!(
        closed > 150 && some > 400 && taken > 600,
        "{closed} intersected, {some} not empty, {taken} taken"
    );
}

/// One search from the node that is known answers for all the others.
#[test]
fn paths_that_must_exist_are_found_from_one_end() {
    let snapshot = changed_a_little(&mut ChaCha8Rng::seed_from_u64(11));
    for text in [
        "MATCH (a {x: 1}), (b:A) WHERE EXISTS { (a)-[:R]->+(b) } RETURN COUNT(*) AS n",
        "MATCH (a {x: 1}), (b:A) WHERE b <> a AND EXISTS { (b)<-[:R]-+(a) } RETURN b.x AS x",
        "MATCH (b:A), (a {x: 1}) WHERE EXISTS { (a)-[:R]->{1,4}(b) } RETURN b.x AS x, COUNT(*) AS n",
        "MATCH (a {x: 1}) MATCH (b:A)-[:R]-(c) FILTER b.x > 2 AND EXISTS { (a)-[:R]->+(b) } RETURN b.x AS x, c.x AS y",
    ] {
        let plan = plan_text(&snapshot, text);
        assert!(plan.contains("Reach") && !plan.contains("CheckExists"), "{plan}");
        assert_eq!(
            rows_by(&snapshot, text, Rules::all()),
            rows_by(&snapshot, text, Rules::all().without(Rule::ExistsInPattern)),
            "{text}"
        );
    }
}

/// A name that is new within EXISTS is another one than that of a later MATCH.
#[test]
fn names_within_exists_stay_there() {
    let mut random = ChaCha8Rng::seed_from_u64(3);
    for _ in 0..20 {
        let snapshot = changed_a_little(&mut random);
        for text in [
            "MATCH (a)-[:R]->(b) WHERE EXISTS { (a)-[:R]-(z) } MATCH (b)-[:R]->(z) RETURN a.x AS a, z.x AS z",
            "MATCH (a)-[:R]->(b) FILTER EXISTS { (b)<-[:R]-(z) } MATCH (b)-[:R]->(z) RETURN a.x AS a, z.x AS z",
            "MATCH (a)-[:R]->(b) FILTER EXISTS { (b)-[:S]->{1,2}(z) } MATCH (b)-[:R]->(z) RETURN b.x AS b, z.x AS z",
        ] {
            let all = rows_by(&snapshot, text, Rules::all());
            assert_eq!(
                all,
                rows_by(&snapshot, text, Rules::none()),
                "{text}\n{}",
                plan_text(&snapshot, text)
            );
        }
    }
}

/// What asks more of the edge or its ends than the pattern could say of them stays a subquery.
#[test]
fn other_subqueries_stay_what_they_are() {
    let snapshot = changed_a_little(&mut ChaCha8Rng::seed_from_u64(5));
    for condition in [
        "EXISTS { (a)-[e:R WHERE e.w > 1]->(b) }",
        "EXISTS { (a)-[:R]->(z) }",
        "EXISTS { (a)-[:R]->(b:A) }",
        "EXISTS { (a)-[:R]->()-[:R]->(b) }",
        "EXISTS { (a)-[:R]->{2,3}(b) }",
        "EXISTS { (a)-[:R]->?(b) }",
        "EXISTS { MATCH REPEATABLE ELEMENTS (a)-[:R]->{1,2}(b) }",
        "EXISTS { (a)-[:R]->(a) }",
        "NOT EXISTS { (a)-[:R]->(b) }",
        "(EXISTS { (a)-[:R]->(b) } OR a.x = 1)",
    ] {
        let text = format!("MATCH (a)-[:S]->(b) WHERE {condition} RETURN a.x AS a, b.x AS b");
        let all = rows_by(&snapshot, &text, Rules::all());
        assert_eq!(all, rows_by(&snapshot, &text, Rules::none()), "{text}");
        let plan = plan_text(&snapshot, &text);
        assert!(plan.contains("CheckExists") || plan.contains("EXISTS"), "{plan}");
    }
}
