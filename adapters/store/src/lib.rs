//! PostgreSQL as the truth: entities, migrations, segments, the commit log, recovery, and the private
//! server that holds it all when no other is named.
//!
//! Invariant: everything that was answered is in PostgreSQL; everything else is derived. Every start is
//! a recovery.

mod backup;
mod catalog;
mod contents;
mod drawings;
mod entities;
mod entries;
mod error;
mod fence;
mod graph_handle;
mod head;
mod history;
mod jobs;
mod json_rows;
mod lent;
mod log;
mod looks;
mod migration;
mod notebooks;
mod opening;
mod pages;
mod past;
mod past_reads;
mod procedures;
mod publishing;
mod restoring;
mod runs;
mod saved;
mod schema;
mod schema_rows;
mod segments;
mod server;
mod stored_columns;
mod texts;
mod together;
mod verification;
mod versions;

pub use backup::{BACKUP_FORMAT, BackupBase, BackupManifest, LogEntry, Restoring};
pub use catalog::{Catalog, GraphInfo, GraphTypeInfo, NewGraph, OfflineGraph, OpenMode};
pub use contents::Contents;
pub use drawings::DrawingRecord;
pub use error::StoreError;
pub use graph_handle::{GraphHandle, Turn};
pub use history::KeptVersion;
pub use log::Outcome;
pub use notebooks::NotebookRecord;
pub use procedures::{NewProcedure, ProcedureRecord};
pub use runs::{BaselineRecord, NewRun, RunFilter, RunKind, RunLimits, RunRecord, RunSummary};
pub use saved::SavedRecord;
pub use schema_rows::GoOn;
pub use server::{PrivateServer, find_server_binaries};
pub use together::Part;
pub use verification::Verification;
pub use versions::{Moment, Retention, VersionInfo, VersionKind};
