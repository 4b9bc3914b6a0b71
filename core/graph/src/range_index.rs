//! Range indexes of a base: the elements with a label in the order of some properties' values. Only
//! element numbers are stored; the values stay in their columns.

use std::cmp::Ordering;
use std::sync::Arc;

use rayon::prelude::*;

use crate::keys::{ASK_EVERY, KeyTable};
use crate::{Column, Dense, GraphError, KeyDefinition, Value};

/// Which values of a property are looked for: between two bounds, each with whether it is among them.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ValueRange {
    pub lower: Option<(Value, bool)>,
    pub upper: Option<(Value, bool)>,
}

impl ValueRange {
    /// Where a value lies: before the range, in it, or after it. Values of another kind than the bounds
    /// lie outside, on the side where they are sorted.
    fn place(&self, value: &Value) -> Ordering {
        if let Some((bound, inclusive)) = &self.lower {
            match value.order(bound) {
                Ordering::Less => return Ordering::Less,
                Ordering::Equal if !inclusive => return Ordering::Less,
                _ => {}
            }
        } else if let Some((bound, _)) = &self.upper
            && value.kind_order(bound) == Ordering::Less
        {
            return Ordering::Less;
        }
        if let Some((bound, inclusive)) = &self.upper {
            match value.order(bound) {
                Ordering::Greater => return Ordering::Greater,
                Ordering::Equal if !inclusive => return Ordering::Greater,
                _ => {}
            }
        } else if let Some((bound, _)) = &self.lower
            && value.kind_order(bound) == Ordering::Greater
        {
            return Ordering::Greater;
        }
        Ordering::Equal
    }
}

/// What is looked for in an index: the values of its first properties, and a range of the next.
#[derive(Clone, Debug, Default)]
pub struct IndexSearch {
    pub equal: Vec<Value>,
    pub range: Option<ValueRange>,
}

impl IndexSearch {
    /// Null equals nothing and lies in no range.
    pub fn is_empty(&self) -> bool {
        let bounds = self.range.iter().flat_map(|r| [&r.lower, &r.upper]).flatten();
        self.equal.iter().chain(bounds.map(|(v, _)| v)).any(Value::is_null)
    }

    /// Where an entry lies, its values read one by one as they are needed.
    pub fn place(&self, mut value: impl FnMut(usize) -> Value) -> Ordering {
        for (i, wanted) in self.equal.iter().enumerate() {
            let order = value(i).order(wanted);
            if order != Ordering::Equal {
                return order;
            }
        }
        match &self.range {
            Some(range) => range.place(&value(self.equal.len())),
            None => Ordering::Equal,
        }
    }
}

/// An element of the overlay in the order of an index.
#[derive(Clone, Debug)]
pub(crate) struct Entry(pub Vec<Value>, pub Dense);

impl Ord for Entry {
    fn cmp(&self, other: &Entry) -> Ordering {
        let values = self.0.iter().zip(&other.0).map(|(a, b)| a.order(b));
        let order = values.fold(Ordering::Equal, Ordering::then);
        order.then(self.0.len().cmp(&other.0.len())).then(self.1.cmp(&other.1))
    }
}

