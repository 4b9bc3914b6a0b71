//! Contents of a new base: a whole snapshot, or the additions of its overlay.

use std::sync::Arc;

use crate::properties::{Properties, get_property};
use crate::{
    Adjacency, BaseParts, Change, Column, ColumnBuilder, Dense, EdgePart, Ids, LabelSet, NodePart, Pick,
    Snapshot,
};

impl Snapshot {
    /// The whole snapshot as parts of a new base: base rows that nothing touched are gathered by
    /// column, the overlay's elements appended.
    pub fn fold(&self) -> BaseParts {
        self.fold_numbered().0
    }

    /// [`Self::fold`] with the new number of each node, by its old one.
    pub fn fold_numbered(&self) -> (BaseParts, Vec<Dense>) {
        let (nodes, renumbered) = self.fold_nodes();
        let edges = self.fold_edges(&renumbered);
        (BaseParts { nodes, edges }, renumbered)
    }

    /// The elements that the overlay adds to the base as parts of one more level, with the number of each
    /// node, by its old one: those of the base keep theirs. What the overlay changes and deletes of the
    /// base is not in it: see [`Self::residue`].
    pub fn level_numbered(&self) -> (BaseParts, Vec<Dense>) {
        let (nodes, mut renumbered) = self.gather_nodes(true);
        let first = self.base.node_count();
        renumbered.iter_mut().enumerate().for_each(|(id, number)| match (id as Dense) < first {
            true => *number = id as Dense,
            false => *number = number.saturating_add(first),
        });
        let edges = self.gather_edges(&renumbered, true);
        (BaseParts { nodes, edges }, renumbered)
    }

    /// What the overlay changes and deletes of the base's elements, as a log entry that replays it.
    pub fn residue(&self) -> Vec<Change> {
        let mut changes = vec![];
        let mut deleted = vec![];
        let old_nodes = self.overlay.nodes.range(..self.base.node_count());
        for (id, record) in old_nodes {
            match record {
                Some(r) => changes.push(Change::Node {
                    id: r.id,
                    labels: r.labels.clone(),
                    properties: r.properties.clone(),
                }),
                None => {
                    let table = &self.base.nodes[self.base.node_table(*id)];
                    deleted.push(Change::DeleteNode(table.ids.get((id - table.first) as usize)));
                }
            }
        }
        for (id, record) in self.overlay.edges.range(..self.base.edge_count()) {
            match record {
                Some(r) => changes.push(Change::Edge {
                    id: r.id,
                    labels: r.labels.clone(),
                    properties: r.properties.clone(),
                    directed: r.directed,
                    source: self.node_id(r.source),
                    target: self.node_id(r.target),
                }),
                None => {
                    let table = &self.base.edges[self.base.edge_table(*id)];
                    changes.push(Change::DeleteEdge(table.ids.get((id - table.first) as usize)));
                }
            }
        }
        changes.extend(deleted);
        changes
    }

    fn fold_nodes(&self) -> (Vec<NodePart>, Vec<Dense>) {
        self.gather_nodes(false)
    }

    fn fold_edges(&self, renumbered: &[Dense]) -> Vec<EdgePart> {
        self.gather_edges(renumbered, false)
    }

    /// All nodes by their label sets, or only those that are not the base's.
    fn gather_nodes(&self, added_only: bool) -> (Vec<NodePart>, Vec<Dense>) {
        let mut groups: std::collections::BTreeMap<LabelSet, Vec<Dense>> = Default::default();
        let tables = if added_only { &[] } else { &self.base.nodes[..] };
        for table in tables {
            let ids = (table.first..table.first + table.len as Dense).filter(|&id| self.node_is_base(id));
            groups.entry(table.labels.clone()).or_default().extend(ids);
        }
        let first = if added_only { self.base.node_count() } else { 0 };
        for (id, record) in self.overlay.nodes.range(first..) {
            if let Some(record) = record {
                groups.entry(record.labels.clone()).or_default().push(*id);
            }
        }
        let mut renumbered = vec![Dense::MAX; self.node_bound() as usize];
        let mut next = 0;
        let mut parts = vec![];
        for (labels, members) in groups {
            if members.is_empty() {
                continue;
            }
            for &id in &members {
                renumbered[id as usize] = next;
                next += 1;
            }
            let ids = Ids::from_vec(members.iter().map(|&id| self.node_id(id)).collect());
            let columns = self.fold_columns(
                &members,
                |id| {
                    self.node_is_base(id).then(|| {
                        let t = self.base.node_table(id);
                        (t, (id - self.base.nodes[t].first) as usize)
                    })
                },
                |id| self.node_properties(id),
                &self.base.nodes.iter().map(|t| t.columns.as_slice()).collect::<Vec<_>>(),
            );
            parts.push(NodePart { labels, len: members.len(), ids, columns });
        }
        (parts, renumbered)
    }

