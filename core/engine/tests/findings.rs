//! Findings of plans and profiles: positive and negative cases for each rule.

#![allow(clippy::unwrap_used)]

mod folded;

use graphodrome_engine::{Finding, Limits, Parameters, parameter_findings, prepare};
use graphodrome_graph::{
    BoundDefinition, Element, KeyDefinition, NewEdge, NewNode, Schema, Snapshot, Transaction, Value,
    label_set,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;

use crate::folded::folded;

/// Two thousand stops in a row, each fourth with an edge to a hub, and the hub to all of them.
fn graph() -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut node = |label: &str, x: i64| {
        let properties = vec![("x".into(), Value::Int(x)), ("zone".into(), Value::Int(x % 50))];
        transaction.insert_node(NewNode { labels: label_set([label]), properties }).unwrap()
    };
    let stops: Vec<u32> = (0..2_000).map(|x| node("Stop", x)).collect();
    let hub = node("Hub", -1);
    let few: Vec<u32> = (0..20).map(|x| node("Depot", x)).collect();
    let mut edge = |label: &str, source: u32, target: u32, directed: bool| {
        let labels = label_set([label]);
        transaction.insert_edge(NewEdge { labels, properties: vec![], directed, source, target }).unwrap();
    };
    for pair in stops.windows(2) {
        edge("NEXT", pair[0], pair[1], true);
    }
    for (i, stop) in stops.iter().enumerate() {
        edge("SERVES", hub, *stop, true);
        if i.is_multiple_of(4) {
            edge("TO", *stop, hub, true);
        }
    }
    for (i, depot) in few.iter().enumerate() {
        edge("NEAR", *depot, stops[i], false);
    }
    folded(&transaction.finish().unwrap().0)
}

fn rules(found: &[Finding]) -> Vec<&str> {
    found.iter().map(|f| f.rule.as_str()).collect()
}

/// Findings of the plan, and of a run.
fn findings(snapshot: &Snapshot, text: &str) -> (Vec<Finding>, Vec<Finding>) {
    let statements = parse(text).unwrap();
    let [Statement::Query(query)] = &statements[..] else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare(query, text, snapshot, &none).unwrap();
    let planned = prepared.findings(snapshot);
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    while execution.next_batch().unwrap().is_some() {}
    (planned, execution.findings())
}

#[test]
fn a_lookup_that_is_missing_is_named_with_its_statement() {
    let snapshot = graph();
    let (planned, ran) = findings(&snapshot, "MATCH (s:Stop {x: 700}) RETURN s.zone");
    for found in [&planned, &ran] {
        assert_eq!(rules(found), ["no-lookup"]);
        assert_eq!(found[0].statement.as_deref(), Some("CREATE INDEX stop_x OVER (:Stop {x})"));
        assert!(found[0].message.contains("2,000 nodes Stop"), "{found:?}");
    }
    assert!(ran[0].message.contains("for 1 row"), "{ran:?}");
    // The statement can be read, and with the index the finding is gone.
    assert!(parse(planned[0].statement.as_deref().unwrap()).is_ok());
    let on = KeyDefinition {
        name: "stop_x".into(),
        element: Element::Node,
        label: "Stop".into(),
        properties: vec!["x".into()],
    };
    let schema = Schema { indexes: vec![on.into()], ..Schema::default() };
    let base = graphodrome_graph::Base::build(snapshot.fold(), &schema).unwrap();
    let indexed = Snapshot::new(base.into(), schema, 1);
    assert_eq!(findings(&indexed, "MATCH (s:Stop {x: 700}) RETURN s.zone"), (vec![], vec![]));
    // Few nodes, many of them wanted, or nothing compared: no reason.
    assert_eq!(findings(&snapshot, "MATCH (d:Depot {x: 7}) RETURN d.zone"), (vec![], vec![]));
    assert_eq!(findings(&snapshot, "MATCH (s:Stop WHERE s.x > 3) RETURN COUNT(*)").1, vec![]);
    assert_eq!(findings(&snapshot, "MATCH (s:Stop) RETURN COUNT(*)"), (vec![], vec![]));
}

