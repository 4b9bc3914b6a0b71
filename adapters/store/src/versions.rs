//! Versions: what made them, and how long they are kept.

use std::collections::BTreeMap;

use chrono::{DateTime, FixedOffset};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};

/// What made a version.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum VersionKind {
    Create,
    Commit,
    Load,
    Model,
    Restore,
    /// Commits that are folded into a base.
    Fold,
}

impl VersionKind {
    pub fn as_str(self) -> &'static str {
        match self {
            VersionKind::Create => "create",
            VersionKind::Commit => "commit",
            VersionKind::Load => "load",
            VersionKind::Model => "model",
            VersionKind::Restore => "restore",
            VersionKind::Fold => "fold",
        }
    }

    pub(crate) fn parse(text: &str) -> VersionKind {
        use VersionKind::*;
        [Create, Commit, Load, Model, Restore].into_iter().find(|k| k.as_str() == text).unwrap_or(Fold)
    }
}

/// Which versions stay: those that are among so many of the newest, and those that were the newest within so many days.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Retention {
    pub versions: u64,
    pub days: u64,
}

#[derive(Clone, Debug, PartialEq)]
pub struct VersionInfo {
    pub version: u64,
    pub kind: VersionKind,
    pub at: DateTime<FixedOffset>,
    /// Who or what asked for it; empty where nobody said so.
    pub origin: String,
    /// Elements of the version; unknown of those that earlier releases wrote.
    pub nodes: Option<u64>,
    pub edges: Option<u64>,
    /// Elements that a commit wrote or deleted.
    pub changes: Option<u64>,
    /// Whether a base is stored for it.
    pub base: bool,
}

/// Which version is meant.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Moment {
    Version(u64),
    /// The one that was the newest then.
    Timestamp(DateTime<FixedOffset>),
}

/// Versions that somebody reads from PostgreSQL, so that what they need stays until they are read.
#[derive(Default)]
pub(crate) struct Keeping {
    /// How many read it, by version.
    pub(crate) read: Mutex<BTreeMap<u64, usize>>,
    /// Held while rows are removed, and while a version is added above.
    pub(crate) removing: tokio::sync::Mutex<()>,
    /// Held while a version is read into memory: one at a time.
    pub opening: tokio::sync::Mutex<()>,
}
