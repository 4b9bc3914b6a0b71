//! Visited sets: a hash set while small, a bitmap once it has grown, so that a two-hop search in a
//! large graph does not pay for clearing a bitmap of all its nodes.

use hashbrown::HashSet;

const SWITCH: usize = 2048;

pub(crate) enum Visited {
    Few(HashSet<u32>),
    Many(Vec<u64>),
}

impl Visited {
    pub fn new() -> Visited {
        Visited::Few(HashSet::new())
    }

    /// Adds `node`; true where it is new. `bound` is one more than the greatest node number.
    #[inline]
    pub fn insert(&mut self, node: u32, bound: u32) -> bool {
        match self {
            Visited::Few(set) => {
                let new = set.insert(node);
                if new && set.len() > SWITCH {
                    let mut bits = vec![0u64; bound as usize / 64 + 1];
                    for node in set.iter() {
                        bits[*node as usize / 64] |= 1 << (node % 64);
                    }
                    *self = Visited::Many(bits);
                }
                new
            }
            Visited::Many(bits) => {
                let word = &mut bits[node as usize / 64];
                let bit = 1u64 << (node % 64);
                let new = *word & bit == 0;
                *word |= bit;
                new
            }
        }
    }
}
