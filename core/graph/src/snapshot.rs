//! A graph at one version: a base and what changed since. Immutable and cheap to clone; readers take
//! one and never see half a commit.

use std::sync::Arc;

use crate::base::Base;
use crate::overlay::{EdgeRecord, NodeRecord, Overlay};
use crate::properties::{Properties, get_property};
use crate::{BaseParts, Column, Created, Measure, Schema, WholeNumbers};
use crate::{
    BoundDefinition, Dense, Element, ElementId, GraphError, GraphType, KeyDefinition, LabelExpression,
    LabelSet, Value, ViewDefinition,
};

#[derive(Clone, Debug)]
pub struct Snapshot {
    pub version: u64,
    pub base: Arc<Base>,
    pub graph_type: Option<Arc<GraphType>>,
    /// In the order of the base's key indexes.
    pub keys: Vec<Arc<KeyDefinition>>,
    /// In the order of the base's range indexes.
    pub indexes: Vec<Arc<KeyDefinition>>,
    pub views: Vec<Arc<ViewDefinition>>,
    /// In the order of the base's distance bounds.
    pub bounds: Vec<Arc<BoundDefinition>>,
    pub(crate) overlay: Overlay,
}

/// Which nodes a label expression takes: decided once per base table.
#[derive(Clone, Debug, PartialEq)]
pub struct NodeTest {
    pub expression: Option<LabelExpression>,
    pub tables: Vec<bool>,
    all: bool,
}

/// Which edges a label expression takes.
#[derive(Clone, Debug)]
pub struct EdgeTest {
    pub expression: Option<LabelExpression>,
    pub tables: Vec<usize>,
}

/// A property of nodes or edges with its column found once per table.
#[derive(Clone, Debug)]
pub struct PropertyReader {
    pub name: Arc<str>,
    columns: Vec<Option<usize>>,
}

/// The columns of a property: of each table its first number and, where it has the property, the numbers.
pub type NumbersByTable<'a> = Vec<(Dense, Option<WholeNumbers<'a>>)>;

/// The columns of a property: of each table its first number and, where it has the property, the column.
pub type ColumnsByTable<'a> = Vec<(Dense, Option<&'a Column>)>;

impl PropertyReader {
    /// The column of a table.
    pub(crate) fn place(&self, table: usize) -> Option<usize> {
        self.columns[table]
    }
}

fn numbers<'a>(
    tables: impl Iterator<Item = (Dense, &'a Vec<(Arc<str>, Column)>)>, reader: &PropertyReader,
    of: fn(&Column) -> Option<WholeNumbers<'_>>,
) -> Option<NumbersByTable<'a>> {
    let mut found = vec![];
    for ((first, columns), place) in tables.zip(&reader.columns) {
        found.push(match place {
            Some(place) => (first, Some(of(&columns[*place].1)?)),
            None => (first, None),
        });
    }
    Some(found)
}

impl Snapshot {
    pub fn new(base: Arc<Base>, schema: Schema, version: u64) -> Self {
        let node_ids = base.nodes.iter().map(|t| t.ids.bound(t.len)).max().unwrap_or(0);
        let edge_ids = base.edges.iter().map(|t| t.ids.bound(t.len)).max().unwrap_or(0);
        let overlay = Overlay::new(base.node_count(), base.edge_count(), node_ids, edge_ids, &schema);
        let Schema { graph_type, keys, indexes, views, bounds } = schema;
        Snapshot { version, base, graph_type, keys, indexes, views, bounds, overlay }
    }

    pub fn empty(graph_type: Option<Arc<GraphType>>) -> Result<Self, GraphError> {
        Snapshot::empty_with(Schema::new(graph_type, Created::default()))
    }

    pub fn empty_with(schema: Schema) -> Result<Self, GraphError> {
        let base = Base::build(BaseParts::default(), &schema)?;
        Ok(Snapshot::new(Arc::new(base), schema, 0))
    }

    /// Never hand out ids below these (deleted elements keep theirs).
    pub fn reserve_ids(&mut self, nodes: ElementId, edges: ElementId) {
        self.overlay.next_node_id = self.overlay.next_node_id.max(nodes);
        self.overlay.next_edge_id = self.overlay.next_edge_id.max(edges);
    }

    pub fn next_ids(&self) -> (ElementId, ElementId) {
        (self.overlay.next_node_id, self.overlay.next_edge_id)
    }

    pub fn node_count(&self) -> u64 {
        self.overlay.live_nodes
    }

    pub fn edge_count(&self) -> u64 {
        self.overlay.live_edges
    }

