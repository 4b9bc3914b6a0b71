//! Finds field ends in plain text: the positions of two bytes, sixty-four bytes at a time. Fields are short, so a
//! search for each end by itself would cost more than reading the field.

use wide::{CmpEq, i8x16};

const BLOCK: usize = 64;

/// The places of either of two bytes, in order.
pub(super) struct Marks<'t> {
    bytes: &'t [u8],
    either: (i8x16, i8x16),
    wanted: (u8, u8),
    /// Where the block begins whose places are left, and a bit for each of them.
    block: usize,
    left: u64,
}

impl<'t> Marks<'t> {
    pub fn new(bytes: &'t [u8], a: u8, b: u8) -> Marks<'t> {
        let either = (i8x16::splat(a as i8), i8x16::splat(b as i8));
        let mut marks = Marks { bytes, either, wanted: (a, b), block: 0, left: 0 };
        marks.left = marks.of_block();
        marks
    }

    /// A bit for each byte of the block that is one of the two.
    #[inline]
    fn of_block(&self) -> u64 {
        let rest = &self.bytes[self.block..];
        let Some(block) = rest.first_chunk::<BLOCK>() else {
            let is_one = |byte: &u8| *byte == self.wanted.0 || *byte == self.wanted.1;
            return rest.iter().rev().fold(0, |bits, byte| bits << 1 | u64::from(is_one(byte)));
        };
        let mut bits = 0;
        for (place, sixteen) in block.as_chunks::<16>().0.iter().enumerate() {
            let sixteen = i8x16::from(sixteen.map(|byte| byte as i8));
            let found = sixteen.cmp_eq(self.either.0) | sixteen.cmp_eq(self.either.1);
            bits |= u64::from(found.move_mask() as u16) << (16 * place);
        }
        bits
    }
}

impl Iterator for Marks<'_> {
    type Item = usize;

    #[inline]
    fn next(&mut self) -> Option<usize> {
        while self.left == 0 {
            self.block += BLOCK;
            if self.block >= self.bytes.len() {
                self.block = self.bytes.len();
                return None;
            }
            self.left = self.of_block();
        }
        let place = self.block + self.left.trailing_zeros() as usize;
        self.left &= self.left - 1;
        Some(place)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn all_places_are_found_in_order(
            bytes in prop::collection::vec(prop_oneof![Just(b','), Just(b'\n'), any::<u8>()], 0..300),
        ) {
            let wanted: Vec<usize> = memchr::memchr2_iter(b',', b'\n', &bytes).collect();
            prop_assert_eq!(Marks::new(&bytes, b',', b'\n').collect::<Vec<_>>(), wanted);
        }
    }
}