#[test]
fn a_label_that_is_missing_is_asked_for() {
    let snapshot = graph();
    assert_eq!(rules(&findings(&snapshot, "MATCH (n {x: 700}) RETURN n.zone").0), ["no-label"]);
    assert_eq!(rules(&findings(&snapshot, "MATCH (n) RETURN COUNT(*)").0), Vec::<&str>::new());
}

#[test]
fn parts_that_nothing_joins_are_told() {
    let snapshot = graph();
    let (planned, ran) = findings(&snapshot, "MATCH (s:Stop), (d:Depot) RETURN s.x + d.x AS y");
    assert_eq!((rules(&planned), rules(&ran)), (vec!["cross-join"], vec!["cross-join"]));
    assert!(ran[0].message.contains("40,000 rows"), "{ran:?}");
    let joined = "MATCH (s:Stop), (d:Depot) WHERE s.x = d.x RETURN s.x";
    assert!(!rules(&findings(&snapshot, joined).1).contains(&"cross-join"));
    assert!(!rules(&findings(&snapshot, "MATCH (h:Hub), (d:Depot) RETURN d.x").1).contains(&"cross-join"));
}

#[test]
fn a_direction_that_is_missing_is_asked_for() {
    let snapshot = graph();
    let any = "MATCH (s:Stop WHERE s.x = 5)-[:NEXT]-{1,4}(t) RETURN DISTINCT t.x";
    assert!(rules(&findings(&snapshot, any).0).contains(&"any-direction"));
    let given = "MATCH (s:Stop WHERE s.x = 5)-[:NEXT]->{1,4}(t) RETURN DISTINCT t.x";
    assert!(!rules(&findings(&snapshot, given).0).contains(&"any-direction"));
    // Undirected edges have none.
    let near = "MATCH (d:Depot WHERE d.x = 5)-[:NEAR]-{1,4}(t) RETURN DISTINCT t.x";
    assert!(!rules(&findings(&snapshot, near).0).contains(&"any-direction"));
}

/// A hundred rows of a hundred crossings, each with a road to the next of its row and of its column.
fn crossings() -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut nodes = vec![];
    for x in 0..10_000 {
        let properties = vec![("x".into(), Value::Int(x))];
        nodes.push(transaction.insert_node(NewNode { labels: label_set(["Crossing"]), properties }).unwrap());
    }
    for x in 0..10_000usize {
        let right = (x % 100 < 99).then_some(x + 1);
        for other in [right, (x < 9_900).then_some(x + 100)].into_iter().flatten() {
            let properties = vec![("metres".into(), Value::Int((x * 7 % 13) as i64 + 20))];
            let (labels, source, target) = (label_set(["ROAD"]), nodes[x], nodes[other]);
            transaction.insert_edge(NewEdge { labels, properties, directed: false, source, target }).unwrap();
        }
    }
    folded(&transaction.finish().unwrap().0)
}

#[test]
fn a_long_search_for_a_cheapest_path_asks_for_a_bound() {
    let snapshot = crossings();
    let far = "MATCH ANY SHORTEST BY e.metres (a:Crossing WHERE a.x = 101)-[e:ROAD]-+(b:Crossing WHERE b.x = 9898) RETURN SUM(e.metres) AS n";
    let (planned, ran) = findings(&snapshot, far);
    assert!(!rules(&planned).contains(&"no-bound"), "a plan has not looked yet");
    let found = ran.iter().find(|f| f.rule == "no-bound").unwrap_or_else(|| panic!("{ran:?}"));
    let statement = found.statement.as_deref().unwrap();
    assert_eq!(statement, "CREATE DISTANCE BOUND road_metres OVER -[:ROAD {metres}]- FROM 16 LANDMARKS");
    let [Statement::CreateBound(new)] = &parse(statement).unwrap()[..] else { panic!("{statement}") };
    let bound = BoundDefinition {
        name: new.name.text.clone(),
        labels: new.labels.iter().map(|label| label.text.clone()).collect(),
        direction: new.direction,
        property: new.property.text.clone(),
        source: new.source.clone(),
    };
    let schema = Schema { bounds: vec![bound.into()], ..Schema::default() };
    let bounded = snapshot.with_schema(schema, &|| Ok(())).unwrap();
    assert!(!rules(&findings(&bounded, far).1).contains(&"no-bound"));
    // A short search, one by hops, and one for all of several paths: no reason.
    for text in [
        "MATCH ANY SHORTEST BY e.metres (a:Crossing WHERE a.x = 101)-[e:ROAD]-+(b:Crossing WHERE b.x = 303) RETURN SUM(e.metres) AS n",
        "MATCH p = ANY SHORTEST (a:Crossing WHERE a.x = 101)-[e:ROAD]-+(b:Crossing WHERE b.x = 9898) RETURN PATH_LENGTH(p) AS n",
        "MATCH SHORTEST 2 ACYCLIC BY e.metres (a:Crossing WHERE a.x = 101)-[e:ROAD]-+(b:Crossing WHERE b.x = 9898) RETURN SUM(e.metres) AS n",
    ] {
        assert!(!rules(&findings(&snapshot, text).1).contains(&"no-bound"), "{text}");
    }
}

