//! Jobs and rejects, as shared by loads, the store, the service and its clients.
//!
//! It must not know how a load works, or where records are stored.

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The names of an enum's values, as JSON, records and people have them.
macro_rules! named {
    ($of:ident { $($variant:ident $name:literal),+ $(,)? }) => {
        impl $of {
            pub const ALL: &[$of] = &[$($of::$variant),+];

            pub fn name(self) -> &'static str {
                match self { $($of::$variant => $name),+ }
            }

            pub fn named(name: &str) -> Option<$of> {
                $of::ALL.iter().copied().find(|value| value.name() == name)
            }
        }

        impl fmt::Display for $of {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.name())
            }
        }

        /// By its name.
        impl PartialEq<&str> for $of {
            fn eq(&self, name: &&str) -> bool {
                self.name() == *name
            }
        }
    };
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum JobState {
    Running,
    Done,
    Failed,
    Cancelled,
}

named!(JobState { Running "running", Done "done", Failed "failed", Cancelled "cancelled" });

/// How far a running job is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct JobProgress {
    /// waiting, reading, resolving keys, building, writing.
    pub phase: String,
    pub bytes_read: u64,
    pub bytes_total: u64,
    pub rows_read: u64,
    pub elapsed_ms: u64,
    /// From the bytes read so far; absent before there are any.
    pub left_ms: Option<u64>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    pub id: i64,
    /// load, key, index, model and others: what it does.
    pub kind: String,
    pub graph: String,
    pub state: JobState,
    /// What it works on: the files of a load.
    pub title: String,
    /// RFC 3339.
    pub started: String,
    pub finished: Option<String>,
    /// While it runs.
    pub progress: Option<JobProgress>,
    /// Of a finished load: `account`, `changed`, `version`; of a failed one: `error`.
    #[schema(value_type = Object)]
    pub detail: serde_json::Value,
}

/// What is wrong with a reject, so that rejects can be counted by it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RejectKind {
    /// The row is no row of the table: too short, too long, no valid JSON.
    Shape,
    /// A value is not of its property's type.
    Value,
    /// An expression failed on the row.
    Expression,
    EmptyKey,
    EmptyReference,
    Label,
    /// An end of the edge is not there.
    NoSuchNode,
    /// The element already exists with other values.
    KeyConflict,
    /// The graph type does not allow the element.
    Type,
}

named!(RejectKind {
    Shape "shape",
    Value "value",
    Expression "expression",
    EmptyKey "empty-key",
    EmptyReference "empty-reference",
    Label "label",
    NoSuchNode "no-such-node",
    KeyConflict "key-conflict",
    Type "type",
});

/// A row that could not be taken, and why.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Reject {
    pub table: String,
    /// Of a text file; of the others the number of the row or item. From 1.
    pub line: u64,
    pub column: Option<String>,
    pub value: Option<String>,
    pub kind: RejectKind,
    /// What the row should have become, such as `(:Site)`, and what is wrong.
    pub reason: String,
    /// The row as it stood in the file.
    pub record: String,
}

/// Some of a job's rejects.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rejects {
    /// Of the whole job.
    pub total: u64,
    pub rejects: Vec<Reject>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_of_the_json() {
        for kind in RejectKind::ALL {
            assert_eq!(serde_json::to_value(kind).ok(), Some(kind.name().into()));
            assert_eq!(RejectKind::named(kind.name()), Some(*kind));
        }
        for state in JobState::ALL {
            assert_eq!(serde_json::to_value(state).ok(), Some(state.name().into()));
            assert_eq!(JobState::named(state.name()), Some(*state));
            assert!(*state == state.name() && format!("{state:>9}").len() == 9);
        }
        assert_eq!(JobState::named("Done"), None);
    }
}