    /// One more than the greatest dense node number: the size of a visited set.
    pub fn node_bound(&self) -> Dense {
        self.overlay.next_node
    }

    pub fn edge_bound(&self) -> Dense {
        self.overlay.next_edge
    }

    /// How many label sets the overlay has seen: while that and the base are the same, so is every
    /// conclusion from which label sets there are.
    pub fn overlay_label_sets(&self) -> usize {
        self.overlay.label_sets.len()
    }

    pub fn overlay_len(&self) -> usize {
        self.overlay.len()
    }

    #[inline]
    fn node_record(&self, id: Dense) -> Option<&Option<Arc<NodeRecord>>> {
        if self.overlay.touched.has(id) { self.overlay.nodes.get(&id) } else { None }
    }

    #[inline]
    pub(crate) fn edge_record(&self, id: Dense) -> Option<&Option<Arc<EdgeRecord>>> {
        if self.overlay.touched_edges.has(id) { self.overlay.edges.get(&id) } else { None }
    }

    pub fn node_exists(&self, id: Dense) -> bool {
        match self.node_record(id) {
            Some(record) => record.is_some(),
            None => id < self.base.node_count(),
        }
    }

    pub fn edge_exists(&self, id: Dense) -> bool {
        match self.edge_record(id) {
            Some(record) => record.is_some(),
            None => id < self.base.edge_count(),
        }
    }

    /// Id, direction and ends of an edge; `None` where it is not there.
    pub(crate) fn edge_identity(&self, id: Dense) -> Option<(ElementId, bool, (Dense, Dense))> {
        match self.edge_record(id) {
            Some(record) => record.as_ref().map(|r| (r.id, r.directed, (r.source, r.target))),
            None if id < self.base.edge_count() => {
                let table = &self.base.edges[self.base.edge_table(id)];
                let position = (id - table.first) as usize;
                Some((table.ids.get(position), table.directed, table.ends(position)))
            }
            None => None,
        }
    }

    /// The state of an edge as the overlay holds it; `None` where it does not, or the edge is gone.
    pub(crate) fn changed_edge(&self, id: Dense) -> Option<Arc<EdgeRecord>> {
        self.edge_record(id).cloned().flatten()
    }

    /// The whole state of an edge; `None` where it is not there.
    pub(crate) fn edge_state(&self, id: Dense) -> Option<Arc<EdgeRecord>> {
        if let Some(record) = self.edge_record(id) {
            return record.clone();
        }
        let (stable, directed, (source, target)) = self.edge_identity(id)?;
        let (labels, properties) = (self.edge_labels(id), self.edge_properties(id));
        Some(Arc::new(EdgeRecord { id: stable, labels, properties, directed, source, target }))
    }

    /// Labels of a live node.
    pub fn node_labels(&self, id: Dense) -> LabelSet {
        match self.node_record(id) {
            Some(Some(record)) => record.labels.clone(),
            Some(None) => Arc::from([]),
            None => self.base.nodes[self.base.node_table(id)].labels.clone(),
        }
    }

    pub fn edge_labels(&self, id: Dense) -> LabelSet {
        match self.edge_record(id) {
            Some(Some(record)) => record.labels.clone(),
            Some(None) => Arc::from([]),
            None => self.base.edges[self.base.edge_table(id)].labels.clone(),
        }
    }

    pub fn edge_directed(&self, id: Dense) -> bool {
        match self.edge_record(id) {
            Some(Some(record)) => record.directed,
            Some(None) => true,
            None => self.base.edges[self.base.edge_table(id)].directed,
        }
    }

    /// Source and target; for an undirected edge its two ends.
    pub fn edge_ends(&self, id: Dense) -> (Dense, Dense) {
        match self.edge_record(id) {
            Some(Some(record)) => (record.source, record.target),
            _ if id < self.base.edge_count() => {
                let table = &self.base.edges[self.base.edge_table(id)];
                table.ends((id - table.first) as usize)
            }
            _ => (0, 0),
        }
    }

    pub fn node_id(&self, id: Dense) -> ElementId {
        match self.overlay.nodes.get(&id) {
            Some(Some(record)) => record.id,
            _ if id < self.base.node_count() => {
                let table = &self.base.nodes[self.base.node_table(id)];
                table.ids.get((id - table.first) as usize)
            }
            _ => ElementId::MAX,
        }
    }

    pub fn edge_id(&self, id: Dense) -> ElementId {
        match self.overlay.edges.get(&id) {
            Some(Some(record)) => record.id,
            _ if id < self.base.edge_count() => {
                let table = &self.base.edges[self.base.edge_table(id)];
                table.ids.get((id - table.first) as usize)
            }
            _ => ElementId::MAX,
        }
    }

