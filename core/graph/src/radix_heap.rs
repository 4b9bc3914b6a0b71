//! A monotone priority queue of whole numbers: a new item is never less than the last one removed, as in a search
//! that settles the nearest node first. Source: Ahuja, Mehlhorn, Orlin, Tarjan, "Faster algorithms for the shortest
//! path problem", Journal of the ACM 37 (1990).

/// The bucket of a key is the highest bit in which it differs from the one taken out last.
const BUCKETS: usize = 65;

#[derive(Clone, Debug)]
pub struct RadixHeap<T> {
    buckets: Vec<Vec<(u64, T)>>,
    last: u64,
    len: usize,
}

impl<T: Copy> Default for RadixHeap<T> {
    fn default() -> Self {
        RadixHeap { buckets: (0..BUCKETS).map(|_| vec![]).collect(), last: 0, len: 0 }
    }
}

impl<T: Copy> RadixHeap<T> {
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    pub fn len(&self) -> usize {
        self.len
    }

    fn bucket(&self, key: u64) -> usize {
        (u64::BITS - (key ^ self.last).leading_zeros()) as usize
    }

    /// A key below the one taken out last counts as that one.
    #[inline]
    pub fn push(&mut self, key: u64, item: T) {
        let key = key.max(self.last);
        let bucket = self.bucket(key);
        self.buckets[bucket].push((key, item));
        self.len += 1;
    }

    /// The least key; from here on nothing below it can be told apart from it.
    #[inline]
    pub fn least(&mut self) -> Option<u64> {
        if self.buckets[0].is_empty() {
            self.spread()?;
        }
        Some(self.last)
    }

    /// One of those with the least key.
    #[inline]
    pub fn pop(&mut self) -> Option<(u64, T)> {
        self.least()?;
        self.len -= 1;
        self.buckets[0].pop()
    }

    /// Spreads the first bucket that has any over those below it.
    fn spread(&mut self) -> Option<()> {
        let first = self.buckets.iter().position(|bucket| !bucket.is_empty())?;
        let waiting = std::mem::take(&mut self.buckets[first]);
        self.last = waiting.iter().map(|(key, _)| *key).min()?;
        for &(key, item) in &waiting {
            let bucket = self.bucket(key);
            self.buckets[bucket].push((key, item));
        }
        // Its memory serves again.
        let mut waiting = waiting;
        waiting.clear();
        self.buckets[first] = waiting;
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cmp::Reverse;
    use std::collections::BinaryHeap;

    #[test]
    fn keys_come_in_their_order() {
        let mut random = 7u64;
        let mut next = move || {
            random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            random >> 33
        };
        let (mut heap, mut plain) = (RadixHeap::default(), BinaryHeap::new());
        let mut last = 0;
        for round in 0..20_000u32 {
            if next() % 3 > 0 || plain.is_empty() {
                // Near, and now and then very far.
                let key = if next() % 50 == 0 { last + (next() << 29) } else { last + next() % 300 };
                heap.push(key, round);
                plain.push(Reverse(key));
            } else {
                let Some(Reverse(key)) = plain.pop() else { panic!("plain is not empty") };
                assert_eq!(heap.pop().map(|(key, _)| key), Some(key), "round {round}");
                last = key;
            }
            assert_eq!(heap.len(), plain.len());
        }
        // The greatest key there is, and one below the last.
        heap.push(u64::MAX, 1);
        heap.push(0, 2);
        let mut before = 0;
        while let Some((key, _)) = heap.pop() {
            assert!(key >= before);
            before = key;
        }
        assert_eq!(before, u64::MAX);
        assert!(heap.is_empty());
    }
}
