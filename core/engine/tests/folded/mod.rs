//! The same graph with all of it in the base.

#![allow(clippy::unwrap_used)]

use graphodrome_graph::{Base, Snapshot};

pub fn folded(made: &Snapshot) -> Snapshot {
    let base = Base::build(made.fold(), &made.schema()).unwrap();
    let next = made.next_ids();
    let mut snapshot = Snapshot::new(base.into(), made.schema(), made.version);
    snapshot.reserve_ids(next.0, next.1);
    snapshot
}