    pub fn node_by_id(&self, id: ElementId) -> Option<Dense> {
        let dense = self.overlay.nodes_by_id.get(&id).copied().or_else(|| self.base.node_by_id(id))?;
        self.node_exists(dense).then_some(dense)
    }

    pub fn edge_by_id(&self, id: ElementId) -> Option<Dense> {
        let dense = self.overlay.edges_by_id.get(&id).copied().or_else(|| self.base.edge_by_id(id))?;
        self.edge_exists(dense).then_some(dense)
    }

    /// All properties of a node that are not null, by name.
    pub fn node_properties(&self, id: Dense) -> Properties {
        match self.node_record(id) {
            Some(Some(record)) => record.properties.clone(),
            Some(None) => Arc::from([]),
            None => {
                let table = &self.base.nodes[self.base.node_table(id)];
                row_properties(&table.columns, (id - table.first) as usize)
            }
        }
    }

    pub fn edge_properties(&self, id: Dense) -> Properties {
        match self.edge_record(id) {
            Some(Some(record)) => record.properties.clone(),
            Some(None) => Arc::from([]),
            None => {
                let table = &self.base.edges[self.base.edge_table(id)];
                row_properties(&table.columns, (id - table.first) as usize)
            }
        }
    }

    pub fn node_reader(&self, name: &str) -> PropertyReader {
        let columns = self.base.nodes.iter().map(|t| position(&t.columns, name)).collect();
        PropertyReader { name: name.into(), columns }
    }

    pub fn edge_reader(&self, name: &str) -> PropertyReader {
        let columns = self.base.edges.iter().map(|t| position(&t.columns, name)).collect();
        PropertyReader { name: name.into(), columns }
    }

    #[inline]
    pub fn read_node(&self, id: Dense, reader: &PropertyReader) -> Value {
        match self.node_record(id) {
            Some(Some(record)) => get_property(&record.properties, &reader.name),
            Some(None) => Value::Null,
            None => {
                let t = self.base.node_table(id);
                let table = &self.base.nodes[t];
                reader.columns[t]
                    .map_or(Value::Null, |c| table.columns[c].1.value((id - table.first) as usize))
            }
        }
    }

    #[inline]
    pub fn read_edge(&self, id: Dense, reader: &PropertyReader) -> Value {
        match self.edge_record(id) {
            Some(Some(record)) => get_property(&record.properties, &reader.name),
            Some(None) => Value::Null,
            None => {
                let t = self.base.edge_table(id);
                let table = &self.base.edges[t];
                reader.columns[t]
                    .map_or(Value::Null, |c| table.columns[c].1.value((id - table.first) as usize))
            }
        }
    }

    /// The column of a node's property with its row there, `None` in it where its table has no such property; the outer
    /// `None` where the node was changed or made since the base, and [`Self::read_node`] must be asked.
    #[inline]
    pub fn node_cell(&self, id: Dense, reader: &PropertyReader) -> Option<Option<(&Column, usize)>> {
        if self.node_record(id).is_some() {
            return None;
        }
        let t = self.base.node_table(id);
        let table = &self.base.nodes[t];
        Some(reader.columns[t].map(|c| (&table.columns[c].1, (id - table.first) as usize)))
    }

    /// [`Self::node_cell`] of an edge.
    #[inline]
    pub fn edge_cell(&self, id: Dense, reader: &PropertyReader) -> Option<Option<(&Column, usize)>> {
        if self.edge_record(id).is_some() {
            return None;
        }
        let t = self.base.edge_table(id);
        let table = &self.base.edges[t];
        Some(reader.columns[t].map(|c| (&table.columns[c].1, (id - table.first) as usize)))
    }

    /// A whole number of a node of the base, or null; `None` where [`Self::read_node`] must be asked.
    #[inline]
    pub fn node_int(&self, id: Dense, reader: &PropertyReader) -> Option<Option<i64>> {
        if self.node_record(id).is_some() {
            return None;
        }
        let t = self.base.node_table(id);
        let table = &self.base.nodes[t];
        match reader.columns[t] {
            None => Some(None),
            Some(c) => table.columns[c].1.int((id - table.first) as usize),
        }
    }

    /// A whole number of an edge of the base, or null; `None` where [`Self::read_edge`] must be asked.
    #[inline]
    pub fn edge_int(&self, id: Dense, reader: &PropertyReader) -> Option<Option<i64>> {
        if self.edge_record(id).is_some() {
            return None;
        }
        let t = self.base.edge_table(id);
        let table = &self.base.edges[t];
        match reader.columns[t] {
            None => Some(None),
            Some(c) => table.columns[c].1.int((id - table.first) as usize),
        }
    }

