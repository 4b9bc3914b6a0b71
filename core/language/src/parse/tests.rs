//! Small texts with their parse results, and common errors.

use super::*;
use crate::ast::*;
use graphodrome_graph::{Direction, Value};

fn query(text: &str) -> Query {
    match parse(text) {
        Ok(mut statements) => match statements.remove(0) {
            Statement::Query(query) => query,
            other => panic!("{text}: {other:?}"),
        },
        Err(errors) => panic!("{text}: {errors}"),
    }
}

fn errors(text: &str) -> Vec<Diagnostic> {
    parse(text).expect_err(text).0
}

fn only_term(text: &str) -> PathTerm {
    match query(text).parts.remove(0).composite.first.clauses.remove(0) {
        Clause::Match { mut pattern, .. } => pattern.paths.remove(0).term,
        other => panic!("{other:?}"),
    }
}

#[test]
fn every_edge_orientation_is_told_apart() {
    let cases = [
        ("-[]->", Direction::Out),
        ("<-[]-", Direction::In),
        ("~[]~", Direction::Undirected),
        ("-[]-", Direction::Any),
        ("<-[]->", Direction::OutOrIn),
        ("<~[]~", Direction::InOrUndirected),
        ("~[]~>", Direction::OutOrUndirected),
        ("->", Direction::Out),
        ("<-", Direction::In),
        ("~", Direction::Undirected),
        ("-", Direction::Any),
        ("<->", Direction::OutOrIn),
        ("<~", Direction::InOrUndirected),
        ("~>", Direction::OutOrUndirected),
    ];
    for (edge, direction) in cases {
        let term = only_term(&format!("MATCH (a){edge}(b) RETURN a"));
        match &term.elements[1] {
            PathElement::Edge(e, None) => assert_eq!(e.direction, direction, "{edge}"),
            other => panic!("{edge}: {other:?}"),
        }
    }
}

#[test]
fn quantifiers_and_groups_nest() {
    let term = only_term("MATCH (a) ((x)-[e:PIPE]->(y) WHERE x.h > y.h){2,5} (b)-[:P]->*(c) RETURN a");
    match &term.elements[1] {
        PathElement::Group(group) => {
            let q = group.quantifier.expect("quantifier");
            assert_eq!((q.min, q.max), (2, Some(5)));
            assert!(group.condition.is_some());
        }
        other => panic!("{other:?}"),
    }
    match &term.elements[3] {
        PathElement::Edge(_, Some(q)) => assert_eq!((q.min, q.max), (0, None)),
        other => panic!("{other:?}"),
    }
}

#[test]
fn operators_bind_as_the_standard_says() {
    let parsed = parse_expression("NOT a = 1 AND b < 2 + 3 * 4 OR c IS NULL").expect("parses");
    let ExpressionKind::Binary(BinaryOperator::Or, left, _) = parsed.kind else { panic!("OR binds loosest") };
    let ExpressionKind::Binary(BinaryOperator::And, not, less) = left.kind else { panic!("then AND") };
    assert!(matches!(not.kind, ExpressionKind::Not(_)));
    let ExpressionKind::Binary(BinaryOperator::Less, _, sum) = less.kind else { panic!("then <") };
    assert!(matches!(sum.kind, ExpressionKind::Binary(BinaryOperator::Add, ..)));
}

#[test]
fn less_than_minus_is_not_an_arrow() {
    let parsed = parse_expression("a<-1").expect("parses");
    let ExpressionKind::Binary(BinaryOperator::Less, _, right) = parsed.kind else { panic!() };
    assert_eq!(right.kind, ExpressionKind::Literal(Value::Int(-1)));
}

