//! Where a search stands: the input row that it works for, and what the query carries.

use crate::batch::Batch;
use crate::context::Context;

pub(crate) struct Cursor<'c> {
    pub batch: &'c Batch,
    pub row: usize,
    pub context: &'c mut Context,
}
