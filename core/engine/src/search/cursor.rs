//! Position of a search: its input row and the state of the query.

use crate::batch::Batch;
use crate::context::Context;

pub(crate) struct Cursor<'c> {
    pub batch: &'c Batch,
    pub row: usize,
    pub context: &'c mut Context,
}