#[test]
fn numbers_keep_their_kind() {
    let kinds =
        [("7", "INT64"), ("7.5", "DECIMAL"), ("7.5e0", "FLOAT64"), ("7f", "FLOAT64"), ("7m", "DECIMAL")];
    for (text, kind) in kinds {
        match parse_expression(text).expect(text).kind {
            ExpressionKind::Literal(value) => assert_eq!(value.type_name(), kind, "{text}"),
            other => panic!("{text}: {other:?}"),
        }
    }
}

#[test]
fn errors_name_the_place_and_the_way_out() {
    let cases = [
        ("MTACH (n) RETURN n", "expected a clause", 0, Some("did you mean MATCH?")),
        ("MATCH (a)(b) RETURN a", "two nodes need an edge", 9, Some("write -[...]->")),
        ("MATCH (a) WHERE a.x == 1 RETURN a", "no operator ==", 21, Some("write =")),
        ("MATCH (a) WHERE a.x != 1 RETURN a", "no operator !=", 20, Some("write <>")),
        ("MATCH (a:Site RETURN a", "expected \")\"", 14, None),
        ("MATCH (a)-[e]->{5,2}(b) RETURN a", "upper bound is below", 15, None),
        ("MATCH (a)-->(b) RETURN a", "an edge is one dash", 9, Some("write ->")),
        ("MATCH (a)<--(b) RETURN a", "an edge is one dash", 9, Some("write ->")),
        ("MATCH (a)--(b) RETURN a", "an edge is one dash", 9, Some("write ->")),
        ("INSERT (a)-[:X]-(b)", "needs a direction", 10, Some("write -[...]->")),
        ("MATCH (n) RETURN n.name AS x LIMIT 5 OFFSET 2", "OFFSET stands before LIMIT", 37, None),
        ("MATCH (n) RETURN DATE '2023-02-30'", "there is no such day", 22, None),
        ("MATCH (n) RETURN 'abc", "never closed", 17, Some("single quote")),
        ("MATCH (n) RETURN 0xFFFFFFFFFFFFFFFFFFFF", "out of range", 17, None),
        ("MATCH (match) RETURN 1", "reserved word MATCH", 7, Some("double quotes")),
        (
            "MATCH (n) TABLE t = x RETURN n",
            "not supported: variables that are tables (feature GP08)",
            10,
            None,
        ),
    ];
    for (text, message, start, hint) in cases {
        let found = &errors(text)[0];
        assert!(found.message.contains(message), "{text}: {}", found.message);
        assert_eq!(found.span.start, start, "{text}: {}", found.message);
        if let Some(hint) = hint {
            assert!(found.hint.as_deref().unwrap_or("").contains(hint), "{text}: {:?}", found.hint);
        }
    }
}

#[test]
fn one_run_reports_several_errors() {
    let found = errors("MATCH (a:) WHERE x RETURN a;\nMATCH (b)) RETURN b;\nRETURN");
    assert!(found.len() >= 3, "{found:?}");
}

#[test]
fn the_excerpt_marks_the_place() {
    let text = "MATCH (n)\nRETURN n.x == 2";
    let shown = errors(text)[0].render(text);
    assert_eq!(
        shown,
        "error 42001: there is no operator ==\n  at line 2, column 13\n2 | RETURN n.x == 2\n  |             ^\nhint: write ="
    );
}

#[test]
fn deep_nesting_is_an_error_and_not_a_crash() {
    let deep = format!("RETURN {}1{}", "(".repeat(5_000), ")".repeat(5_000));
    assert!(errors(&deep)[0].message.contains("nested more than"));
    let groups = format!("MATCH {}(a)-[]->(b){} RETURN 1", "(".repeat(5_000), ")".repeat(5_000));
    assert!(errors(&groups)[0].message.contains("nested more than"));
}

