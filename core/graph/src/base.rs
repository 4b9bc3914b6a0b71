//! The base of a snapshot: all elements of one version in columns and compressed sparse rows. Nodes of one label
//! set are contiguous, so a label test is a range test.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use rayon::prelude::*;

use crate::bound::DistanceBound;
use crate::counted::counted;
use crate::error::GoOn;
use crate::extents::Extents;
use crate::keys::KeyTable;
use crate::tables::{Tables, find_column, row_of};
use crate::{
    Adjacency, Code, Column, Dense, EdgeTable, Element, ElementId, GraphError, Ids, KeyDefinition, KeyIndex,
    LabelSet, NodeTable, RangeIndex, Schema, Statistics, Value, same_place,
};

/// The nodes of one label set, before they have numbers.
pub struct NodePart {
    pub labels: LabelSet,
    pub len: usize,
    pub ids: Ids,
    pub columns: Vec<(Arc<str>, Column)>,
}

/// The edges of one label set, in rows by source, sorted by target; ends are dense node numbers in the order of
/// the node parts.
pub struct EdgePart {
    pub labels: LabelSet,
    pub directed: bool,
    pub ids: Ids,
    pub forward: Adjacency,
    pub columns: Vec<(Arc<str>, Column)>,
}

/// What a base is made of: by a load, by folding a snapshot, or read back from storage.
#[derive(Default)]
pub struct BaseParts {
    pub nodes: Vec<NodePart>,
    pub edges: Vec<EdgePart>,
}

/// What is stored of tables: all else is derived from it.
#[derive(Clone, Debug, Default)]
pub struct StoredTables {
    pub nodes: Vec<Arc<NodeTable>>,
    pub edges: Vec<Arc<EdgeTable>>,
}

/// Broken keys that an error names.
const MOST_SHOWN: usize = 5;

type Lookups = (Vec<Arc<KeyIndex>>, Vec<Arc<RangeIndex>>);

#[derive(Debug, Default)]
pub struct Base {
    /// Several of one label set where later loads added to it: each is a level of its own.
    pub nodes: Arc<[Arc<NodeTable>]>,
    pub edges: Arc<[Arc<EdgeTable>]>,
    /// In the order of the schema's.
    pub keys: Vec<Arc<KeyIndex>>,
    pub indexes: Vec<Arc<RangeIndex>>,
    pub bounds: Vec<Arc<DistanceBound>>,
    pub statistics: Arc<Statistics>,
    node_count: Dense,
    edge_count: Dense,
}

/// Elements with the same values of a key, of which at most one may be there: the key's number, and both.
pub type Collision = (usize, Dense, Dense);

impl Base {
    /// Numbers the parts, builds the reverse rows, the keys, the indexes and the statistics. Fails where
    /// the elements break a key or do not fit (more than 2^31 nodes or edges).
    pub fn build(parts: BaseParts, schema: &Schema) -> Result<Base, GraphError> {
        Base::build_asking(parts, schema, &|| Ok(()))
    }

    /// [`Self::build`]; `go_on` is asked now and then and ends it with an error.
    pub fn build_asking(parts: BaseParts, schema: &Schema, go_on: GoOn<'_>) -> Result<Base, GraphError> {
        Base::build_telling(parts, schema, go_on, |_| {})
    }

    /// [`Self::build_asking`]; `tell` gets what is stored as soon as it is there.
    pub fn build_telling(
        parts: BaseParts, schema: &Schema, go_on: GoOn<'_>, tell: impl FnOnce(StoredTables),
    ) -> Result<Base, GraphError> {
        let (base, collisions) = Base::default().extended_telling(parts, schema, go_on, tell)?;
        match collisions.first() {
            None => Ok(base),
            Some((key, ..)) => Err(base.broken(&schema.keys[*key], *key, &collisions)),
        }
    }

    /// A base out of what was stored of it. What is made of its tables alone is there in a moment; its reverse rows
    /// are made by [`Self::make_ready`], or where they are asked for before.
    pub fn reopened(parts: BaseParts, schema: &Schema) -> Result<(Base, Vec<Collision>), GraphError> {
        Base::default().with_tables(parts, schema, &|| Ok(()), |_| {}, false)
    }

    /// Makes what is not there yet, so that no query has to wait for it.
    pub fn make_ready(&self) {
        self.edges.iter().for_each(|table| {
            table.reverse();
        });
        for bound in &self.bounds {
            // Nobody ends it.
            let _ = bound.make(&self.tables(), &|| Ok(()));
        }
    }

