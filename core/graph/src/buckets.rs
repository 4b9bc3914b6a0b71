//! Buckets of neighbouring numbers: what comes in an order in which neighbours lie far apart is spread
//! over them first (read in order, written to a few places at once), and put in order within each,
//! which fits the processor's cache.

use std::ops::Range;

use rayon::prelude::*;

use crate::Dense;

/// Items a bucket should have; a few in tests, so that these see more than one.
const BUCKET: usize = if cfg!(test) { 4 } else { 8192 };
const MOST_BUCKETS: usize = 4096;

/// Ranges of numbers from `low` to `high`, each of `1 << shift` numbers.
#[derive(Debug)]
pub struct Buckets {
    pub low: Dense,
    pub high: Dense,
    pub shift: u32,
    /// Where each bucket's items begin; one more at the end.
    pub starts: Vec<u32>,
    /// For each piece where its items begin in each bucket.
    places: Vec<Vec<u32>>,
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
            let mut counts = vec![0u32; count];
            items.iter().for_each(|item| counts[((key(item) - low) >> shift) as usize] += 1);
            counts
        };
        let mut places: Vec<Vec<u32>> = pieces.par_iter().map(counted).collect();
        let mut starts = vec![0u32; count + 1];
        for counts in &places {
            starts[1..].iter_mut().zip(counts).for_each(|(sum, count)| *sum += count);
        }
        accumulate(&mut starts);
        let mut next = starts[..count].to_vec();
        for of_piece in &mut places {
            for (next, place) in next.iter_mut().zip(of_piece) {
                let count = std::mem::replace(place, *next);
                *next += count;
            }
        }
        Some(Buckets { low, high, shift, starts, places })
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

    /// Values in the order of the buckets, within them in the order of the pieces: `items` puts those of a
    /// piece, each into the bucket that its key was counted for. Pieces are spread side by side.
    pub fn spread<T: Copy + Default + Send + Sync>(
        &self, items: impl Fn(usize, &mut Spreader<'_, T>) + Sync,
    ) -> Vec<T> {
        let mut out = vec![T::default(); self.starts[self.len()] as usize];
        let to = Target(out.as_mut_ptr(), out.len());
        (0..self.places.len()).into_par_iter().for_each(|piece| {
            let ends = self.places.get(piece + 1).map_or(&self.starts[1..], |next| &next[..]);
            items(piece, &mut Spreader { next: self.places[piece].clone(), ends, to: &to });
        });
        out
    }
}

/// Where values go, and how many there are.
struct Target<T>(*mut T, usize);

// SAFETY: a `Spreader` writes only between its piece's places and the next one's, which no other has.
unsafe impl<T: Send> Sync for Target<T> {}

/// One piece's places while its values are put.
pub struct Spreader<'s, T> {
    /// Where the piece's next value of each bucket goes.
    next: Vec<u32>,
    /// Where the next piece's begin.
    ends: &'s [u32],
    to: &'s Target<T>,
}

impl<T> Spreader<'_, T> {
    #[inline]
    pub fn put(&mut self, bucket: usize, value: T) {
        let place = &mut self.next[bucket];
        assert!(*place < self.ends[bucket] && (*place as usize) < self.to.1, "more values than were counted");
        // SAFETY: within the vector, and between this piece's place and the next one's in this bucket: nobody else
        // writes there, and nobody reads before all have ended. What is overwritten is `Copy`.
        unsafe { self.to.0.add(*place as usize).write(value) };
        *place += 1;
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