#[test]
fn graph_types_read_back_what_they_print() {
    let text = "CREATE GRAPH TYPE network AS {
      (Site :Site { code STRING NOT NULL, name STRING(40), opened DATE } KEY (code)),
      (Tank :Site => :Tank { code STRING NOT NULL, capacity_m3 DECIMAL(9, 2) } KEY (code)),
      (Junction :Junction { code STRING NOT NULL, elevation_m FLOAT64 } KEY (code)),
      (Site|Junction)-[:PIPE { length_m FLOAT64 NOT NULL, laid INT16 }]->(:Site|Junction),
      NODE TYPE Sensor :Sensor&Device { code STRING NOT NULL, level INT32 DEFAULT 3 },
      DIRECTED EDGE TYPE Watches :WATCHES { since DATE } CONNECTING (Sensor TO Junction),
      (Junction)~[:ADJOINS]~(Junction),
      (:Site|:Sensor&Device)-[:IN]->(:Junction),
      UNDIRECTED EDGE TYPE :TOUCHES { `how long` DURATION } CONNECTING (Site ~ Junction),
      NODE TYPE `Odd One` :`Odd One`&`a``b` { `key part` STRING(3, 5) NOT NULL, select BYTES(4) } KEY (`key part`),
      EACH Sensor HAS AT MOST 1 Watches,
      EACH :Site HAS AT MOST 12 TOUCHES
    }";
    let first = parse_graph_type(text).unwrap_or_else(|e| panic!("{e}"));
    assert_eq!((first.nodes.len(), first.edges.len(), first.cardinalities.len()), (5, 5, 2));
    assert_eq!(&*first.cardinalities[0].edge, "WATCHES", "named by its type");
    assert_eq!(first.keys().len(), 3, "Site and Tank share the key of Site");
    let second = parse_graph_type(&first.to_string()).unwrap_or_else(|e| panic!("{first}\n{e}"));
    assert_eq!(first, second);
}

/// Every value type of the standard, as it is written and as it is shown; those that values here do not have
/// are refused by name.
#[test]
fn value_types_are_read_with_their_lengths_and_precisions() {
    let cases = [
        ("BOOLEAN", "BOOL"),
        ("STRING(2, 5)", "STRING(2, 5)"),
        ("VARCHAR(9)", "STRING(9)"),
        ("CHAR(3)", "STRING(3, 3)"),
        ("CHAR", "STRING(1, 1)"),
        ("BYTES(2, 5)", "BYTES(2, 5)"),
        ("BINARY(4)", "BYTES(4, 4)"),
        ("VARBINARY(7)", "BYTES(7)"),
        ("SMALLINT", "INT16"),
        ("INT", "INT64"),
        ("INT(7)", "INT8"),
        ("INTEGER(8)", "INT16"),
        ("SIGNED INTEGER(31)", "INT32"),
        ("UNSIGNED SMALLINT", "UINT16"),
        ("UNSIGNED INTEGER8", "UINT8"),
        ("UINT(16)", "UINT16"),
        ("UBIGINT", "UINT64"),
        ("DEC(9, 2)", "DECIMAL(9, 2)"),
        ("DECIMAL(9)", "DECIMAL(9, 0)"),
        ("FLOAT(24)", "FLOAT32"),
        ("FLOAT(25)", "FLOAT64"),
        ("REAL", "FLOAT32"),
        ("DOUBLE PRECISION", "FLOAT64"),
        ("TIME WITH TIME ZONE", "ZONED TIME"),
        ("TIME WITHOUT TIME ZONE", "LOCAL TIME"),
        ("TIMESTAMP WITH TIME ZONE", "ZONED DATETIME"),
        ("TIMESTAMP", "LOCAL DATETIME"),
        ("DURATION (YEAR TO MONTH)", "DURATION (YEAR TO MONTH)"),
        ("DURATION(DAY TO SECOND)", "DURATION (DAY TO SECOND)"),
        ("LIST<INT8>", "LIST<INT8>"),
        ("LIST<INT8 NOT NULL>[3]", "LIST<INT8 NOT NULL>[3]"),
        ("INT8 NOT NULL ARRAY[3]", "LIST<INT8 NOT NULL>[3]"),
        ("STRING LIST LIST[2]", "LIST<LIST<STRING>>[2]"),
        ("ANY RECORD", "RECORD"),
        ("RECORD { a INT8 NOT NULL, `b c` :: LIST<DATE> }", "RECORD { a INT8 NOT NULL, `b c` LIST<DATE> }"),
        ("ANY VALUE", "ANY"),
        ("ANY VALUE <INT8 | STRING(3)>", "ANY VALUE <INT8 | STRING(3)>"),
        ("INT8 | LIST<DATE | BOOL>", "ANY VALUE <INT8 | LIST<ANY VALUE <DATE | BOOL>>>"),
    ];
    let of = |written: &str| {
        let text = format!("{{ (A :A {{ p {written} NOT NULL }}) }}");
        parse_graph_type(&text).map(|t| t.nodes[0].properties[0].value_type.to_string())
    };
    for (written, shown) in cases {
        assert_eq!(of(written).unwrap_or_else(|e| panic!("{written}: {e}")), shown);
        assert_eq!(of(shown).unwrap_or_else(|e| panic!("{shown}: {e}")), shown);
    }
    for (written, said) in [
        ("INT128", "not supported: properties of the type INT128 (feature GV14)"),
        ("FLOAT16", "not supported: properties of the type FLOAT16 (feature GV20)"),
        ("PATH", "not supported: properties of the type PATH (feature GV55)"),
        ("INT(64)", "the precision of a whole number is 1 to 63 binary digits"),
        ("FLOAT(60)", "the precision of a FLOAT is 1 to 53 binary digits"),
        ("DURATION (HOUR TO DAY)", "expected YEAR TO MONTH or DAY TO SECOND"),
        ("RECORD { a INT, a INT }", "the field a is declared twice"),
    ] {
        let error = of(written).expect_err(written).to_string();
        assert!(error.contains(said), "{written}: {error}");
    }
}