    pub(crate) fn tables(&self) -> Tables<'_> {
        Tables { nodes: &self.nodes, edges: &self.edges, node_count: self.node_count }
    }

    /// Fails where a distance bound that the base before did not have cannot be.
    pub fn check_new_bounds(&self, before: &Base) -> Result<(), GraphError> {
        let known = |bound: &DistanceBound| before.bounds.iter().any(|b| b.definition == bound.definition);
        self.bounds.iter().filter(|bound| !known(bound)).try_for_each(|bound| bound.check())
    }

    /// This base with more tables behind its own, which keep their numbers. Elements whose key another has
    /// come back: where both are there once what overlies the base is known, the key is broken.
    pub fn extended(
        &self, parts: BaseParts, schema: &Schema, go_on: GoOn<'_>,
    ) -> Result<(Base, Vec<Collision>), GraphError> {
        self.extended_telling(parts, schema, go_on, |_| {})
    }

    /// [`Self::extended`]; `tell` gets the new tables as soon as they are numbered and in order: all that is
    /// stored of them. What is derived from them is built afterwards.
    pub fn extended_telling(
        &self, parts: BaseParts, schema: &Schema, go_on: GoOn<'_>, tell: impl FnOnce(StoredTables),
    ) -> Result<(Base, Vec<Collision>), GraphError> {
        self.with_tables(parts, schema, go_on, tell, true)
    }

    fn with_tables(
        &self, parts: BaseParts, schema: &Schema, go_on: GoOn<'_>, tell: impl FnOnce(StoredTables),
        reverse: bool,
    ) -> Result<(Base, Vec<Collision>), GraphError> {
        let mut node_count = self.node_count as u64;
        let mut nodes: Vec<Arc<NodeTable>> = self.nodes.to_vec();
        for mut part in parts.nodes {
            part.columns.sort_by(|a, b| a.0.cmp(&b.0));
            nodes.push(Arc::new(NodeTable {
                labels: part.labels,
                first: node_count as Dense,
                len: part.len,
                ids: part.ids,
                columns: part.columns,
                rows_by_id: OnceLock::new(),
            }));
            node_count += part.len as u64;
        }
        let mut edge_count = self.edge_count as u64;
        let mut sized = Vec::with_capacity(parts.edges.len());
        for part in parts.edges {
            let first = edge_count as Dense;
            edge_count += part.forward.len() as u64;
            sized.push((first, part));
        }
        // Half the number space stays free for what commits add on top of the base.
        if node_count > u32::MAX as u64 / 2 || edge_count > u32::MAX as u64 / 2 {
            return Err(GraphError::new(
                Code::DATA,
                format!("a graph holds at most {} nodes and as many edges", u32::MAX / 2),
            ));
        }
        let added = sized.into_iter().map(|(first, mut part)| {
            part.columns.sort_by(|a, b| a.0.cmp(&b.0));
            Arc::new(EdgeTable {
                labels: part.labels,
                directed: part.directed,
                first,
                extents: Extents::new(part.columns.len()),
                len: part.forward.len(),
                ids: part.ids,
                forward: Arc::new(part.forward),
                reverse: OnceLock::new(),
                columns: part.columns,
                rows_by_id: OnceLock::new(),
            })
        });
        let edges: Vec<Arc<EdgeTable>> = self.edges.iter().cloned().chain(added).collect();
        let mut base = Base {
            nodes: nodes.into(),
            edges: edges.into(),
            keys: vec![],
            indexes: vec![],
            bounds: schema.bounds.iter().map(|bound| Arc::new(DistanceBound::new(bound.clone()))).collect(),
            statistics: Arc::default(),
            node_count: node_count as Dense,
            edge_count: edge_count as Dense,
        };
        go_on()?;
        let added = &base.edges[self.edges.len()..];
        tell(StoredTables { nodes: base.nodes[self.nodes.len()..].to_vec(), edges: added.to_vec() });
        let make_reverse = || {
            let all = added.par_iter().filter(|_| reverse).map(|table| {
                go_on()?;
                // Nobody else knows the table yet.
                let _ = table.reverse.set(table.forward.reversed());
                Ok(())
            });
            all.collect::<Result<(), GraphError>>()
        };
        let ((lookups, statistics), reversed) = rayon::join(
            || rayon::join(|| base.lookups_after(self, schema, go_on), || Statistics::extended(self, &base)),
            make_reverse,
        );
        reversed?;
        let ((keys, indexes), collisions) = lookups?;
        (base.keys, base.indexes) = (keys, indexes);
        base.statistics = Arc::new(statistics);
        if reverse {
            base.bounds.iter().try_for_each(|bound| bound.make(&base.tables(), go_on))?;
        }
        Ok((base, collisions))
    }

    /// Keys and indexes of a base that continues `before`.
    fn lookups_after(
        &self, before: &Base, schema: &Schema, go_on: GoOn<'_>,
    ) -> Result<(Lookups, Vec<Collision>), GraphError> {
        let first = |element: Element| match element {
            Element::Node => before.node_count,
            Element::Edge => before.edge_count,
        };
        let (mut keys, mut collisions) = (vec![], vec![]);
        for (number, key) in schema.keys.iter().enumerate() {
            let known = before.keys.iter().find(|k| same_place(&k.definition, key));
            let from = known.map_or(0, |_| first(key.element));
            let (index, broken) =
                KeyIndex::build(key.clone(), known.map(|k| &**k), &self.key_tables(key), from, go_on)?;
            keys.push(Arc::new(index));
            collisions.extend(broken.into_iter().map(|(kept, other)| (number, kept, other)));
        }
        let mut indexes = vec![];
        for index in &schema.indexes {
            let known = before.indexes.iter().find(|i| same_place(&i.definition, index));
            let from = known.map_or(0, |_| first(index.element));
            let tables: Vec<KeyTable<'_>> =
                self.key_tables(index).into_iter().filter(|t| t.first >= from).collect();
            let run = RangeIndex::build(index.clone(), &tables, go_on)?;
            indexes.push(Arc::new(match known {
                Some(known) => known.with(run),
                None => run,
            }));
        }
        Ok(((keys, indexes), collisions))
    }

    /// What is stored of all its tables.
    pub fn stored(&self) -> StoredTables {
        StoredTables { nodes: self.nodes.to_vec(), edges: self.edges.to_vec() }
    }

    /// The greatest number of tables that one label set has.
    pub fn levels(&self) -> usize {
        let mut counts: HashMap<(Element, &LabelSet, bool), usize> = HashMap::new();
        for table in self.nodes.iter() {
            *counts.entry((Element::Node, &table.labels, true)).or_default() += 1;
        }
        for table in self.edges.iter() {
            *counts.entry((Element::Edge, &table.labels, table.directed)).or_default() += 1;
        }
        counts.into_values().max().unwrap_or(0)
    }

    /// The same elements with the keys, indexes and distance bounds of another schema; those it has already are kept.
    /// `go_on` is asked now and then and ends it with an error. Bounds are made at once, or by [`Self::make_ready`].
    pub fn with_lookups(
        &self, schema: &Schema, bounds_at_once: bool, go_on: GoOn<'_>,
    ) -> Result<Base, GraphError> {
        let (keys, indexes) = self.lookups(schema, go_on)?;
        let bounds = schema.bounds.iter().map(|definition| {
            let known = self.bounds.iter().find(|known| known.definition == *definition);
            if let Some(known) = known {
                return Ok(known.clone());
            }
            let bound = DistanceBound::new(definition.clone());
            if bounds_at_once {
                bound.make(&self.tables(), go_on)?;
                bound.check()?;
            }
            Ok(Arc::new(bound))
        });
        Ok(Base {
            nodes: self.nodes.clone(),
            edges: self.edges.clone(),
            keys,
            indexes,
            bounds: bounds.collect::<Result<_, GraphError>>()?,
            statistics: self.statistics.clone(),
            node_count: self.node_count,
            edge_count: self.edge_count,
        })
    }

    fn lookups(
        &self, schema: &Schema, go_on: &(dyn Fn() -> Result<(), GraphError> + Sync),
    ) -> Result<Lookups, GraphError> {
        let keys = schema.keys.iter().enumerate().map(|(number, key)| {
            let known = self.keys.iter().find(|k| same_place(&k.definition, key));
            known.map_or_else(|| self.build_key(key, number, go_on).map(Arc::new), |k| Ok(k.clone()))
        });
        let keys = keys.collect::<Result<_, _>>()?;
        let indexes = schema.indexes.iter().map(|index| {
            let known = self.indexes.iter().find(|i| same_place(&i.definition, index));
            let build = || RangeIndex::build(index.clone(), &self.key_tables(index), go_on).map(Arc::new);
            known.map_or_else(build, |i| Ok(i.clone()))
        });
        Ok((keys, indexes.collect::<Result<_, _>>()?))
    }

    /// The tables that a key or an index is over, with the columns of its properties.
    fn key_tables(&self, key: &KeyDefinition) -> Vec<KeyTable<'_>> {
        fn table<'t>(
            (first, len): (Dense, usize), columns: &'t [(Arc<str>, Column)], key: &KeyDefinition,
        ) -> KeyTable<'t> {
            KeyTable { first, len, columns: key.properties.iter().map(|p| find_column(columns, p)).collect() }
        }
        match key.element {
            Element::Node => {
                let tables = self.nodes.iter().filter(|t| t.labels.contains(&key.label));
                tables.map(|t| table((t.first, t.len), &t.columns, key)).collect()
            }
            Element::Edge => {
                let tables = self.edges.iter().filter(|t| t.labels.contains(&key.label));
                tables.map(|t| table((t.first, t.len), &t.columns, key)).collect()
            }
        }
    }

    fn build_key(
        &self, key: &Arc<KeyDefinition>, number: usize, go_on: &dyn Fn() -> Result<(), GraphError>,
    ) -> Result<KeyIndex, GraphError> {
        let (index, broken) = KeyIndex::build(key.clone(), None, &self.key_tables(key), 0, go_on)?;
        if broken.is_empty() {
            return Ok(index);
        }
        let broken: Vec<Collision> = broken.into_iter().map(|(kept, other)| (number, kept, other)).collect();
        Err(self.broken(key, number, &broken))
    }

    /// The error that names what breaks a key.
    pub(crate) fn broken(
        &self, key: &Arc<KeyDefinition>, number: usize, collisions: &[Collision],
    ) -> GraphError {
        let broken: Vec<(Dense, Dense)> =
            collisions.iter().filter(|c| c.0 == number).map(|c| (c.1, c.2)).collect();
        let value = |id: Dense, p: &Arc<str>| match key.element {
            Element::Node => self.node_value(id, p),
            Element::Edge => self.edge_value(id, p),
        };
        let values = |id: Dense| key.properties.iter().map(|p| value(id, p)).collect::<Vec<Value>>();
        let mut shown: Vec<String> = vec![];
        for (_, id) in &broken {
            let pairs = key.properties.iter().zip(values(*id)).map(|(p, v)| format!("{p} = {}", v.excerpt()));
            let one = pairs.collect::<Vec<_>>().join(", ");
            if !shown.contains(&one) {
                shown.push(one);
            }
            if shown.len() == MOST_SHOWN {
                break;
            }
        }
        key.taken(&values(broken[0].1)).hint(format!(
            "{} :{} with a key that already exists: {}",
            counted(broken.len() as u64, &key.element.to_string()),
            key.label,
            shown.join("; ")
        ))
    }

    pub fn node_count(&self) -> Dense {
        self.node_count
    }

    pub fn edge_count(&self) -> Dense {
        self.edge_count
    }

    #[inline]
    pub fn node_table(&self, id: Dense) -> usize {
        if self.nodes.len() == 1 {
            return 0;
        }
        self.nodes.partition_point(|t| t.first <= id) - 1
    }

    #[inline]
    pub fn edge_table(&self, id: Dense) -> usize {
        if self.edges.len() == 1 {
            return 0;
        }
        self.edges.partition_point(|t| t.first <= id) - 1
    }

    pub fn node_value(&self, id: Dense, property: &str) -> Value {
        let table = &self.nodes[self.node_table(id)];
        table.column(property).map_or(Value::Null, |c| c.value((id - table.first) as usize))
    }

    pub fn edge_value(&self, id: Dense, property: &str) -> Value {
        let table = &self.edges[self.edge_table(id)];
        table.column(property).map_or(Value::Null, |c| c.value((id - table.first) as usize))
    }

    pub fn node_by_id(&self, id: ElementId) -> Option<Dense> {
        self.nodes.iter().find_map(|t| row_of(&t.ids, t.len, &t.rows_by_id, id).map(|row| t.first + row))
    }

    pub fn edge_by_id(&self, id: ElementId) -> Option<Dense> {
        self.edges.iter().find_map(|t| row_of(&t.ids, t.len, &t.rows_by_id, id).map(|row| t.first + row))
    }

    /// Bytes held in memory, by what holds them: columns, adjacency, keys and indexes.
    pub fn bytes(&self) -> (usize, usize, usize) {
        let node_columns = self.nodes.iter().flat_map(|t| &t.columns);
        let edge_columns = self.edges.iter().flat_map(|t| &t.columns);
        (
            node_columns.chain(edge_columns).map(|(_, c)| c.bytes()).sum(),
            self.edges.iter().map(|t| t.forward.bytes() + t.reverse.get().map_or(0, Adjacency::bytes)).sum(),
            self.keys.iter().map(|k| k.bytes()).sum::<usize>()
                + self.indexes.iter().map(|i| i.bytes()).sum::<usize>(),
        )
    }
}
