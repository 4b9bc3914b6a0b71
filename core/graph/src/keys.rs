//! Key indexes of a base: from a key's values to the element that has them. Only element numbers are
//! stored; the values stay in their columns.

use std::hash::{BuildHasher, Hash, Hasher};
use std::sync::Arc;

use hashbrown::{DefaultHashBuilder, HashTable};
use rayon::prelude::*;

use crate::{Column, Dense, Element, GraphError, KeyDefinition, Value};

/// Rows between two questions whether to go on.
pub const ASK_EVERY: usize = 1 << 16;

/// Hash of one key value; numbers that are equal across types hash alike.
pub fn hash_key(state: &DefaultHashBuilder, value: &Value) -> u64 {
    state.hash_one(value)
}

/// Hash of a composite key.
pub fn hash_values<'v>(state: &DefaultHashBuilder, values: impl IntoIterator<Item = &'v Value>) -> u64 {
    let mut hash = 0u64;
    for value in values {
        hash = mix(hash, hash_key(state, value));
    }
    hash
}

fn mix(hash: u64, part: u64) -> u64 {
    hash.rotate_left(23).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ part
}

/// Hash of row `row` of the key's columns, equal to [`hash_values`] of its values; `None` where one
/// of them is null or missing (such an element has no key).
fn hash_row(state: &DefaultHashBuilder, columns: &[Option<&Column>], row: usize) -> Option<u64> {
    let mut hash = 0u64;
    for column in columns {
        let column = (*column)?;
        if column.is_null(row) {
            return None;
        }
        let mut hasher = state.build_hasher();
        match column {
            Column::Int(a) => hasher.write_i64(a.value(row)),
            _ => match column.text(row) {
                Some(text) => text.hash(&mut hasher),
                None => column.value(row).hash(&mut hasher),
            },
        }
        hash = mix(hash, hasher.finish());
    }
    Some(hash)
}

/// Where the values of a table's elements lie: dense numbers from `first`.
pub(crate) struct KeyTable<'t> {
    pub first: Dense,
    pub len: usize,
    pub columns: Vec<Option<&'t Column>>,
}

/// The index of one key over one base.
#[derive(Clone, Debug)]
pub struct KeyIndex {
    pub definition: Arc<KeyDefinition>,
    state: DefaultHashBuilder,
    table: HashTable<Dense>,
}

impl KeyIndex {
    /// Builds the index over the elements numbered `from` on, on top of that of the elements before.
    /// Elements that have a key another has come back as pairs (kept, offending); both are in the index.
    pub(crate) fn build(
        definition: Arc<KeyDefinition>, before: Option<&KeyIndex>, tables: &[KeyTable<'_>], from: Dense,
        go_on: &dyn Fn() -> Result<(), GraphError>,
    ) -> Result<(KeyIndex, Vec<(Dense, Dense)>), GraphError> {
        let (state, mut table) = match before {
            Some(before) => (before.state.clone(), before.table.clone()),
            None => (DefaultHashBuilder::default(), HashTable::new()),
        };
        let added = tables.iter().filter(|t| t.first >= from);
        let total: usize = added.clone().map(|t| t.len).sum();
        let mut broken = vec![];
        let locate = |id: Dense| {
            let t = tables.partition_point(|t| t.first <= id).checked_sub(1)?;
            let row = (id - tables[t].first) as usize;
            (row < tables[t].len).then_some((&tables[t], row))
        };
        let rehash =
            |&other: &Dense| locate(other).and_then(|(o, r)| hash_row(&state, &o.columns, r)).unwrap_or(0);
        table.reserve(total, rehash);
        for t in added {
            let mut hashes: Vec<Option<u64>> = vec![];
            for row in 0..t.len {
                if row % ASK_EVERY == 0 {
                    go_on()?;
                    let rows = row..t.len.min(row + ASK_EVERY);
                    let hashed = rows.into_par_iter().with_min_len(1 << 12);
                    hashed.map(|row| hash_row(&state, &t.columns, row)).collect_into_vec(&mut hashes);
                }
                let Some(hash) = hashes[row % ASK_EVERY] else { continue };
                let id = t.first + row as Dense;
                let same = |&other: &Dense| {
                    locate(other).is_some_and(|(o, other_row)| {
                        t.columns.iter().zip(&o.columns).all(|(a, b)| match (a, b) {
                            (Some(a), Some(b)) => same_at(a, row, b, other_row),
                            _ => false,
                        })
                    })
                };
                if let Some(&kept) = table.find(hash, same) {
                    broken.push((kept, id));
                }
                table.insert_unique(hash, id, rehash);
            }
        }
        Ok((KeyIndex { definition, state, table }, broken))
    }

    /// The element with these values that `same` accepts: of several, the one that is there.
    pub(crate) fn find(&self, values: &[Value], same: impl FnMut(&Dense) -> bool) -> Option<Dense> {
        self.table.find(hash_values(&self.state, values), same).copied()
    }

    pub fn is_node_key(&self) -> bool {
        self.definition.element == Element::Node
    }

    pub fn bytes(&self) -> usize {
        self.table.capacity() * (size_of::<Dense>() + 1)
    }
}

fn same_at(a: &Column, row: usize, b: &Column, other: usize) -> bool {
    match (a, b) {
        (Column::Int(x), Column::Int(y)) => x.value(row) == y.value(other),
        _ => match (a.text(row), b.text(other)) {
            (Some(x), Some(y)) => x == y,
            _ => a.value(row) == b.value(other),
        },
    }
}
