//! Readers and writers of open formats, load mappings and drafts: from source tables to the parts of a base, and
//! from results to JSON, NDJSON, CSV and Arrow.
//!
//! Invariant: no sockets and no database; a load takes bytes and returns the new parts.

mod diagram;
mod draft;
mod edit;
mod export;
mod load;
mod mapping;
mod notebook;
mod results;
mod saved;

pub use diagram::{DiagramBox, DiagramLine, Flow, svg};
pub use draft::{
    ColumnKind, ColumnLook, Declared, DeclaredReference, Draft, DraftError, DraftTable, TableLook, draft,
    look,
};
pub use edit::edit_mapping;
pub use export::{Ask, Export, ExportError, ExportFormat, Selection};
pub use load::{
    Account, DATABASE_NULL, LoadError, LoadMemory, LoadOutcome, Preview, PreviewElement, PreviewRow,
    Progress, RuleAccount, Shape, Source, TableAccount, load, preview,
};
pub use mapping::{
    Compression, DateOrder, EdgeRule, Encoding, Existing, Field, Mapping, MappingError, Missing, NodeRule,
    Part, Reference, RejectLimit, Same, TableFormat, TableMapping, fits_pattern, is_pattern,
};
pub use notebook::{Cell, CellColumn, CellResult, CellView, Notebook, NotebookCellKind};
pub use results::{ResultFormat, ResultWriter, element_json, value_json};
pub use saved::{SavedParameter, SavedQuery};
