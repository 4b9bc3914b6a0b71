//! Elements under a new model, against changing them one by one.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{
    Base, EdgeType, Element, Endpoint, GraphType, LabelSet, NewEdge, NewNode, NodeType, PropertyType,
    Renaming, Schema, Snapshot, Transaction, Value, ValueType, label_set, migrate, violations,
};
use proptest::prelude::*;

type Row = BTreeMap<String, Value>;

/// The elements as plain lists: nodes by their stable id, edges with the ids of their ends.
#[derive(Clone, Debug, Default, PartialEq)]
struct Plain {
    nodes: BTreeMap<u64, (Vec<String>, Row)>,
    edges: BTreeMap<u64, (Vec<String>, Row, bool, u64, u64)>,
}

fn texts(labels: &LabelSet) -> Vec<String> {
    labels.iter().map(|l| l.to_string()).collect()
}

fn plain(s: &Snapshot) -> Plain {
    let row = |p: &[(Arc<str>, Value)]| p.iter().map(|(n, v)| (n.to_string(), v.clone())).collect::<Row>();
    let mut all = Plain::default();
    for n in (0..s.node_bound()).filter(|&n| s.node_exists(n)) {
        all.nodes.insert(s.node_id(n), (texts(&s.node_labels(n)), row(&s.node_properties(n))));
    }
    for e in (0..s.edge_bound()).filter(|&e| s.edge_exists(e)) {
        let (a, b) = s.edge_ends(e);
        let (a, b, directed) = (s.node_id(a), s.node_id(b), s.edge_directed(e));
        let (a, b) = if directed || a <= b { (a, b) } else { (b, a) };
        all.edges
            .insert(s.edge_id(e), (texts(&s.edge_labels(e)), row(&s.edge_properties(e)), directed, a, b));
    }
    all
}

fn property(name: &str, value_type: ValueType) -> PropertyType {
    PropertyType { name: name.into(), value_type, not_null: false, default: None }
}

fn network() -> GraphType {
    let node = |label: &str| NodeType {
        name: Some(label.to_lowercase().into()),
        labels: label_set([label]),
        key_labels: label_set([label]),
        properties: vec![property("p", ValueType::Int(64)), property("q", ValueType::TEXT)],
        key: vec![],
    };
    let edge = |label: &str, directed, from: &str, to: &str| EdgeType {
        name: Some(format!("{from}{label}{to}").into()),
        labels: label_set([label]),
        directed,
        source: Endpoint(vec![label_set([from])]),
        target: Endpoint(vec![label_set([to])]),
        properties: vec![property("w", ValueType::Int(64))],
        key: vec![],
    };
    GraphType {
        name: "t".into(),
        nodes: vec![node("A"), node("B"), node("D")],
        edges: vec![edge("X", true, "A", "B"), edge("X", true, "B", "D"), edge("Y", false, "A", "A")],
        cardinalities: vec![],
    }
}

#[derive(Clone, Debug)]
enum Edit {
    DropProperty(usize),
    AddDefault(usize),
    FillNulls(usize),
    Widen(usize),
    AddLabel(usize),
    DropNodes(usize),
    DropEdges(usize),
    RenameLabel,
    RenameProperty,
}

fn edit() -> impl Strategy<Value = Edit> {
    prop_oneof![
        (0usize..3).prop_map(Edit::DropProperty),
        (0usize..3).prop_map(Edit::AddDefault),
        (0usize..3).prop_map(Edit::FillNulls),
        (0usize..3).prop_map(Edit::Widen),
        (0usize..3).prop_map(Edit::AddLabel),
        (0usize..3).prop_map(Edit::DropNodes),
        (0usize..3).prop_map(Edit::DropEdges),
        Just(Edit::RenameLabel),
        Just(Edit::RenameProperty),
    ]
}

/// Drops an edge type with its edges, where there are others.
fn drop_edges(i: usize, model: &mut GraphType, all: &mut Plain) {
    if model.edges.len() < 3 {
        return;
    }
    let gone = model.edges.remove(i);
    let ends = |labels: &[String], end: &Endpoint| end.0[0].iter().all(|l| labels.contains(&l.to_string()));
    let nodes = all.nodes.clone();
    all.edges.retain(|_, (labels, _, directed, a, b)| {
        let fits = ends(&nodes[a].0, &gone.source) && ends(&nodes[b].0, &gone.target);
        !(*labels == texts(&gone.labels) && *directed == gone.directed && fits)
    });
}

