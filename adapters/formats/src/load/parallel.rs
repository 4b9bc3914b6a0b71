//! Parallel edges: identified by a hash of their properties, so that a row between two nodes with thousands of
//! edges is compared only with edges of the same hash.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::{Arc, OnceLock};

use graphodrome_graph::{Dense, Value};
use parking_lot::Mutex;

/// So many edges between two nodes are compared one by one.
pub(super) const FEW_BETWEEN: usize = 16;

/// A hash of properties that does not depend on their order; those without a value count for nothing.
#[derive(Default)]
pub(super) struct PropertiesHash(RandomState);

impl PropertiesHash {
    pub fn of<'n>(&self, properties: impl Iterator<Item = (&'n str, Value)>) -> u64 {
        let given = properties.filter(|(_, value)| !value.is_null());
        given.map(|property| self.0.hash_one(property)).fold(0, u64::wrapping_add)
    }
}

/// Edges of the graph between two nodes by the hash of their properties.
type ByHash = HashMap<u64, Vec<Dense>>;

/// Two nodes, and which of a rule's label sets is between them.
pub(super) type Between = (u32, Dense, Dense);

/// Edges of the graph between nodes that many of them connect, as far as rows have asked for them.
#[derive(Default)]
pub(super) struct ManyBetween {
    pub hash: PropertiesHash,
    known: Mutex<HashMap<Between, Arc<OnceLock<Mutex<ByHash>>>>>,
}

impl ManyBetween {
    /// The edge with these properties for which `is_it` holds, and where it is not to be `kept` for others no more after that.
    /// `edges` gives all edges between the two with the hashes of their properties.
    pub fn find(
        &self, between: Between, hash: u64, kept: bool, edges: impl FnOnce() -> Vec<(u64, Dense)>,
        is_it: impl Fn(Dense) -> bool,
    ) -> Option<Dense> {
        let slot = self.known.lock().entry(between).or_default().clone();
        let by_hash = slot.get_or_init(|| {
            let mut by_hash = ByHash::new();
            // The first is found first, of edges that are the same.
            edges().into_iter().rev().for_each(|(hash, edge)| by_hash.entry(hash).or_default().push(edge));
            Mutex::new(by_hash)
        });
        let mut by_hash = by_hash.lock();
        let alike = by_hash.get_mut(&hash)?;
        let place = alike.iter().rposition(|&edge| is_it(edge))?;
        Some(if kept { alike[place] } else { alike.remove(place) })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    #[test]
    fn the_order_of_properties_does_not_matter_nor_those_without_a_value() {
        let hash = PropertiesHash::default();
        let [a, b] = [("a", Value::Int(1)), ("b", Value::Text("x".into()))];
        let one = hash.of([a.clone(), b.clone()].into_iter());
        assert_eq!(one, hash.of([b.clone(), ("c", Value::Null), a.clone()].into_iter()));
        // Numbers that are equal are one value.
        assert_eq!(one, hash.of([("a", Value::Float(1.0)), b].into_iter()));
        assert_ne!(one, hash.of([a].into_iter()));
    }

    #[test]
    fn an_edge_is_found_once_where_each_row_is_one() {
        let many = ManyBetween::default();
        let edges = || vec![(7, 1), (7, 2), (8, 3), (7, 4)];
        let find = |hash, kept| many.find((0, 5, 6), hash, kept, edges, |edge| edge != 2);
        assert_eq!(find(7, true), Some(1));
        assert_eq!(find(7, false), Some(1));
        assert_eq!(find(7, false), Some(4));
        assert_eq!(find(7, false), None);
        assert_eq!(find(8, true), Some(3));
        assert_eq!(find(9, true), None);
    }
}
