//! Sets of nodes: a small open-addressing table that becomes a bitmap when it has grown, so that a two-hop search
//! in a large graph does not clear a bitmap of all nodes.

use hashbrown::HashMap;

use crate::batch::NO_ELEMENT;

/// More nodes than this go into a bitmap.
const SWITCH: usize = 2048;
const SMALLEST: usize = 64;

#[derive(Clone, Debug)]
enum KeptNodes {
    /// Slots, a power of two of them, at most half full; [`NO_ELEMENT`] is free.
    Few(Vec<u32>),
    Many(Vec<u64>),
}

#[derive(Clone, Debug)]
pub(crate) struct NodeSet {
    kept: KeptNodes,
    len: usize,
    /// One more than the greatest node number there can be.
    bound: u32,
}

impl NodeSet {
    pub fn new(bound: u32) -> NodeSet {
        NodeSet { kept: KeptNodes::Few(vec![]), len: 0, bound }
    }

    /// Adds `node`; true where it is new.
    #[inline]
    pub fn insert(&mut self, node: u32) -> bool {
        debug_assert!(node < self.bound);
        let new = match &mut self.kept {
            KeptNodes::Few(slots) => {
                if self.len * 2 >= slots.len() {
                    self.grow(self.len + 1);
                    return self.insert(node);
                }
                place(slots, node)
            }
            KeptNodes::Many(bits) => {
                let word = &mut bits[node as usize / 64];
                let bit = 1u64 << (node % 64);
                let new = *word & bit == 0;
                *word |= bit;
                new
            }
        };
        self.len += new as usize;
        new
    }

    /// Bytes held.
    pub fn bytes(&self) -> usize {
        match &self.kept {
            KeptNodes::Few(slots) => size_of::<u32>() * slots.len(),
            KeptNodes::Many(bits) => size_of::<u64>() * bits.len(),
        }
    }

    pub fn iter(&self) -> Box<dyn Iterator<Item = u32> + '_> {
        match &self.kept {
            KeptNodes::Few(slots) => Box::new(slots.iter().copied().filter(|&node| node != NO_ELEMENT)),
            KeptNodes::Many(bits) => Box::new(bits.iter().zip(0u32..).flat_map(|(word, place)| {
                (0..64).filter(move |bit| word >> bit & 1 == 1).map(move |bit| 64 * place + bit)
            })),
        }
    }

    /// The nodes below the bound that it does not have; `None` while it is a table of few.
    pub fn missing(&self) -> Option<impl Iterator<Item = u32> + '_> {
        let KeptNodes::Many(bits) = &self.kept else { return None };
        let bound = self.bound;
        Some(bits.iter().zip(0u32..).flat_map(move |(word, place)| {
            let mut left = !word;
            std::iter::from_fn(move || {
                let bit = (left != 0).then(|| left.trailing_zeros())?;
                left &= left - 1;
                Some(64 * place + bit).filter(|node| *node < bound)
            })
        }))
    }

    #[inline]
    pub fn has(&self, node: u32) -> bool {
        match &self.kept {
            KeptNodes::Few(slots) => !slots.is_empty() && find(slots, node),
            KeptNodes::Many(bits) => bits[node as usize / 64] >> (node % 64) & 1 == 1,
        }
    }

    /// Adds all of `nodes`; those that are new are appended to `new`, in their order.
    pub fn insert_all(&mut self, nodes: &[u32], new: &mut Vec<u32>) {
        let before = new.len();
        let mut end = before;
        // Written in any case and kept where it is new: no branch to guess wrong.
        new.resize(before + nodes.len(), 0);
        if let KeptNodes::Few(slots) = &self.kept
            && (self.len + nodes.len()) * 2 >= slots.len()
        {
            self.grow(self.len + nodes.len());
        }
        match &mut self.kept {
            KeptNodes::Few(slots) => {
                for &node in nodes {
                    new[end] = node;
                    end += place(slots, node) as usize;
                }
            }
            KeptNodes::Many(bits) => {
                for &node in nodes {
                    let word = &mut bits[node as usize / 64];
                    let bit = node % 64;
                    new[end] = node;
                    end += (!*word >> bit & 1) as usize;
                    *word |= 1 << bit;
                }
            }
        }
        new.truncate(end);
        self.len += end - before;
    }

    #[cold]
    fn grow(&mut self, wanted: usize) {
        let KeptNodes::Few(slots) = &self.kept else { return };
        let nodes = slots.iter().copied().filter(|&node| node != NO_ELEMENT);
        self.kept = if wanted > SWITCH {
            let mut bits = vec![0u64; self.bound as usize / 64 + 1];
            nodes.for_each(|node| bits[node as usize / 64] |= 1 << (node % 64));
            KeptNodes::Many(bits)
        } else {
            let slots = (wanted * 4).max(SMALLEST).next_power_of_two();
            let mut larger = vec![NO_ELEMENT; slots];
            nodes.for_each(|node| {
                place(&mut larger, node);
            });
            KeptNodes::Few(larger)
        };
    }
}