impl PartialOrd for Entry {
    fn partial_cmp(&self, other: &Entry) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Entry {
    fn eq(&self, other: &Entry) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Entry {}

/// The index over one base. An element that lacks the first property is not in it.
#[derive(Debug)]
pub struct RangeIndex {
    pub definition: Arc<KeyDefinition>,
    /// Each in order; one a level of the base.
    runs: Vec<Arc<[Dense]>>,
    distinct: u64,
}

fn value_at(tables: &[KeyTable<'_>], (table, row): (u32, u32), property: usize) -> Value {
    tables[table as usize].columns[property].map_or(Value::Null, |c| c.value(row as usize))
}

impl RangeIndex {
    pub(crate) fn build(
        definition: Arc<KeyDefinition>, tables: &[KeyTable<'_>],
        go_on: &(dyn Fn() -> Result<(), GraphError> + Sync),
    ) -> Result<RangeIndex, GraphError> {
        let mut places: Vec<(u32, u32)> = vec![];
        for (t, table) in tables.iter().enumerate() {
            let Some(Some(first)) = table.columns.first() else { continue };
            for row in 0..table.len {
                if row % ASK_EVERY == 0 {
                    go_on()?;
                }
                if !first.is_null(row) {
                    places.push((t as u32, row as u32));
                }
            }
        }
        let dense = |(table, row): (u32, u32)| tables[table as usize].first + row;
        let whole = |c: &Option<&Column>| matches!(c, Some(Column::Int(_)));
        let texts = |c: &Option<&Column>| matches!(c, Some(Column::Text(_) | Column::Coded(..)));
        let single = |is: &dyn Fn(&Option<&Column>) -> bool| {
            let filled = tables.iter().filter(|t| t.columns[0].is_some());
            definition.properties.len() == 1 && filled.map(|t| &t.columns[0]).all(is)
        };
        // One property of whole numbers, or of texts, is sorted by what it is; the rest by values.
        if single(&whole) {
            let number = |(t, row): (u32, u32)| match tables[t as usize].columns[0] {
                Some(Column::Int(a)) => a.value(row as usize),
                _ => 0,
            };
            let mut keyed: Vec<(i64, (u32, u32))> = places.iter().map(|&p| (number(p), p)).collect();
            keyed.par_sort_unstable();
            places = keyed.into_iter().map(|(_, p)| p).collect();
        } else if single(&texts) {
            let text = |(t, row): (u32, u32)| {
                tables[t as usize].columns[0].and_then(|c| c.text(row as usize)).unwrap_or_default()
            };
            places.par_sort_unstable_by(|&a, &b| text(a).cmp(text(b)).then(a.cmp(&b)));
        } else {
            places.par_sort_unstable_by(|&a, &b| {
                compare(tables, definition.properties.len(), a, b).then(a.cmp(&b))
            });
        }
        go_on()?;
        let mut distinct = u64::from(!places.is_empty());
        for pair in places.windows(2) {
            distinct += u64::from(compare(tables, 1, pair[0], pair[1]) != Ordering::Equal);
        }
        let order: Arc<[Dense]> = places.into_iter().map(dense).collect();
        Ok(RangeIndex { definition, runs: vec![order], distinct })
    }

    /// This index with another level's.
    pub(crate) fn with(&self, level: RangeIndex) -> RangeIndex {
        RangeIndex {
            definition: level.definition,
            runs: self.runs.iter().chain(&level.runs).filter(|run| !run.is_empty()).cloned().collect(),
            // Not fewer than either has, not more than both: levels share most of their values.
            distinct: self.distinct.max(level.distinct),
        }
    }

    /// The elements whose values `place` calls equal, which lie together in each run.
    pub(crate) fn find<'i>(
        &'i self, mut place: impl FnMut(Dense) -> Ordering + 'i,
    ) -> impl Iterator<Item = Dense> + 'i {
        self.runs.iter().flat_map(move |run| {
            let start = run.partition_point(|&id| place(id) == Ordering::Less);
            let rest = &run[start..];
            let len = rest.partition_point(|&id| place(id) == Ordering::Equal);
            rest[..len].iter().copied()
        })
    }

    pub fn len(&self) -> usize {
        self.runs.iter().map(|run| run.len()).sum()
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// How many values its first property has.
    pub fn distinct(&self) -> u64 {
        self.distinct
    }

    pub fn bytes(&self) -> usize {
        self.len() * size_of::<Dense>()
    }
}

/// The order of two rows by their first `properties` values.
fn compare(tables: &[KeyTable<'_>], properties: usize, a: (u32, u32), b: (u32, u32)) -> Ordering {
    for property in 0..properties {
        let (left, right) = (tables[a.0 as usize].columns[property], tables[b.0 as usize].columns[property]);
        let order = match (left, right) {
            (Some(Column::Int(x)), Some(Column::Int(y)))
                if !left.is_none_or(|c| c.is_null(a.1 as usize))
                    && !right.is_none_or(|c| c.is_null(b.1 as usize)) =>
            {
                x.value(a.1 as usize).cmp(&y.value(b.1 as usize))
            }
            (Some(x), Some(y)) => match (x.text(a.1 as usize), y.text(b.1 as usize)) {
                (Some(x), Some(y)) => x.cmp(y),
                _ => x.value(a.1 as usize).order(&y.value(b.1 as usize)),
            },
            _ => value_at(tables, a, property).order(&value_at(tables, b, property)),
        };
        if order != Ordering::Equal {
            return order;
        }
    }
    Ordering::Equal
}
