//! Queues of a search that settles the nearest node first. Whole numbers are kept by their highest differing bit, which is
//! several times as fast as a heap.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use graphodrome_graph::RadixHeap;

/// What is put in is never less than what was taken out last; where it is, it may come as if it were as much.
pub(crate) trait Queue<S, T>: Default {
    fn push(&mut self, sum: S, item: T);

    /// One of those with the least sum.
    fn pop(&mut self) -> Option<(S, T)>;

    fn least(&mut self) -> Option<S>;
}

impl<T: Copy> Queue<u64, T> for RadixHeap<T> {
    #[inline]
    fn push(&mut self, sum: u64, item: T) {
        RadixHeap::push(self, sum, item);
    }

    #[inline]
    fn pop(&mut self) -> Option<(u64, T)> {
        RadixHeap::pop(self)
    }

    #[inline]
    fn least(&mut self) -> Option<u64> {
        RadixHeap::least(self)
    }
}

impl<S: Ord + Copy, T: Ord> Queue<S, T> for BinaryHeap<Reverse<(S, T)>> {
    fn push(&mut self, sum: S, item: T) {
        BinaryHeap::push(self, Reverse((sum, item)));
    }

    fn pop(&mut self) -> Option<(S, T)> {
        BinaryHeap::pop(self).map(|Reverse(first)| first)
    }

    fn least(&mut self) -> Option<S> {
        self.peek().map(|Reverse((sum, _))| *sum)
    }
}
