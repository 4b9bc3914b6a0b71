//! What is known of a column after all of its values were looked at.

use std::collections::BTreeMap;

use hashbrown::HashSet;

use crate::mapping::DateOrder;

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

    /// Whether its values could name something: not measures, not dates.
    pub fn can_identify(&self) -> bool {
        matches!(self.kind, SeenKind::Text | SeenKind::Whole)
    }
}
