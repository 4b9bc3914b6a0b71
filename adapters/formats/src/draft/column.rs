//! Profile of a column after all of its values have been read.

use std::collections::BTreeMap;

use hashbrown::HashSet;

use crate::mapping::DateOrder;

/// One row in so many may break a key.
const ROWS_A_BREACH: u64 = 100;
/// Of fewer rows nothing is said but what all of them have.
const LEAST_NAMED: u64 = 20;

/// What all values of a column are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SeenKind {
    Whole,
    /// Digits after the point, at most.
    Decimal {
        digits: u32,
        scale: u32,
        fixed: bool,
    },
    Bool,
    Date,
    LocalDateTime,
    ZonedDateTime,
    Text,
    /// No value at all.
    Nothing,
}

#[derive(Debug)]
pub(crate) struct ColumnProfile {
    pub name: String,
    pub rows: u64,
    pub nulls: u64,
    /// Hashes of the distinct values.
    pub values: HashSet<u64>,
    /// There are more distinct values than were counted.
    pub capped: bool,
    pub kind: SeenKind,
    /// Words that stand for null here.
    pub null_words: Vec<String>,
    /// Words that may stand for null, and how often each comes.
    pub words: BTreeMap<String, u64>,
    /// Of dates that are no ISO dates.
    pub date_order: Option<DateOrder>,
    /// What a person should know of the choice of type.
    pub remark: Option<String>,
    pub examples: Vec<String>,
}

impl ColumnProfile {
    pub fn filled(&self) -> u64 {
        self.rows - self.nulls
    }

    pub fn distinct(&self) -> u64 {
        self.values.len() as u64
    }

    pub fn is_unique(&self) -> bool {
        self.rows > 0 && self.nulls == 0 && !self.capped && self.distinct() == self.rows
    }

    /// Rows that have no value, or one that another row has too.
    pub fn breaches(&self) -> u64 {
        self.rows - self.distinct().min(self.rows)
    }

    /// Whether it names every row but a few, as a key does in a table that has some mistakes.
    pub fn names_nearly_all(&self) -> bool {
        let few = (self.rows / ROWS_A_BREACH).max(1);
        self.rows >= LEAST_NAMED && !self.capped && self.can_identify() && self.breaches() <= few
    }

    /// Whether its values could name something: not measures, not dates.
    pub fn can_identify(&self) -> bool {
        matches!(self.kind, SeenKind::Text | SeenKind::Whole)
    }
}