#[test]
fn a_hub_is_named_by_its_hop() {
    let snapshot = graph();
    let through = "MATCH (s:Stop WHERE s.x < 40)-[:NEXT|TO|SERVES]->{1,4}(t) RETURN DISTINCT t.x";
    let (planned, ran) = findings(&snapshot, through);
    assert!(!rules(&planned).contains(&"hub"), "a plan has not seen it");
    let hub = ran.iter().find(|f| f.rule == "hub").expect("no hub");
    assert!(hub.message.contains("2,000 edges") && hub.message.contains("node :Hub"), "{hub:?}");
    let along = "MATCH (s:Stop WHERE s.x < 40)-[:NEXT]->{1,400}(t) RETURN DISTINCT t.x";
    assert!(!rules(&findings(&snapshot, along).1).contains(&"hub"));
}

#[test]
fn many_paths_are_told_once_they_were_made() {
    let snapshot = graph();
    let all =
        "MATCH p = (s:Stop WHERE s.x < 80)-[e:NEXT|TO|SERVES]->{1,3}(t) RETURN MAX(PATH_LENGTH(p)) AS n";
    let (planned, ran) = findings(&snapshot, all);
    assert!(
        !rules(&planned).contains(&"many-paths"),
        "a plan with a longest length does not know: {planned:?}"
    );
    let many = ran.iter().find(|f| f.rule == "many-paths").expect("no many-paths");
    assert!(many.message.contains("paths were made one by one"), "{many:?}");
    let ends = "MATCH (s:Stop WHERE s.x < 80)-[e:NEXT|TO|SERVES]->{1,3}(t) RETURN COUNT(DISTINCT t) AS m";
    assert!(!rules(&findings(&snapshot, ends).1).contains(&"many-paths"));
}

#[test]
fn a_condition_that_throws_away_most_paths_is_asked_to_stand_within() {
    let snapshot = graph();
    let late = "MATCH p = ANY SHORTEST (s:Stop WHERE s.x < 20)-[:NEXT|TO|SERVES]->+(t:Stop) FILTER SIZE(NODES(p)) = 2 RETURN s.x, t.x";
    let (planned, ran) = findings(&snapshot, late);
    assert!(!rules(&planned).contains(&"late-condition"), "a plan has not seen it");
    let found = ran.iter().find(|f| f.rule == "late-condition").expect("no late-condition");
    assert!(found.message.contains("passed") && found.operator == "Filter", "{found:?}");
    // Where it bounds the search there is nothing to throw away, and the rows are the same.
    let early =
        "MATCH p = ANY SHORTEST (s:Stop WHERE s.x < 20)-[:NEXT|TO|SERVES]->{1,1}(t:Stop) RETURN s.x, t.x";
    assert!(!rules(&findings(&snapshot, early).1).contains(&"late-condition"));
    // Most of them pass.
    let most = "MATCH p = ANY SHORTEST (s:Stop WHERE s.x < 20)-[:NEXT|TO|SERVES]->+(t:Stop) FILTER SIZE(NODES(p)) > 1 RETURN s.x, t.x";
    assert!(!rules(&findings(&snapshot, most).1).contains(&"late-condition"));
}

