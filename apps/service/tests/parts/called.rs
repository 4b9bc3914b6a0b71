use graphodrome_language::Diagnostic;
use graphodrome_language::ast::{Query, Statement};
use graphodrome_language::parse;
use graphodrome_service::parts::{Known, MARK, Writer, asked, called_at, called_names, changes, texts};
use graphodrome_store::SavedRecord;

fn record(name: &str, text: &str, parameters: serde_json::Value) -> SavedRecord {
    SavedRecord {
        name: name.into(),
        folder: String::new(),
        description: String::new(),
        parameters,
        text: text.into(),
        changed: String::new(),
    }
}

fn written(text: &str, records: Vec<SavedRecord>) -> Result<(String, Query), Diagnostic> {
    let known: Known = records.into_iter().map(|r| (r.name.clone(), r)).collect();
    let others = known.keys().cloned().collect();
    let mut writer = Writer::new(&known, others, text.into());
    let Some(Statement::Query(mut query)) = parse(text).expect("a query").into_iter().next() else {
        panic!("{text}")
    };
    writer.query(&mut query)?;
    Ok((writer.text, query))
}

#[test]
fn places_in_a_saved_query_are_found_again() {
    let level = serde_json::json!([{ "name": "level", "type": "INT", "default": "7" }]);
    let above = record("above", "MATCH (s)\nWHERE s.x > $level RETURN s", level);
    let (text, query) = written("CALL above() YIELD s RETURN s", vec![above]).expect("written out");
    assert_eq!(asked(&text), "CALL above() YIELD s RETURN s");
    let at = text.rfind("s.x").expect("its text");
    assert_eq!(called_at(&text, at), Some(("above", "MATCH (s)\nWHERE s.x > 7 RETURN s", 16)));
    assert_eq!(called_at(&text, 5), None);
    assert!(called_names(&query).is_empty());
}

#[test]
fn calls_within_expressions_are_written_out() {
    let above = record(
        "above",
        "MATCH (s) WHERE s.x > $level RETURN s.x AS x",
        serde_json::json!([{ "name": "level", "type": "INT" }]),
    );
    for text in [
        "MATCH (a) WHERE EXISTS { CALL above({level: a.x}) YIELD x RETURN x } RETURN a",
        "MATCH (a) RETURN VALUE { CALL above({level: 3}) YIELD x RETURN COUNT(*) } AS n",
        "MATCH (a) LET n = 1 + VALUE { CALL above({level: 3}) YIELD x RETURN COUNT(*) } RETURN n",
        "MATCH (a) FILTER NOT EXISTS { CALL above({level: 3}) YIELD x RETURN x } RETURN a ORDER BY VALUE { CALL above({level: 1}) YIELD x RETURN MAX(x) }",
    ] {
        let Some(Statement::Query(asked)) = parse(text).expect(text).into_iter().next() else {
            panic!("{text}")
        };
        let calls = called_names(&asked).len();
        assert!(calls > 0, "{text}");
        let (whole, query) = written(text, vec![above.clone()]).expect(text);
        assert!(called_names(&query).is_empty(), "{text}");
        assert_eq!(whole.matches(MARK).count(), calls, "{text}");
    }
}

#[test]
fn one_that_calls_itself_is_refused() {
    let itself = record("again", "CALL again() YIELD x RETURN x", serde_json::json!([]));
    let wrong = written("CALL again() YIELD x RETURN x", vec![itself.clone()]).expect_err("no end");
    assert!(wrong.message.contains("more than 8 deep"), "{}", wrong.message);
    let known = Known::from([(itself.name.clone(), itself)]);
    assert!(!changes("CALL again() YIELD x RETURN x", &known));
}

#[test]
fn calls_that_multiply_are_cut_off() {
    // Each calls the next five times: 5 + 25 + 125 of them.
    let five = |next: &str| {
        let calls: Vec<String> = (0..5).map(|i| format!("CALL {next}() YIELD x AS x{i}")).collect();
        format!("{} RETURN x0 AS x", calls.join(" "))
    };
    let none = || serde_json::json!([]);
    let records = vec![
        record("a", &five("b"), none()),
        record("b", &five("c"), none()),
        record("c", "RETURN 1 AS x", none()),
    ];
    let wrong = written(&five("a"), records.clone()).expect_err("too many");
    assert!(wrong.message.contains("more than 100 calls"), "{}", wrong.message);
    let known: Known = records.into_iter().map(|r| (r.name.clone(), r)).collect();
    assert!(!changes(&five("a"), &known));
    assert_eq!(texts(&five("a"), &known).len(), 4);
}

#[test]
fn what_is_given_must_be_declared_and_of_its_type() {
    let level = serde_json::json!([{ "name": "level", "type": "INT", "not_null": true }]);
    let above = record("above", "MATCH (s) WHERE s.x > $level RETURN s", level);
    for (call, says) in [
        ("above()", "$level of above is not given"),
        ("above({levle: 1})", "no parameter $levle"),
        ("above({level: 'high'})", "must be INT"),
        ("above(7)", "as one record"),
        ("abve({level: 1})", "no measure, procedure or saved query abve"),
    ] {
        let wrong = written(&format!("CALL {call} YIELD s RETURN s"), vec![above.clone()]).expect_err(call);
        assert!(wrong.message.contains(says), "{call}: {}", wrong.message);
        assert!(wrong.hint.is_some(), "{call}");
    }
}