/// Every way in which a statement about graph types, keys and indexes is refused, with all of what is said.
#[test]
fn errors_about_models_are_clear() {
    let wanted = include_str!("model_errors.txt");
    let mut shown = String::new();
    for block in wanted.split("\n\n") {
        let text = block.lines().next().unwrap_or_default();
        let errors = parse(text).expect_err(text);
        let rendered: Vec<String> = errors.0.iter().map(|e| e.render(text)).collect();
        shown.push_str(&format!("{text}\n{}\n\n", rendered.join("\n")));
    }
    assert_eq!(shown.trim_end(), wanted.trim_end(), "\n{shown}");
}

#[test]
fn long_and_deep_texts_end_in_an_answer_or_an_error() {
    let long = format!("MATCH (n) WHERE {} RETURN n", vec!["n.x = 1"; 2_000].join(" AND "));
    assert!(long.len() > 20_000);
    query(&long);
    let many = format!("RETURN [{}] AS x", vec!["1"; 10_000].join(", "));
    query(&many);
    query(&format!("RETURN {}1{} AS x", "(".repeat(90), ")".repeat(90)));
    for (text, said) in [
        (format!("RETURN {}1{}", "(".repeat(10_000), ")".repeat(10_000)), "levels deep"),
        (format!("RETURN {}1", "NOT ".repeat(10_000)), "levels deep"),
        (format!("RETURN {}1", "- ".repeat(10_000)), "levels deep"),
        (format!("RETURN {}", vec!["1"; 5_000].join(" + ")), "more than 1000 operators"),
        (format!("{}RETURN 1 AS x{}", "CALL { ".repeat(500), " } RETURN x".repeat(500)), "levels deep"),
        (format!("MATCH {}(a)-[e]->(b){} RETURN 1", "(".repeat(5_000), ")".repeat(5_000)), "levels deep"),
    ] {
        let found = errors(&text);
        assert!(found.iter().any(|e| e.message.contains(said)), "{}: {found:?}", &text[..40]);
    }
}