/// Numbers nodes in the order in which they come: a hash table while they are few, then one number for every node
/// of the graph.
pub(crate) struct NodeNumbers {
    kept: KeptNumbers,
    len: u32,
    bound: u32,
}

enum KeptNumbers {
    Few(HashMap<u32, u32>),
    Many(Vec<u32>),
}

impl NodeNumbers {
    pub fn new(bound: u32) -> NodeNumbers {
        NodeNumbers { kept: KeptNumbers::Few(HashMap::new()), len: 0, bound }
    }

    #[inline]
    pub fn get(&self, node: u32) -> Option<u32> {
        match &self.kept {
            KeptNumbers::Few(numbers) => numbers.get(&node).copied(),
            KeptNumbers::Many(numbers) => match numbers[node as usize] {
                0 => None,
                n => Some(n - 1),
            },
        }
    }

    /// The node's number, and whether it is new.
    #[inline]
    pub fn number(&mut self, node: u32) -> (u32, bool) {
        let next = self.len;
        let number = match &mut self.kept {
            KeptNumbers::Few(numbers) if numbers.len() < SWITCH => *numbers.entry(node).or_insert(next),
            KeptNumbers::Few(numbers) => {
                // Zero is free: such a table costs nothing until it is written to.
                let mut many = vec![0u32; self.bound as usize];
                numbers.iter().for_each(|(node, n)| many[*node as usize] = n + 1);
                self.kept = KeptNumbers::Many(many);
                return self.number(node);
            }
            KeptNumbers::Many(numbers) => {
                let slot = &mut numbers[node as usize];
                if *slot == 0 {
                    *slot = next + 1;
                }
                *slot - 1
            }
        };
        self.len += (number == next) as u32;
        (number, number == next)
    }
}

fn find(slots: &[u32], node: u32) -> bool {
    let mask = slots.len() - 1;
    let bits = slots.len().trailing_zeros();
    let mut slot = (node.wrapping_mul(0x9E37_79B1) >> (32 - bits)) as usize & mask;
    while slots[slot] != NO_ELEMENT {
        if slots[slot] == node {
            return true;
        }
        slot = (slot + 1) & mask;
    }
    false
}

/// Finds the node's slot and takes it; false where it had it already.
#[inline]
fn place(slots: &mut [u32], node: u32) -> bool {
    let mask = slots.len() - 1;
    // Fibonacci hashing: the high bits are the mixed ones.
    let bits = slots.len().trailing_zeros();
    let mut slot = (node.wrapping_mul(0x9E37_79B1) >> (32 - bits)) as usize & mask;
    loop {
        let held = slots[slot];
        if held == node {
            return false;
        }
        if held == NO_ELEMENT {
            slots[slot] = node;
            return true;
        }
        slot = (slot + 1) & mask;
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use std::collections::HashSet;

    #[test]
    fn says_what_is_new_before_and_after_it_has_grown() {
        let (mut set, mut known) = (NodeSet::new(1 << 20), HashSet::new());
        let mut node = 1u32;
        for _ in 0..20_000 {
            node = node.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let node = (node >> 8) % 9_000;
            assert_eq!(set.insert(node), known.insert(node));
            assert_eq!(set.len, known.len());
        }
        let mut whole = NodeSet::new(10_000);
        let mut new = vec![];
        for nodes in [&[5, 7, 5][..], &[7, 9], &(0..9_000).collect::<Vec<u32>>(), &[8, 9_001]] {
            whole.insert_all(nodes, &mut new);
        }
        assert_eq!(new[..6], [5, 7, 9, 0, 1, 2]);
        assert_eq!((new.len(), whole.len), (9_001, 9_001));
        assert!(whole.iter().eq((0..9_000).chain([9_001])));
        assert_eq!(set.iter().collect::<HashSet<u32>>(), known);
        assert!((0..9_000).all(|node| set.has(node) == known.contains(&node)));
        assert!(whole.missing().unwrap().eq([9_000].into_iter().chain(9_002..10_000)));
        let few = NodeSet::new(100);
        assert!(few.missing().is_none() && !few.has(7));
    }

    #[test]
    fn nodes_keep_their_numbers_when_the_table_grows() {
        let mut numbers = NodeNumbers::new(10_000);
        for i in 0..5_000u32 {
            let node = i * 7 % 10_000;
            assert_eq!(numbers.get(node), None);
            assert_eq!(numbers.number(node), (i, true));
            assert_eq!(numbers.number(node), (i, false));
        }
        assert_eq!(
            (numbers.get(7), numbers.get(9_999)),
            (Some(1), (0..5_000).find(|i| i * 7 % 10_000 == 9_999))
        );
    }
}