#[test]
fn whole_elements_are_told_where_they_are_many_and_wide() {
    let wide = |properties: usize| {
        let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
        for x in 0..200 {
            let properties =
                (0..properties).map(|p| (format!("p{p}").as_str().into(), Value::Int(x))).collect();
            transaction.insert_node(NewNode { labels: label_set(["Stop"]), properties }).unwrap();
        }
        folded(&transaction.finish().unwrap().0)
    };
    let all = "MATCH (a:Stop), (b:Stop) RETURN a, b.p0";
    let told =
        |snapshot: &Snapshot, text: &str| rules(&findings(snapshot, text).1).contains(&"whole-elements");
    assert!(told(&wide(6), all));
    assert!(!told(&wide(2), all), "few properties");
    assert!(!told(&wide(6), "MATCH (a:Stop), (b:Stop) RETURN a.p1, b.p0"), "no elements");
    assert!(!told(&wide(6), "MATCH (a:Stop) RETURN a"), "few rows");
}

#[test]
fn a_plan_that_is_for_one_value_says_so() {
    let on = KeyDefinition {
        name: "stop_x".into(),
        element: Element::Node,
        label: "Stop".into(),
        properties: vec!["x".into()],
    };
    let schema = Schema { indexes: vec![on.into()], ..Schema::default() };
    let base = graphodrome_graph::Base::build(graph().fold(), &schema).unwrap();
    let indexed = Snapshot::new(base.into(), schema, 1);
    let found = |text: &str, x: i64| {
        let statements = parse(text).unwrap();
        let [Statement::Query(query)] = &statements[..] else { panic!("{text}") };
        let parameters = Parameters::from([("x".to_string(), Value::Int(x))]);
        let prepared = prepare(query, text, &indexed, &parameters).unwrap();
        parameter_findings(&prepared, query, text, &indexed, &parameters)
    };
    // The last few are found by the index, which most of them would not be.
    let range = "MATCH (s:Stop WHERE s.x >= $x) RETURN s.zone";
    let few = found(range, 1_990);
    assert_eq!(rules(&few), ["parameter-plan"]);
    assert!(few[0].message.contains("$x = 1990") && few[0].message.contains("SeekIndex"), "{few:?}");
    // Where the plan is the same for a value of which nothing is known, and where no value was looked at.
    assert_eq!(found(range, 700), vec![]);
    assert_eq!(found("MATCH (s:Stop {x: $x}) RETURN s.zone", 1_990), vec![]);
    assert_eq!(found("MATCH (s:Stop) RETURN s.x LIMIT $x", 3), vec![]);
}

#[test]
fn statistics_that_are_old_are_told() {
    let stale = |found: &(Vec<Finding>, Vec<Finding>)| {
        [&found.0, &found.1].map(|f| f.iter().filter(|f| f.rule == "stale-statistics").count())
    };
    let snapshot = graph();
    let text = "MATCH (s:Stop WHERE s.x < 100)-[:NEXT]->(t) RETURN t.zone";
    assert_eq!(stale(&findings(&snapshot, text)), [0, 0]);
    let changed = |count: i64| {
        let mut transaction = Transaction::new(snapshot.clone());
        for x in 0..count {
            let properties = vec![("x".into(), Value::Int(x))];
            transaction.insert_node(NewNode { labels: label_set(["Stop"]), properties }).unwrap();
        }
        transaction.finish().unwrap().0
    };
    assert_eq!(stale(&findings(&changed(300), text)), [0, 0]);
    let much = changed(2_000);
    let found = findings(&much, text);
    assert_eq!(stale(&found), [1, 1]);
    assert!(found.0.iter().any(|f| f.message.starts_with("2,000 elements of ")), "{found:?}");
    // Taken anew they are of all.
    assert_eq!(stale(&findings(&folded(&much), text)), [0, 0]);
}
