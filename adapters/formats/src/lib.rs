//! Readers and writers of open formats, load mappings and drafts of them: from source tables to the
//! parts of a base, and from results to JSON, NDJSON, CSV and Arrow.
//!
//! Invariant: no sockets and no database; a load gets its bytes and returns what it made.

mod diagram;
mod draft;
mod load;
mod mapping;
mod results;

pub use diagram::{DiagramBox, DiagramLine, Flow, svg};
pub use draft::{ColumnKind, Declared, DeclaredReference, Draft, DraftError, DraftTable, draft};
pub use load::{Account, LoadError, LoadOutcome, Progress, Reject, RuleAccount, Source, TableAccount, load};
pub use mapping::{
    DateOrder, EdgeRule, Mapping, MappingError, NodeRule, Reference, Same, TableFormat, TableMapping,
};
pub use results::{ResultFormat, ResultWriter, element_json, value_json};