    /// A property of the base's nodes by table, with the table's first number; `None` where some are not whole numbers. Of
    /// which nodes it tells [`Self::node_is_base`] says.
    pub fn node_numbers(&self, reader: &PropertyReader) -> Option<NumbersByTable<'_>> {
        let tables = self.base.nodes.iter().map(|t| (t.first, &t.columns));
        numbers(tables, reader, Column::whole_numbers)
    }

    /// [`Self::node_numbers`] of edges.
    pub fn edge_numbers(&self, reader: &PropertyReader) -> Option<NumbersByTable<'_>> {
        let tables = self.base.edges.iter().map(|t| (t.first, &t.columns));
        numbers(tables, reader, Column::whole_numbers)
    }

    /// Numbers of a property that compare as its values do, by table, and what they count: of the first table that has
    /// the property, and of the others the same.
    pub fn measured(
        &self, element: Element, reader: &PropertyReader,
    ) -> Option<(Measure, NumbersByTable<'_>)> {
        let columns = match element {
            Element::Node => self.node_columns(reader),
            Element::Edge => self.edge_columns(reader),
        };
        let (measure, _) = columns.iter().find_map(|(_, column)| *column)?.measured()?;
        let mut found = vec![];
        for (first, column) in columns {
            let numbers = match column.map(Column::measured) {
                None => None,
                Some(own) => Some(own.filter(|(own, _)| own.compares_with(measure))?.1),
            };
            found.push((first, numbers));
        }
        Some((measure, found))
    }

    /// The columns of a property of nodes, by table; which nodes they hold for [`Self::node_is_base`] says.
    pub fn node_columns(&self, reader: &PropertyReader) -> ColumnsByTable<'_> {
        let tables = self.base.nodes.iter().zip(&reader.columns);
        tables.map(|(t, place)| (t.first, place.map(|place| &t.columns[place].1))).collect()
    }

    /// [`Self::node_columns`] of edges.
    pub fn edge_columns(&self, reader: &PropertyReader) -> ColumnsByTable<'_> {
        let tables = self.base.edges.iter().zip(&reader.columns);
        tables.map(|(t, place)| (t.first, place.map(|place| &t.columns[place].1))).collect()
    }

    /// Whether no node, or no edge, was changed, made or deleted since the base.
    pub fn elements_are_base(&self, element: Element) -> bool {
        match element {
            Element::Node => self.overlay.nodes.is_empty(),
            Element::Edge => self.overlay.edges.is_empty(),
        }
    }

    pub fn edge_is_base(&self, id: Dense) -> bool {
        self.edge_record(id).is_none()
    }

    /// The column that a reader finds an edge table's values in; `None` where the table has none.
    pub fn edge_column(&self, table: usize, reader: &PropertyReader) -> Option<&Column> {
        reader.columns[table].map(|c| &self.base.edges[table].columns[c].1)
    }

    pub fn node_test(&self, expression: Option<&LabelExpression>) -> NodeTest {
        let tables: Vec<bool> =
            self.base.nodes.iter().map(|t| expression.is_none_or(|e| e.matches(&t.labels))).collect();
        NodeTest { expression: expression.cloned(), all: expression.is_none(), tables }
    }

    pub fn edge_test(&self, expression: Option<&LabelExpression>) -> EdgeTest {
        let matches = |labels: &LabelSet| expression.is_none_or(|e| e.matches(labels));
        let tables = (0..self.base.edges.len()).filter(|&t| matches(&self.base.edges[t].labels)).collect();
        EdgeTest { expression: expression.cloned(), tables }
    }

    /// Whether all edges of a node are those of the base.
    #[inline]
    pub fn untouched(&self, node: Dense) -> bool {
        !self.overlay.touched.has(node)
    }

    /// Whether all elements are those of the base.
    pub fn is_unchanged(&self) -> bool {
        self.overlay.touched.is_empty()
    }

    #[inline]
    pub fn node_passes(&self, id: Dense, test: &NodeTest) -> bool {
        if test.all {
            return true;
        }
        match self.node_record(id) {
            Some(Some(record)) => test.expression.as_ref().is_none_or(|e| e.matches(&record.labels)),
            Some(None) => false,
            None => test.tables[self.base.node_table(id)],
        }
    }

    /// Whether every node there is passes, so that none needs to be asked.
    pub fn all_pass(&self, test: &NodeTest) -> bool {
        test.all || (self.overlay.nodes.is_empty() && test.tables.iter().all(|passes| *passes))
    }

    /// Base nodes that pass, as ranges; [`Self::overlay_nodes`] gives the rest. A node in a range may
    /// be deleted or changed: ask [`Self::node_is_base`].
    pub fn base_ranges(&self, test: &NodeTest) -> Vec<std::ops::Range<Dense>> {
        self.base
            .nodes
            .iter()
            .zip(&test.tables)
            .filter(|(table, passes)| **passes && table.len > 0)
            .map(|(table, _)| table.first..table.first + table.len as Dense)
            .collect()
    }

    /// Whether the base alone says what this node is.
    #[inline]
    pub fn node_is_base(&self, id: Dense) -> bool {
        self.node_record(id).is_none()
    }

    /// Nodes that the overlay holds and that pass.
    pub fn overlay_nodes(&self, test: &NodeTest) -> Vec<Dense> {
        self.overlay
            .nodes
            .iter()
            .filter_map(|(id, record)| {
                let record = record.as_ref()?;
                test.expression.as_ref().is_none_or(|e| e.matches(&record.labels)).then_some(*id)
            })
            .collect()
    }

    /// Nodes that the overlay holds, new or changed.
    pub fn overlay_node_numbers(&self) -> Vec<Dense> {
        self.overlay.nodes.iter().filter(|(_, record)| record.is_some()).map(|(id, _)| *id).collect()
    }

    pub fn overlay_edge_numbers(&self) -> Vec<Dense> {
        self.overlay.edges.iter().filter(|(_, record)| record.is_some()).map(|(id, _)| *id).collect()
    }

    /// Every label set and its element counts, base and overlay together, sorted: what is in the graph.
    pub fn node_label_counts(&self) -> Vec<(LabelSet, u64)> {
        let mut counts = std::collections::BTreeMap::<LabelSet, i64>::new();
        for table in self.base.nodes.iter() {
            *counts.entry(table.labels.clone()).or_default() += table.len as i64;
        }
        for (id, record) in &self.overlay.nodes {
            if *id < self.base.node_count() {
                let table = &self.base.nodes[self.base.node_table(*id)];
                *counts.entry(table.labels.clone()).or_default() -= 1;
            }
            if let Some(record) = record {
                *counts.entry(record.labels.clone()).or_default() += 1;
            }
        }
        positive(counts)
    }

    pub fn edge_label_counts(&self) -> Vec<(LabelSet, u64)> {
        let mut counts = std::collections::BTreeMap::<LabelSet, i64>::new();
        for table in self.base.edges.iter() {
            *counts.entry(table.labels.clone()).or_default() += table.len as i64;
        }
        for (id, record) in &self.overlay.edges {
            if *id < self.base.edge_count() {
                let table = &self.base.edges[self.base.edge_table(*id)];
                *counts.entry(table.labels.clone()).or_default() -= 1;
            }
            if let Some(record) = record {
                *counts.entry(record.labels.clone()).or_default() += 1;
            }
        }
        positive(counts)
    }

    /// Every property name in use on nodes (or edges), sorted.
    pub fn property_names(&self, element: Element) -> Vec<Arc<str>> {
        let mut names = std::collections::BTreeSet::new();
        match element {
            Element::Node => {
                self.base.nodes.iter().flat_map(|t| &t.columns).for_each(|(n, _)| {
                    names.insert(n.clone());
                });
                for record in self.overlay.nodes.values().flatten() {
                    names.extend(record.properties.iter().map(|(n, _)| n.clone()));
                }
            }
            Element::Edge => {
                self.base.edges.iter().flat_map(|t| &t.columns).for_each(|(n, _)| {
                    names.insert(n.clone());
                });
                for record in self.overlay.edges.values().flatten() {
                    names.extend(record.properties.iter().map(|(n, _)| n.clone()));
                }
            }
        }
        if let Some(graph_type) = &self.graph_type {
            names.extend(graph_type.property_names(element));
        }
        names.into_iter().collect()
    }
}

fn positive(counts: std::collections::BTreeMap<LabelSet, i64>) -> Vec<(LabelSet, u64)> {
    counts.into_iter().filter(|(_, n)| *n > 0).map(|(l, n)| (l, n as u64)).collect()
}

fn position(columns: &[(Arc<str>, Column)], name: &str) -> Option<usize> {
    columns.binary_search_by(|(n, _)| (**n).cmp(name)).ok()
}

fn row_properties(columns: &[(Arc<str>, Column)], row: usize) -> Properties {
    columns.iter().filter(|(_, c)| !c.is_null(row)).map(|(name, c)| (name.clone(), c.value(row))).collect()
}
