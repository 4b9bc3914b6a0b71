//! Drafts of tables with a few mistakes: the model equals that of the clean tables, violations are reported, and
//! the load rejects exactly the violating rows. Tables without a key become edges.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::fmt::Write;
use std::sync::Arc;

use graphodrome_formats::{Draft, DraftTable, Mapping, Progress, Source, TableFormat, draft, load};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use graphodrome_records::RejectKind;

const LIMIT: u64 = 1 << 30;

/// Pumps, the makers of their parts, and which part is in which pump.
fn tables(more_parts: &str, more_uses: &str) -> BTreeMap<String, Arc<Source>> {
    let mut makers = String::from("maker_id,name,since\n");
    (1..=40).for_each(|i| writeln!(makers, "{i},Maker {i},{}", 1950 + i).unwrap());
    let mut parts = String::from("gtin,title,maker_id,year\n");
    (0..300)
        .for_each(|i| writeln!(parts, "978-{},Part {i},{},{}", 1000 + i, i % 40 + 1, 1990 + i % 30).unwrap());
    parts += more_parts;
    let mut pumps = String::from("pump_no,site,built\n");
    (0..120).for_each(|i| writeln!(pumps, "P{i:04},Site {i},20{:02}-03-1{}", 10 + i % 15, i % 9).unwrap());
    let mut uses = String::from("gtin,pump_no,put_in\n");
    (0..900).for_each(|i| {
        writeln!(uses, "978-{},P{:04},2024-0{}-1{}", 1000 + i * 7 % 300, i * 11 % 120, i % 9 + 1, i % 9)
            .unwrap()
    });
    uses += more_uses;
    let named = [("makers.csv", makers), ("parts.csv", parts), ("pumps.csv", pumps), ("uses.csv", uses)];
    named.into_iter().map(|(name, text)| (name.into(), Arc::new(Source::Bytes(text.into_bytes())))).collect()
}

fn drafted(tables: &BTreeMap<String, Arc<Source>>) -> Draft {
    let table = |(file, source): (&String, &Arc<Source>)| DraftTable {
        file: file.clone(),
        format: TableFormat::Csv,
        source: source.clone(),
        declared: None,
    };
    draft("pumps", &tables.iter().map(table).collect::<Vec<_>>(), LIMIT).unwrap()
}

/// The model without its comments.
fn types(draft: &Draft) -> Vec<String> {
    let lines = draft.model.lines().map(str::trim).filter(|line| line.starts_with('('));
    let mut types: Vec<String> = lines.map(|line| line.trim_end_matches(',').to_string()).collect();
    types.sort();
    types
}

/// Nodes and edges that the drafted load makes, and how many rows it rejects of each kind.
fn loaded(draft: &Draft, tables: &BTreeMap<String, Arc<Source>>) -> (u64, u64, BTreeMap<RejectKind, u64>) {
    let statements = parse(&draft.model).unwrap();
    let definition = statements.into_iter().find_map(|statement| match statement {
        Statement::CreateGraphType { definition, .. } => Some(*definition),
        _ => None,
    });
    let empty = Snapshot::empty(Some(Arc::new(definition.unwrap()))).unwrap();
    let mapping = Mapping::parse(&draft.mapping).unwrap();
    let outcome = load(&mapping, tables, &empty, LIMIT, &Progress::default()).unwrap();
    let mut rejects = BTreeMap::new();
    outcome.rejects.iter().for_each(|reject| *rejects.entry(reject.kind).or_default() += 1);
    let (parts, _) = outcome.parts.unwrap();
    let nodes = parts.nodes.iter().map(|part| part.len as u64).sum();
    let edges = parts.edges.iter().map(|part| part.forward.len() as u64).sum();
    (nodes, edges, rejects)
}

