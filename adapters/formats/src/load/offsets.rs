//! Start offsets of rows in a text.

/// Where the rows of a chunk begin, which lie near each other and come in order.
#[derive(Default)]
pub(crate) struct Offsets {
    first: u64,
    /// From the first row on.
    after: Vec<u32>,
}

impl Offsets {
    pub fn with_capacity(rows: usize) -> Offsets {
        Offsets { first: 0, after: Vec::with_capacity(rows) }
    }

    pub fn len(&self) -> usize {
        self.after.len()
    }

    pub fn is_empty(&self) -> bool {
        self.after.is_empty()
    }

    #[inline]
    pub fn at(&self, row: usize) -> u64 {
        self.first + u64::from(self.after[row])
    }

    #[inline]
    pub fn push(&mut self, offset: u64) {
        if self.after.is_empty() {
            self.first = offset;
        }
        self.after.push(u32::try_from(offset - self.first).unwrap_or(u32::MAX));
    }
}

impl FromIterator<u64> for Offsets {
    fn from_iter<I: IntoIterator<Item = u64>>(offsets: I) -> Offsets {
        let mut all = Offsets::default();
        all.extend(offsets);
        all
    }
}

impl Extend<u64> for Offsets {
    fn extend<I: IntoIterator<Item = u64>>(&mut self, offsets: I) {
        offsets.into_iter().for_each(|offset| self.push(offset));
    }
}
