//! Buckets of neighbouring numbers: what comes in an order in which neighbours lie far apart is spread
//! over them first (read in order, written to a few places at once), and put in order within each,
//! which fits the processor's cache.

use std::ops::Range;

use rayon::prelude::*;

use crate::Dense;

/// Items a bucket should have; a few in tests, so that these see more than one.
const BUCKET: usize = if cfg!(test) { 4 } else { 8192 };
const MOST_BUCKETS: usize = 4096;
/// Threads that spread at once: each reads all items and writes its share of the buckets.
const MOST_SPREADERS: usize = 8;

/// Ranges of numbers from `low` to `high`, each of `1 << shift` numbers.
#[derive(Debug)]
pub struct Buckets {
    pub low: Dense,
    pub high: Dense,
    pub shift: u32,
    /// Where each bucket's items begin; one more at the end.
    pub starts: Vec<u32>,
}

impl Buckets {
    /// By the numbers that `key` gives the items; `None` where there is no item.
    pub fn new<T: Sync>(pieces: &[&[T]], key: impl Fn(&T) -> Dense + Sync) -> Option<Buckets> {
        let bounds = |items: &&[T]| {
            let low = items.iter().map(&key).min()?;
            Some((low, items.iter().map(&key).max()?))
        };
        let (low, high) =
            pieces.par_iter().filter_map(bounds).reduce_with(|a, b| (a.0.min(b.0), a.1.max(b.1)))?;
        let len: usize = pieces.iter().map(|items| items.len()).sum();
        let wanted = (len / BUCKET).clamp(1, MOST_BUCKETS) as u32;
        let mut shift = 0;
        while (high - low) >> shift >= wanted {
            shift += 1;
        }
        let count = ((high - low) >> shift) as usize + 1;
        let counted = |items: &&[T]| {
            let mut counts = vec![0u32; count + 1];
            items.iter().for_each(|item| counts[((key(item) - low) >> shift) as usize + 1] += 1);
            counts
        };
        let mut starts = pieces.par_iter().map(counted).reduce(
            || vec![0u32; count + 1],
            |mut a, b| {
                a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
                a
            },
        );
        accumulate(&mut starts);
        Some(Buckets { low, high, shift, starts })
    }

    #[inline]
    pub fn of(&self, number: Dense) -> usize {
        ((number - self.low) >> self.shift) as usize
    }

    pub fn len(&self) -> usize {
        self.starts.len() - 1
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Where the items of a bucket lie.
    pub fn items(&self, bucket: usize) -> Range<usize> {
        self.starts[bucket] as usize..self.starts[bucket + 1] as usize
    }

    /// Ranges of buckets with about as many items each, one a thread, each with its part of `out`.
    pub fn shares<'o, T>(&self, mut out: &'o mut [T]) -> Vec<Share<'o, T>> {
        let (count, items) = (self.len(), self.starts[self.len()] as usize);
        let threads = rayon::current_num_threads().clamp(1, MOST_SPREADERS);
        let mut from = 0;
        let mut shares = vec![];
        for share in 1..=threads {
            let wanted = items * share / threads;
            let found = self.starts.partition_point(|&s| (s as usize) < wanted).clamp(from, count);
            let to = if share == threads { count } else { found };
            let start = self.starts[from];
            let part;
            (part, out) = out.split_at_mut((self.starts[to] - start) as usize);
            let next = self.starts[from..to].iter().map(|s| s - start).collect();
            shares.push(Share { first: from, next, part });
            from = to;
        }
        shares
    }
}

/// One thread's buckets while items are spread.
pub struct Share<'o, T> {
    first: usize,
    /// Where the next item of each bucket goes.
    next: Vec<u32>,
    part: &'o mut [T],
}

impl<T> Share<'_, T> {
    /// Puts the item into its bucket, if that is one of this share's.
    #[inline]
    pub fn put(&mut self, bucket: usize, item: impl FnOnce() -> T) {
        if let Some(slot) = self.next.get_mut(bucket.wrapping_sub(self.first)) {
            self.part[*slot as usize] = item();
            *slot += 1;
        }
    }
}

/// Each number becomes the sum of itself and those before.
pub(crate) fn accumulate(numbers: &mut [u32]) {
    let mut sum = 0;
    for number in numbers {
        sum += *number;
        *number = sum;
    }
}
