//! Columns out of those of several parts.

use std::sync::Arc;

use graphodrome_graph::{Column, Pick};

/// A gathered column of optional rows.
pub(crate) type Picks = Vec<Option<Pick>>;

/// The gathered column, unless it is null throughout.
pub(crate) fn some_column(name: &Arc<str>, parts: &[&Column], picks: &Picks) -> Option<(Arc<str>, Column)> {
    let column = Column::gather_optional(parts, picks);
    column.has_values().then(|| (name.clone(), column))
}