#[test]
fn a_few_rows_that_break_a_key_change_no_model() {
    let clean = tables("", "");
    let expected = drafted(&clean);
    assert_eq!(expected.remarks, Vec::<String>::new());
    let model = types(&expected);
    assert!(model.iter().any(|t| t.contains("(Part :Part") && t.ends_with("KEY (gtin))")), "{model:#?}");
    assert_eq!((expected.node_types, expected.edge_types), (3, 2), "{model:#?}");
    let (nodes, edges, rejects) = loaded(&expected, &clean);
    assert_eq!((nodes, edges, rejects.len()), (460, 1200, 0));

    // A number that comes twice, one that is missing, and a use of a part that nobody has.
    let dirty = tables("978-1005,Part 5 again,3,1999\n,Part without,4,2001\n", "978-9999,P0001,2024-01-01\n");
    let draft = drafted(&dirty);
    let keyed = |types: Vec<String>| -> Vec<String> {
        types.into_iter().map(|t| t.replace(" NOT NULL", "")).collect()
    };
    assert_eq!(keyed(types(&draft)), keyed(model), "{}", draft.model);
    let said = draft.remarks.join("\n");
    assert!(said.contains("parts.csv: 2 of 302 rows have no gtin, or one that another row has"), "{said}");
    let (nodes, edges, rejects) = loaded(&draft, &dirty);
    // The second row of a number is no part, and still says of that part who made it.
    assert_eq!((nodes, edges), (460, 1201), "{rejects:?}\n{}", draft.mapping);
    assert!(rejects.values().sum::<u64>() >= 3, "{rejects:?}");
    assert!(rejects.contains_key(&RejectKind::NoSuchNode), "{rejects:?}");
}

#[test]
fn many_rows_that_break_it_make_it_none() {
    // One in ten numbers comes twice: these are not the key.
    let mut again = String::new();
    (0..40).for_each(|i| writeln!(again, "978-{},Part again {i},3,1999", 1000 + i).unwrap());
    let draft = drafted(&tables(&again, ""));
    assert!(
        !types(&draft).iter().any(|t| t.ends_with("KEY (gtin))") && t.contains("title")),
        "{}",
        draft.model
    );
    assert!(!draft.remarks.join("\n").contains("is taken for the key all the same"), "{:?}", draft.remarks);
}

#[test]
fn a_name_of_its_own_is_kept_as_the_key() {
    // The maker's number names them all: a name that comes twice changes nothing.
    let mut makers = String::from("maker_id,name,since\n");
    (1..=40).for_each(|i| writeln!(makers, "{i},Maker {},{}", i.min(39), 1950 + i).unwrap());
    let mut dirty = tables("", "");
    dirty.insert("makers.csv".into(), Arc::new(Source::Bytes(makers.into_bytes())));
    let draft = drafted(&dirty);
    assert!(
        types(&draft).iter().any(|t| t.contains("(Maker :Maker") && t.ends_with("KEY (maker_id))")),
        "{}",
        draft.model
    );
    assert_eq!(draft.remarks, Vec::<String>::new());
}

fn csv(named: [(&str, String); 3]) -> BTreeMap<String, Arc<Source>> {
    named.into_iter().map(|(name, text)| (name.into(), Arc::new(Source::Bytes(text.into_bytes())))).collect()
}

/// Deliveries between depots by hauliers: no column names one, the hour is written in the planned time, and the year never
/// changes.
fn deliveries() -> BTreeMap<String, Arc<Source>> {
    let mut depots = String::from("depot,town,height\n");
    (0..40).for_each(|i| writeln!(depots, "D{i:02},Town {i},{}", 10 + i * 7 % 200).unwrap());
    let mut hauliers = String::from("haulier,full_name\n");
    (0..12).for_each(|i| writeln!(hauliers, "H{i},Haulier {i}").unwrap());
    let mut deliveries = String::from("year,month,planned,hour,minute,haulier,origin,dest,minutes,km\n");
    for i in 0..4000 {
        let (hour, minute) = (5 + i * 13 % 15, i * 7 % 12 * 5);
        let (from, to) = (i * 17 % 40, (i * 29 + 3) % 41);
        writeln!(
            deliveries,
            "2024,{},{},{hour},{minute},H{},D{from:02},D{to:02},{},{}",
            i % 12 + 1,
            hour * 100 + minute,
            i * 5 % 12,
            20 + i % 300,
            from * to % 90 + 1
        )
        .unwrap();
    }
    csv([("depots.csv", depots), ("hauliers.csv", hauliers), ("deliveries.csv", deliveries)])
}

