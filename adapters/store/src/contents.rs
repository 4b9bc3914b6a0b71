//! Contents of a graph's next version.

use std::sync::Arc;

use graphodrome_graph::{Base, BaseParts, Snapshot};

/// What a new base is made of: parts, or a base whose keys and indexes are still to be built.
pub enum Contents {
    Parts(BaseParts),
    Base(Arc<Base>),
    /// One more level on the newest base, which stays as it is: parts made from this snapshot, whose
    /// changes of the base's own elements stay above it.
    Level(BaseParts, Box<Snapshot>),
}