    fn gather_edges(&self, renumbered: &[Dense], added_only: bool) -> Vec<EdgePart> {
        type Group = Vec<(Dense, Dense, Dense)>;
        let mut groups: std::collections::BTreeMap<(LabelSet, bool), Group> = Default::default();
        let new = |id: Dense| renumbered[id as usize];
        let tables = if added_only { &[] } else { &self.base.edges[..] };
        for table in tables {
            let group = groups.entry((table.labels.clone(), table.directed)).or_default();
            for source in table.forward.owners() {
                for entry in table.forward.row(source) {
                    let id = table.first + entry as Dense;
                    if self.edge_record(id).is_none() {
                        group.push((new(source), new(table.forward.neighbour(entry)), id));
                    }
                }
            }
        }
        let first = if added_only { self.base.edge_count() } else { 0 };
        for (id, record) in self.overlay.edges.range(first..) {
            if let Some(r) = record {
                let group = groups.entry((r.labels.clone(), r.directed)).or_default();
                group.push((new(r.source), new(r.target), *id));
            }
        }
        let tables: Vec<_> = self.base.edges.iter().map(|t| t.columns.as_slice()).collect();
        let mut parts = vec![];
        for ((labels, directed), mut members) in groups {
            if members.is_empty() {
                continue;
            }
            members.sort_unstable();
            let dense: Vec<Dense> = members.iter().map(|m| m.2).collect();
            let columns = self.fold_columns(
                &dense,
                |id| {
                    self.edge_record(id).is_none().then(|| {
                        let t = self.base.edge_table(id);
                        (t, (id - self.base.edges[t].first) as usize)
                    })
                },
                |id| self.edge_properties(id),
                &tables,
            );
            parts.push(EdgePart {
                labels,
                directed,
                ids: Ids::from_vec(dense.iter().map(|&id| self.edge_id(id)).collect()),
                forward: Adjacency::forward(members.iter().map(|m| (m.0, m.1))),
                columns,
            });
        }
        parts
    }

    /// Gathers the columns of `members` from base tables and records.
    fn fold_columns(
        &self, members: &[Dense], base_row: impl Fn(Dense) -> Option<(usize, usize)>,
        properties: impl Fn(Dense) -> Properties, tables: &[&[(Arc<str>, Column)]],
    ) -> Vec<(Arc<str>, Column)> {
        let mut names = std::collections::BTreeSet::<Arc<str>>::new();
        let mut used = vec![false; tables.len()];
        let mut records: Vec<(usize, Properties)> = vec![];
        for (row, &id) in members.iter().enumerate() {
            match base_row(id) {
                Some((table, _)) => used[table] = true,
                None => records.push((row, properties(id))),
            }
        }
        for (table, used) in tables.iter().zip(&used) {
            if *used {
                names.extend(table.iter().map(|(n, _)| n.clone()));
            }
        }
        for (_, properties) in &records {
            names.extend(properties.iter().map(|(n, _)| n.clone()));
        }
        names
            .into_iter()
            .filter_map(|name| {
                // Part 0 is what the records add; part t + 1 the base table t.
                let mut added = ColumnBuilder::with_capacity(records.len());
                for (_, properties) in &records {
                    added.push(get_property(properties, &name));
                }
                let added = added.finish();
                let empty = Column::Other(Arc::from([]));
                let mut parts: Vec<&Column> = vec![&added];
                for table in tables {
                    parts.push(crate::tables::find_column(table, &name).unwrap_or(&empty));
                }
                let mut record = 0;
                let mut picks: Vec<Option<Pick>> = Vec::with_capacity(members.len());
                for &id in members {
                    picks.push(match base_row(id) {
                        Some((table, row)) => (!parts[table + 1].is_empty())
                            .then_some(Pick { part: table as u32 + 1, row: row as u32 }),
                        None => {
                            record += 1;
                            Some(Pick { part: 0, row: record - 1 })
                        }
                    });
                }
                let column = Column::gather_optional(&parts, &picks);
                (0..column.len()).any(|row| !column.is_null(row)).then_some((name, column))
            })
            .collect()
    }
}