#[test]
fn rows_without_a_key_connect_what_they_refer_to() {
    let tables = deliveries();
    let draft = drafted(&tables);
    let model = types(&draft);
    assert_eq!((draft.node_types, draft.edge_types), (2, 1), "{model:#?}");
    let edge = model.iter().find(|t| t.contains("]->")).unwrap();
    assert!(edge.starts_with("(Depot)-[:DELIVERY {") && edge.ends_with("}]->(Depot)"), "{edge}");
    for column in ["year", "month", "planned", "hour", "minute", "haulier", "minutes", "km"] {
        assert!(edge.contains(&format!("{column} ")), "{column} is missing: {edge}");
    }
    assert!(draft.model.contains("refers to a third, kept as a property: haulier"), "{}", draft.model);
    // Each row is an edge, however often two depots come together; a destination that nobody has is refused.
    let (nodes, edges, rejects) = loaded(&draft, &tables);
    let refused = rejects.get(&RejectKind::NoSuchNode).copied().unwrap_or(0);
    assert_eq!((nodes, edges + refused), (52, 4000), "{rejects:?}\n{}", draft.mapping);
    assert!((1..200).contains(&refused), "{rejects:?}");
}

#[test]
fn the_ends_of_an_edge_are_columns_that_refer_to_nodes() {
    // The times of a trip are called as its stations are.
    let mut stations = String::from("station_id,place\n");
    (1..=30).for_each(|i| writeln!(stations, "{},Place {i}", 100 + i).unwrap());
    let mut trips = String::from("start_time,end_time,start_station_id,end_station_id,rider\n");
    (0..600).for_each(|i| {
        let at = format!("2024-05-{:02}T1{}:{:02}:00Z", i % 28 + 1, i % 9, i % 60);
        writeln!(trips, "{at},{at},{},{},{}", 101 + i * 7 % 30, 101 + i * 11 % 30, i % 45).unwrap();
    });
    let draft = drafted(&csv([
        ("stations.csv", stations),
        ("trips.csv", trips),
        ("hire_points.csv", String::from("hire_point,open\nA,yes\nB,no\n")),
    ]));
    let model = types(&draft);
    let edge = model.iter().find(|t| t.contains("]->")).unwrap_or_else(|| panic!("{model:#?}"));
    assert!(
        edge.starts_with("(Station)-[:TRIP {") && edge.contains("start_time") && edge.contains("end_time"),
        "{edge}"
    );
    assert!(!edge.contains("station_id"), "{edge}");
}

#[test]
fn a_column_called_as_a_key_refers_to_it() {
    // Half of the tags are of machines that nobody has listed.
    let mut machines = String::from("tag,maker\n");
    (0..100).for_each(|i| writeln!(machines, "T-{i},Maker {}", i % 7).unwrap());
    let mut visits = String::from("visit_no,tag,note\n");
    (0..400).for_each(|i| writeln!(visits, "V{i},T-{},Note {i}", i % 160).unwrap());
    let draft = drafted(&csv([
        ("machines.csv", machines),
        ("visits.csv", visits),
        ("offices.csv", String::from("office,open\nA,yes\nB,no\n")),
    ]));
    let model = types(&draft);
    assert!(model.iter().any(|t| t == "(Visit)-[:TAG]->(Machine)"), "{model:#?}");
    assert!(draft.model.contains("62.5 % of tag are among tag of machines.csv"), "{}", draft.model);
}
