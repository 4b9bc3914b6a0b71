//! Key indexes of a base: from a key's values to the element that has them. Only element numbers are
//! stored; the values stay in their columns.

use std::hash::{BuildHasher, Hash, Hasher};
use std::sync::Arc;

use hashbrown::{DefaultHashBuilder, HashTable};

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
    /// Builds the index; elements that break the key come back as pairs (kept, offending).
    pub(crate) fn build(
        definition: Arc<KeyDefinition>, tables: &[KeyTable<'_>], go_on: &dyn Fn() -> Result<(), GraphError>,
    ) -> Result<(KeyIndex, Vec<(Dense, Dense)>), GraphError> {
        let state = DefaultHashBuilder::default();
        let total: usize = tables.iter().map(|t| t.len).sum();
        let mut table: HashTable<Dense> = HashTable::with_capacity(total);
        let mut broken = vec![];
        let locate = |id: Dense| {
            let t = tables.iter().find(|t| id >= t.first && ((id - t.first) as usize) < t.len);
            t.map(|t| (t, (id - t.first) as usize))
        };
        for t in tables {
            for row in 0..t.len {
                if row % ASK_EVERY == 0 {
                    go_on()?;
                }
                let Some(hash) = hash_row(&state, &t.columns, row) else { continue };
                let id = t.first + row as Dense;
                let same = |&other: &Dense| {
                    locate(other).is_some_and(|(o, other_row)| {
                        t.columns.iter().zip(&o.columns).all(|(a, b)| match (a, b) {
                            (Some(a), Some(b)) => same_at(a, row, b, other_row),
                            _ => false,
                        })
                    })
                };
                match table.find(hash, same) {
                    Some(&kept) => broken.push((kept, id)),
                    None => {
                        let rehash = |&other: &Dense| {
                            locate(other).and_then(|(o, r)| hash_row(&state, &o.columns, r)).unwrap_or(0)
                        };
                        table.insert_unique(hash, id, rehash);
                    }
                }
            }
        }
        Ok((KeyIndex { definition, state, table }, broken))
    }

    /// The element whose key values `same` accepts.
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
