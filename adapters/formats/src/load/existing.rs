//! Elements that already exist: whether a row agrees with one, and the changes it makes.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use graphodrome_graph::{Dense, GraphError, Snapshot, Transaction, Value};

use crate::load::index::{NewEdge, NewNode, NewRows};
use crate::mapping::Existing;

/// Where a property's value lies once later rows have changed it; `None` where it was removed.
pub(crate) type MovedValues = BTreeMap<Arc<str>, Option<NewNode>>;

pub(crate) type Values = Vec<(Arc<str>, Value)>;

/// What the rows of a load change of elements that were there, or that earlier rows made.
#[derive(Default)]
pub(crate) struct Changed {
    /// The graph's nodes and edges with all their properties as they will be.
    pub nodes: BTreeMap<Dense, Values>,
    pub edges: BTreeMap<Dense, Values>,
    /// New nodes by their place among the new.
    pub moved: HashMap<u32, MovedValues>,
    /// New edges by table, rule, chunk and row: later rows of their rule that change them.
    pub moved_edges: HashMap<(usize, usize, u32, u32), Vec<NewEdge>>,
}

/// What becomes of a row whose element is there.
pub(crate) enum Verdict {
    /// It changes nothing.
    Agrees,
    Changes,
    /// The property, the row's value and the one known.
    Differs(Arc<str>, Value, Value),
}

/// What a row gives of a property.
pub(crate) struct Given {
    pub name: Arc<str>,
    pub value: Value,
}

/// How a row and the element that is there go together. `own` are the names of the element's properties.
pub(crate) fn judge(
    existing: Existing, given: &[Given], known: impl Fn(&str) -> Value, own: impl Fn() -> Vec<Arc<str>>,
) -> Verdict {
    let whole = existing == Existing::Replace;
    let differs = |g: &&Given| (whole || !g.value.is_null()) && g.value != known(&g.name);
    let first = given.iter().find(differs);
    match (existing, first) {
        (Existing::Keep, _) => Verdict::Agrees,
        (Existing::Reject, Some(g)) => Verdict::Differs(g.name.clone(), g.value.clone(), known(&g.name)),
        (Existing::Update | Existing::Replace, Some(_)) => Verdict::Changes,
        (Existing::Replace, None) if own().iter().any(|n| !given.iter().any(|g| g.name == *n)) => {
            Verdict::Changes
        }
        (_, None) => Verdict::Agrees,
    }
}

/// The properties of an element after a row has changed it.
pub(crate) fn after(existing: Existing, mut before: Values, given: &[Given]) -> Values {
    if existing == Existing::Replace {
        return given
            .iter()
            .map(|g| (g.name.clone(), g.value.clone()))
            .filter(|(_, v)| !v.is_null())
            .collect();
    }
    for g in given.iter().filter(|g| !g.value.is_null()) {
        match before.iter_mut().find(|(name, _)| *name == g.name) {
            Some((_, value)) => *value = g.value.clone(),
            None => before.push((g.name.clone(), g.value.clone())),
        }
    }
    before
}

impl Changed {
    /// A node's property as the rows so far have it.
    pub fn node_value(&self, node: Dense, name: &str, rows: &NewRows<'_>, snapshot: &Snapshot) -> Value {
        if let Some(new) = rows.get(node) {
            let moved = self.moved.get(&(node - rows.existing)).and_then(|moved| moved.get(name));
            return match moved {
                Some(place) => place
                    .as_ref()
                    .and_then(|place| rows.column_at(place, name))
                    .map_or(Value::Null, |(column, row)| column.value(row)),
                None => rows.column_at(new, name).map_or(Value::Null, |(column, row)| column.value(row)),
            };
        }
        match self.nodes.get(&node) {
            Some(values) => value_of(values, name),
            None => snapshot.read_node(node, &snapshot.node_reader(name)),
        }
    }

    /// Names of a node's properties that have a value.
    pub fn node_names(&self, node: Dense, rows: &NewRows<'_>, snapshot: &Snapshot) -> Vec<Arc<str>> {
        if let Some(new) = rows.get(node) {
            let plan = &rows.plans[new.table as usize].nodes[new.rule as usize];
            let mut names: Vec<Arc<str>> =
                plan.properties.iter().filter(|p| !p.is_id()).map(|p| p.name.clone()).collect();
            names.extend(self.moved.get(&(node - rows.existing)).into_iter().flat_map(|m| m.keys().cloned()));
            names.sort();
            names.dedup();
            names.retain(|name| !self.node_value(node, name, rows, snapshot).is_null());
            return names;
        }
        match self.nodes.get(&node) {
            Some(values) => values.iter().map(|(name, _)| name.clone()).collect(),
            None => snapshot.node_properties(node).iter().map(|(name, _)| name.clone()).collect(),
        }
    }

    pub fn change_node(
        &mut self, node: Dense, existing: Existing, given: &[Given], row: NewNode, rows: &NewRows<'_>,
        snapshot: &Snapshot,
    ) {
        if rows.get(node).is_some() {
            let before = match existing {
                Existing::Replace => self.node_names(node, rows, snapshot),
                _ => vec![],
            };
            let moved = self.moved.entry(node - rows.existing).or_default();
            moved.extend(before.into_iter().map(|name| (name, None)));
            let kept = given.iter().filter(|g| !g.value.is_null());
            moved.extend(kept.map(|g| (g.name.clone(), Some(row))));
            return;
        }
        let before = self.nodes.remove(&node).unwrap_or_else(|| snapshot.node_properties(node).to_vec());
        self.nodes.insert(node, after(existing, before, given));
    }

    pub fn edge_value(&self, edge: Dense, name: &str, snapshot: &Snapshot) -> Value {
        match self.edges.get(&edge) {
            Some(values) => value_of(values, name),
            None => snapshot.read_edge(edge, &snapshot.edge_reader(name)),
        }
    }

    pub fn edge_names(&self, edge: Dense, snapshot: &Snapshot) -> Vec<Arc<str>> {
        match self.edges.get(&edge) {
            Some(values) => values.iter().map(|(name, _)| name.clone()).collect(),
            None => snapshot.edge_properties(edge).iter().map(|(name, _)| name.clone()).collect(),
        }
    }

    pub fn change_edge(&mut self, edge: Dense, existing: Existing, given: &[Given], snapshot: &Snapshot) {
        let before = self.edges.remove(&edge).unwrap_or_else(|| snapshot.edge_properties(edge).to_vec());
        self.edges.insert(edge, after(existing, before, given));
    }

    /// The graph with its own elements changed; what changes them, for the log.
    pub fn apply(
        &mut self, snapshot: &Snapshot,
    ) -> Result<Option<(Snapshot, Vec<graphodrome_graph::Change>)>, GraphError> {
        if self.nodes.is_empty() && self.edges.is_empty() {
            return Ok(None);
        }
        let mut transaction = Transaction::new(snapshot.clone());
        for (node, values) in std::mem::take(&mut self.nodes) {
            transaction.change_node(node, snapshot.node_labels(node), values)?;
        }
        for (edge, values) in std::mem::take(&mut self.edges) {
            transaction.change_edge(edge, snapshot.edge_labels(edge), values)?;
        }
        transaction.finish().map(Some)
    }
}

fn value_of(values: &Values, name: &str) -> Value {
    values.iter().find(|(n, _)| **n == *name).map_or(Value::Null, |(_, v)| v.clone())
}