/// Edits each kind at most once, on the model and on the plain elements; what the types are called before the
/// edits finds them.
fn apply(edits: &[Edit], model: &mut GraphType, all: &mut Plain) -> Vec<Renaming> {
    let mut renamings = vec![];
    let mut done: Vec<std::mem::Discriminant<Edit>> = vec![];
    // Renamings come first, as in a file.
    let order = |e: &&Edit| !matches!(e, Edit::RenameLabel | Edit::RenameProperty);
    let mut edits: Vec<&Edit> = edits.iter().collect();
    edits.sort_by_key(order);
    for edit in edits {
        if done.contains(&std::mem::discriminant(edit)) {
            continue;
        }
        done.push(std::mem::discriminant(edit));
        let of = |model: &GraphType, i: usize| model.nodes.get(i).map(|t| texts(&t.labels));
        match edit {
            Edit::RenameLabel => {
                let step =
                    Renaming { element: Element::Node, label: None, from: "B".into(), to: "Bee".into() };
                *model = step.of_type(model).unwrap();
                all.nodes
                    .values_mut()
                    .flat_map(|n| &mut n.0)
                    .filter(|l| *l == "B")
                    .for_each(|l| *l = "Bee".into());
                renamings.push(step);
            }
            Edit::RenameProperty => {
                let step = Renaming {
                    element: Element::Edge,
                    label: Some("X".into()),
                    from: "w".into(),
                    to: "z".into(),
                };
                *model = step.of_type(model).unwrap();
                for (_, row, ..) in all.edges.values_mut().filter(|e| e.0 == ["X"]) {
                    if let Some(value) = row.remove("w") {
                        row.insert("z".into(), value);
                    }
                }
                renamings.push(step);
            }
            Edit::DropProperty(i) => {
                let Some(labels) = of(model, *i) else { continue };
                model.nodes[*i].properties.retain(|p| *p.name != *"q");
                all.nodes.values_mut().filter(|n| n.0 == labels).for_each(|n| drop(n.1.remove("q")));
            }
            Edit::AddDefault(i) => {
                let Some(labels) = of(model, *i) else { continue };
                let default = Some(Value::Bool(true));
                model.nodes[*i].properties.push(PropertyType { default, ..property("r", ValueType::Bool) });
                let nodes = all.nodes.values_mut().filter(|n| n.0 == labels);
                nodes.for_each(|n| drop(n.1.insert("r".into(), Value::Bool(true))));
            }
            Edit::FillNulls(i) => {
                let Some(labels) = of(model, *i) else { continue };
                let p = model.nodes[*i].properties.iter_mut().find(|p| *p.name == *"p").unwrap();
                (p.not_null, p.default) = (true, Some(p.value_type.assign(Value::Int(7))));
                let filled = p.default.clone().unwrap();
                let nodes = all.nodes.values_mut().filter(|n| n.0 == labels);
                nodes.for_each(|n| {
                    n.1.entry("p".into()).or_insert(filled.clone());
                });
            }
            Edit::Widen(i) => {
                let Some(labels) = of(model, *i) else { continue };
                let p = model.nodes[*i].properties.iter_mut().find(|p| *p.name == *"p").unwrap();
                p.value_type = ValueType::Float(64);
                p.default = p.default.take().map(|d| ValueType::Float(64).assign(d));
                for (_, row) in all.nodes.values_mut().filter(|n| n.0 == labels) {
                    if let Some(value) = row.get_mut("p") {
                        *value = ValueType::Float(64).assign(value.clone());
                    }
                }
            }
            Edit::AddLabel(i) => {
                let Some(labels) = of(model, *i) else { continue };
                let new = label_set(labels.iter().map(String::as_str).chain(["C"]));
                model.nodes[*i].labels = new.clone();
                all.nodes.values_mut().filter(|n| n.0 == labels).for_each(|n| n.0 = texts(&new));
            }
            Edit::DropNodes(i) => {
                // Types that were moved by this would be found by another place: it comes for the last alone.
                let Some(labels) = of(model, *i).filter(|_| *i == 2) else { continue };
                model.nodes.remove(*i);
                model.edges.retain(|t| texts(&t.target.0[0]).iter().any(|l| !labels.contains(l)));
                all.nodes.retain(|_, n| n.0 != labels);
                let left = all.nodes.clone();
                all.edges.retain(|_, e| left.contains_key(&e.3) && left.contains_key(&e.4));
            }
            Edit::DropEdges(i) => drop_edges(*i, model, all),
        }
    }
    renamings
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn a_new_model_makes_of_the_elements_what_changing_each_would(
        nodes in prop::collection::vec((0usize..3, prop::option::of(-5i64..5), prop::option::of("[a-c]{1,2}")), 1..20),
        edges in prop::collection::vec((0usize..3, 0usize..99, 0usize..99, prop::option::of(0i64..9)), 0..20),
        edits in prop::collection::vec(edit(), 1..6),
        folded in any::<bool>(),
    ) {
        let old = network();
        let mut transaction = Transaction::new(Snapshot::empty(Some(Arc::new(old.clone()))).unwrap());
        let mut made: Vec<Vec<u32>> = vec![vec![]; 3];
        for (kind, p, q) in nodes {
            let mut properties: Vec<(Arc<str>, Value)> = vec![];
            properties.extend(p.map(|p| (Arc::from("p"), Value::Int(p))));
            properties.extend(q.map(|q| (Arc::from("q"), Value::text(q.as_str()))));
            let labels = old.nodes[kind].labels.clone();
            made[kind].push(transaction.insert_node(NewNode { labels, properties }).unwrap());
        }
        for (kind, a, b, w) in edges {
            let (from, to) = [(0, 1), (1, 2), (0, 0)][kind];
            if made[from].is_empty() || made[to].is_empty() {
                continue;
            }
            let (source, target) = (made[from][a % made[from].len()], made[to][b % made[to].len()]);
            let properties = w.map(|w| (Arc::from("w"), Value::Int(w))).into_iter().collect();
            let t = &old.edges[kind];
            let edge = NewEdge { labels: t.labels.clone(), properties, directed: t.directed, source, target };
            transaction.insert_edge(edge).unwrap();
        }
        let mut snapshot = transaction.finish().unwrap().0;
        if folded {
            let base = Base::build(snapshot.fold(), &snapshot.schema()).unwrap();
            snapshot = Snapshot::new(Arc::new(base), snapshot.schema(), 1);
        }
        let (mut model, mut wanted) = (old, plain(&snapshot));
        let renamings = apply(&edits, &mut model, &mut wanted);
        let before = plain(&snapshot);
        let migration = migrate(&snapshot, &model, &renamings).unwrap();
        let changes = migration.parts.is_some();
        let after = match migration.parts {
            Some(parts) => {
                let schema = Schema { graph_type: Some(Arc::new(model.clone())), ..Schema::default() };
                Snapshot::new(Arc::new(Base::build(parts, &schema).unwrap()), schema, 2)
            }
            None => snapshot.clone(),
        };
        // As shown: 0 and 0.0 are equal and not the same.
        let shown = |p: &Plain| format!("{p:#?}");
        prop_assert_eq!(shown(&plain(&after)), shown(&wanted), "{:?}", edits);
        prop_assert_eq!(changes, shown(&before) != shown(&wanted), "parts are made where something changes");
        prop_assert_eq!(violations(&after, &model, &|| Ok(())).unwrap(), vec![]);
        let count = |p: &Plain| {
            let values = p.nodes.values().map(|n| n.1.len()).sum::<usize>();
            (p.nodes.len() + p.edges.len(), values)
        };
        let lost: u64 = migration.differences.iter().map(|d| d.lost).sum();
        let gone = before.nodes.keys().filter(|id| !wanted.nodes.contains_key(id)).count()
            + before.edges.keys().filter(|id| !wanted.edges.contains_key(id)).count();
        let dropped: usize = before.nodes.iter().filter_map(|(id, n)| Some((n, wanted.nodes.get(id)?)))
            .filter(|(old, new)| old.1.contains_key("q") && !new.1.contains_key("q")).count();
        prop_assert_eq!(lost, (gone + dropped) as u64, "{:?} of {:?}", edits, count(&before));
    }
}
