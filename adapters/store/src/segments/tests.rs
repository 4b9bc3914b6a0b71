#![allow(clippy::unwrap_used)]

use super::*;
use graphodrome_graph::{
    Base, NewEdge, NewNode, Snapshot, Transaction, Value, ValueType, label_set, parse_text,
};

/// A value of every type that can be stored.
fn values() -> Vec<Value> {
    let parse = |wanted: ValueType, text: &str| parse_text(&wanted, text).unwrap();
    vec![
        Value::Null,
        Value::Bool(true),
        Value::Int(i64::MIN),
        Value::Float(-0.5),
        parse(ValueType::Decimal { precision: 10, scale: 2 }, "12.50"),
        Value::text("Älder"),
        parse(ValueType::Bytes { min: 0, max: None }, "00ff"),
        parse(ValueType::Date, "1899-12-31"),
        parse(ValueType::LocalTime, "13:45:10.5"),
        parse(ValueType::ZonedTime, "13:45:10+02:00"),
        parse(ValueType::LocalDateTime, "2024-05-31T13:45:10"),
        parse(ValueType::ZonedDateTime, "2024-05-31T13:45:10+01:00"),
        parse(ValueType::Duration, "P1Y2M3DT4H"),
        Value::list(vec![Value::Int(1), Value::text("x"), Value::Null]),
        Value::Record(vec![("a".into(), Value::Int(1))].into()),
    ]
}

fn graph() -> Snapshot {
    let mut t = Transaction::new(Snapshot::empty(None).unwrap());
    let mut last = None;
    for value in values() {
        for label in ["A", "B"] {
            let properties = vec![
                ("mixed".into(), value.clone()),
                (format!("p{}", value.type_name()).as_str().into(), value.clone()),
            ];
            let node = t.insert_node(NewNode { labels: label_set([label]), properties }).unwrap();
            if let Some(source) = last.replace(node) {
                let properties = vec![("mixed".into(), value.clone())];
                let directed = label == "A";
                t.insert_edge(NewEdge {
                    labels: label_set(["E"]),
                    properties,
                    directed,
                    source,
                    target: node,
                })
                .unwrap();
            }
        }
    }
    t.finish().unwrap().0
}

fn shown(snapshot: &Snapshot) -> Vec<String> {
    let nodes = (0..snapshot.node_bound())
        .map(|n| format!("{} {:?}", snapshot.node_id(n), snapshot.node_properties(n)));
    let edges = (0..snapshot.edge_bound()).map(|e| {
        let (a, b) = snapshot.edge_ends(e);
        let ends = (snapshot.node_id(a), snapshot.node_id(b));
        format!(
            "{} {ends:?} {:?} {:?}",
            snapshot.edge_id(e),
            snapshot.edge_directed(e),
            snapshot.edge_properties(e)
        )
    });
    let mut all: Vec<String> = nodes.chain(edges).collect();
    all.sort();
    all
}

/// The snapshot's base stored and read again.
fn restored(before: &Snapshot) -> Snapshot {
    let base = Base::build(before.fold(), &Default::default()).unwrap();
    let outline = Outline::new(base.stored(), &[]).unwrap();
    let layout = outline.layout(&(0..outline.len() as i64).collect::<Vec<_>>());
    let read = |place| read_rows(outline.segment(place).unwrap()).unwrap();
    let mut assembly = Assembly::new(&layout);
    (0..outline.len()).map(read).for_each(|rows| assembly.add(rows).unwrap());
    let read = Base::build(assembly.finish().unwrap(), &Default::default()).unwrap();
    Snapshot::new(Arc::new(read), Default::default(), 1)
}

#[test]
fn every_type_survives_segments_and_the_log() {
    let before = graph();
    assert_eq!(shown(&restored(&before)), shown(&before));

    let mut t = Transaction::new(Snapshot::empty(None).unwrap());
    for value in values() {
        t.insert_node(NewNode { labels: label_set(["A"]), properties: vec![("p".into(), value)] }).unwrap();
    }
    let (after, changes) = t.finish().unwrap();
    let bytes = crate::entries::encode_changes(&changes).unwrap();
    let replayed: Vec<graphodrome_graph::Change> = postcard::from_bytes(&bytes).unwrap();
    let again = Snapshot::empty(None).unwrap().replay(&replayed).unwrap();
    assert_eq!(shown(&again), shown(&after));
}

#[test]
fn a_column_whose_segments_have_different_types_is_read() {
    let mut t = Transaction::new(Snapshot::empty(None).unwrap());
    for row in 0..3 * SEGMENT_ROWS as i64 {
        let value = if row < 2 * SEGMENT_ROWS as i64 { Value::Int(row) } else { Value::text("x") };
        t.insert_node(NewNode { labels: label_set(["A"]), properties: vec![("p".into(), value)] }).unwrap();
    }
    let before = t.finish().unwrap().0;
    assert_eq!(shown(&restored(&before)), shown(&before));
}

#[test]
fn a_flipped_bit_is_found() {
    let base = Base::build(graph().fold(), &Default::default()).unwrap();
    let outline = Outline::new(base.stored(), &[]).unwrap();
    let mut data = outline.segment(0).unwrap();
    assert!(read_rows(data.clone()).is_ok());
    let middle = data.len() / 2;
    data[middle] ^= 1;
    assert!(matches!(read_rows(data), Err(StoreError::Damaged(_))));
}
