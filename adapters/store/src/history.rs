//! The versions of a graph: what each was made by, which of them stay, and the states they were.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use chrono::{DateTime, FixedOffset, TimeDelta, Utc};
use graphodrome_graph::Snapshot;
use sea_orm::sqlx::{self, PgPool};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseBackend, EntityTrait, QueryFilter, QueryOrder, QuerySelect,
    Statement, TransactionTrait,
};

use crate::StoreError;
use crate::entities::{commit, graph, manifest, segment};
use crate::entries::{LogEntry, decode};
use crate::graph_handle::GraphHandle;
use crate::opening::{StoredGraph, layout_of};
use crate::pages::remove_segments;
use crate::versions::{Moment, Retention, VersionInfo, VersionKind};

/// However long versions are to stay, no more bases than these are kept of a graph, or, of a small one, than have so
/// many elements together; and no more commits.
const MOST_BASES: usize = 8;
const MOST_ELEMENTS: u64 = 4_000_000;
const MOST_COMMITS: u64 = 2_000_000;

/// A base that is stored.
struct StoredBase {
    version: u64,
    fold: bool,
    created: DateTime<FixedOffset>,
    elements: u64,
    segments: Vec<i64>,
}

/// Which bases may go, the oldest first in `bases`, the newest last: by number.
fn unneeded(
    bases: &[StoredBase], newest: u64, keep: Retention, now: DateTime<FixedOffset>, read: Option<u64>,
) -> Vec<usize> {
    let days = i64::try_from(keep.days).ok().and_then(TimeDelta::try_days);
    let young = days.and_then(|days| now.checked_sub_signed(days));
    let among_newest = (newest + 1).saturating_sub(keep.versions.max(1));
    let free = |base: &StoredBase| read.is_none_or(|read| base.version <= read);
    // From which on the bases stay: whatever lies before it is not asked for any more.
    let old = |base: &StoredBase| {
        base.version <= among_newest && young.is_some_and(|young| base.created <= young) && free(base)
    };
    let mut first = bases.iter().rposition(old).unwrap_or(0);
    while first + 1 < bases.len() && newest - bases[first].version > MOST_COMMITS && free(&bases[first + 1]) {
        first += 1;
    }
    let mut gone: BTreeSet<usize> = (0..first).collect();
    let too_much = |gone: &BTreeSet<usize>| {
        let kept = bases.iter().enumerate().filter(|(i, _)| !gone.contains(i));
        let elements: u64 = kept.map(|(_, base)| base.elements).sum();
        bases.len() - gone.len() > MOST_BASES && elements > MOST_ELEMENTS
    };
    while too_much(&gone) {
        // A base between others can be made again out of the one before it and the log, but not that of a load.
        let between =
            (first + 1..bases.len().saturating_sub(1)).find(|i| bases[*i].fold && !gone.contains(i));
        match between {
            Some(between) if read.is_none() => gone.insert(between),
            _ if free(&bases[first + 1]) => {
                gone.insert(first);
                first += 1;
                while gone.contains(&first) {
                    first += 1;
                }
                true
            }
            _ => break,
        };
    }
    gone.into_iter().collect()
}

impl GraphHandle {
    fn pool(&self) -> &PgPool {
        self.database.get_postgres_connection_pool()
    }

    pub async fn retention(&self) -> Result<Retention, StoreError> {
        let row = graph::Entity::find_by_id(self.id).one(&self.database).await?;
        let row = row.ok_or_else(|| StoreError::NoGraph(self.name.clone()))?;
        Ok(Retention { versions: row.keep_versions.max(1) as u64, days: row.keep_days.max(0) as u64 })
    }

    /// Says which versions stay from now on, and removes the others.
    pub async fn set_retention(self: &Arc<Self>, keep: Retention) -> Result<(), StoreError> {
        self.fence.check()?;
        sqlx::query("UPDATE graphs SET keep_versions = $2, keep_days = $3 WHERE id = $1")
            .bind(self.id)
            .bind(i64::try_from(keep.versions).unwrap_or(i64::MAX))
            .bind(i64::try_from(keep.days).unwrap_or(i64::MAX))
            .execute(self.pool())
            .await?;
        self.prune(&[]).await
    }

    async fn stored_bases(&self) -> Result<Vec<StoredBase>, StoreError> {
        let rows = manifest::Entity::find()
            .filter(manifest::Column::GraphId.eq(self.id))
            .order_by_asc(manifest::Column::Version)
            .all(&self.database)
            .await?;
        let base = |row: manifest::Model| {
            Ok(StoredBase {
                version: row.version as u64,
                fold: row.kind == VersionKind::Fold.as_str(),
                created: row.created,
                elements: (row.nodes.unwrap_or(0) + row.edges.unwrap_or(0)) as u64,
                segments: layout_of(&row)?.segment_ids(),
            })
        };
        rows.into_iter().map(base).collect()
    }

    /// Removes what no version that stays needs; `replaced` are segments that may be among that. Returns the bases
    /// that stay.
    async fn prune_rows(&self, replaced: &[i64]) -> Result<Vec<StoredBase>, StoreError> {
        let _removing = self.keeping.removing.lock().await;
        let keep = self.retention().await?;
        let mut bases = self.stored_bases().await?;
        let read = self.keeping.read.lock().keys().next().copied();
        let newest = self.snapshot().version;
        let gone = unneeded(&bases, newest, keep, Utc::now().fixed_offset(), read);
        let first = (0..bases.len()).find(|i| !gone.contains(i)).unwrap_or(0);
        if !gone.is_empty() {
            let transaction = self.database.begin().await?;
            self.fence.hold(&transaction).await?;
            let versions: Vec<i64> = gone.iter().map(|i| bases[*i].version as i64).collect();
            manifest::Entity::delete_many()
                .filter(manifest::Column::GraphId.eq(self.id))
                .filter(manifest::Column::Version.is_in(versions))
                .exec(&transaction)
                .await?;
            let text = format!(
                "DELETE FROM commits WHERE graph_id = {} AND version <= {}",
                self.id, bases[first].version
            );
            transaction.execute_raw(Statement::from_string(DatabaseBackend::Postgres, text)).await?;
            transaction.commit().await?;
        }
        let mut unnamed: BTreeSet<i64> = replaced.iter().copied().collect();
        let mut number = 0;
        bases.retain(|base| {
            let stays = !gone.contains(&number);
            number += 1;
            if !stays {
                unnamed.extend(&base.segments);
            }
            stays
        });
        for base in &bases {
            base.segments.iter().for_each(|id| {
                unnamed.remove(id);
            });
        }
        remove_segments(self.pool(), &unnamed.into_iter().collect::<Vec<_>>()).await?;
        Ok(bases)
    }

    pub(crate) async fn prune(&self, replaced: &[i64]) -> Result<(), StoreError> {
        self.prune_rows(replaced).await.map(drop)
    }

    /// [`Self::prune`] while nobody waits for it: it takes longer the larger what is removed was.
    pub(crate) fn prune_later(self: &Arc<Self>, replaced: Vec<i64>) {
        let graph = self.clone();
        tokio::spawn(async move {
            if let Err(error) = graph.prune(&replaced).await {
                tracing::warn!(%error, graph = graph.name, "what is no longer kept could not be removed; the next start does it");
            }
        });
    }

    /// [`Self::prune`], and removes segments that no base names, and bases that are damaged and not needed. While
    /// nothing is being written.
    pub(crate) async fn prune_unnamed(&self, damaged: &[i64]) -> Result<(), StoreError> {
        if !damaged.is_empty() {
            manifest::Entity::delete_many()
                .filter(manifest::Column::GraphId.eq(self.id))
                .filter(manifest::Column::Version.is_in(damaged.iter().copied()))
                .exec(&self.database)
                .await?;
        }
        let stored = segment::Entity::find()
            .filter(segment::Column::GraphId.eq(self.id))
            .select_only()
            .column(segment::Column::Id)
            .into_tuple::<i64>()
            .all(&self.database)
            .await?;
        self.prune(&stored).await
    }

    /// The oldest version that can be read.
    pub async fn oldest_version(&self) -> Result<u64, StoreError> {
        let oldest: Option<i64> =
            sqlx::query_scalar("SELECT min(version) FROM manifests WHERE graph_id = $1")
                .bind(self.id)
                .fetch_one(self.pool())
                .await?;
        Ok(oldest.unwrap_or(0) as u64)
    }

    /// Versions that can be read, the newest first, from before a given one.
    pub async fn versions(&self, before: Option<u64>, limit: u64) -> Result<Vec<VersionInfo>, StoreError> {
        let oldest = self.oldest_version().await? as i64;
        let before = before.map_or(i64::MAX, |before| i64::try_from(before).unwrap_or(i64::MAX));
        let commits = commit::Entity::find()
            .filter(commit::Column::GraphId.eq(self.id))
            .filter(commit::Column::Version.lt(before))
            .filter(commit::Column::Version.gt(oldest))
            .order_by_desc(commit::Column::Version)
            .limit(limit)
            .all(&self.database)
            .await?;
        let bases = manifest::Entity::find()
            .filter(manifest::Column::GraphId.eq(self.id))
            .filter(manifest::Column::Version.lt(before))
            .order_by_desc(manifest::Column::Version)
            .limit(limit)
            .all(&self.database)
            .await?;
        let known = |count: Option<i64>| count.map(|count| count as u64);
        let mut versions: BTreeMap<u64, VersionInfo> = BTreeMap::new();
        for row in bases {
            let info = VersionInfo {
                version: row.version as u64,
                kind: VersionKind::parse(&row.kind),
                at: row.created,
                origin: row.origin,
                nodes: known(row.nodes),
                edges: known(row.edges),
                changes: None,
                base: true,
            };
            versions.insert(info.version, info);
        }
        for row in commits {
            let (kind, changes) = match decode(&row, &self.name)? {
                LogEntry::Changes(changes) => (VersionKind::Commit, Some(changes.len() as u64)),
                LogEntry::Schema(_) => (VersionKind::Model, None),
            };
            let info = VersionInfo {
                version: row.version as u64,
                kind,
                at: row.created,
                origin: row.origin,
                nodes: known(row.nodes),
                edges: known(row.edges),
                changes,
                base: versions.contains_key(&(row.version as u64)),
            };
            versions.insert(info.version, info);
        }
        let published = self.snapshot().version;
        let shown = versions.into_values().rev().filter(|info| info.version <= published);
        Ok(shown.take(limit as usize).collect())
    }

    fn no_version(&self, wanted: String, oldest: u64) -> StoreError {
        StoreError::NoVersion { graph: self.name.clone(), wanted, oldest, newest: self.snapshot().version }
    }

    /// The version that is meant; an error where it is not there, or not any more.
    pub async fn version_at(&self, moment: Moment) -> Result<u64, StoreError> {
        let newest = self.snapshot().version;
        let oldest = self.oldest_version().await?;
        match moment {
            Moment::Version(version) if version <= newest && version >= oldest => Ok(version),
            Moment::Version(version) => Err(self.no_version(format!("version {version}"), oldest)),
            Moment::Timestamp(at) => {
                let text = "
                    SELECT max(version) FROM (
                        (SELECT version FROM commits WHERE graph_id = $1 AND version > $3 AND created <= $2
                         ORDER BY version DESC LIMIT 1)
                        UNION ALL
                        (SELECT version FROM manifests WHERE graph_id = $1 AND created <= $2
                         ORDER BY version DESC LIMIT 1)
                    ) AS found";
                let found: Option<i64> = sqlx::query_scalar(text)
                    .bind(self.id)
                    .bind(at)
                    .bind(oldest as i64)
                    .fetch_one(self.pool())
                    .await?;
                match found {
                    Some(version) => Ok((version as u64).min(newest)),
                    None => Err(self.no_version(format!("version of {}", at.to_rfc3339()), oldest)),
                }
            }
        }
    }

    /// Keeps what a version needs in PostgreSQL until the answer is dropped.
    pub async fn keep_version(self: &Arc<Self>, moment: Moment) -> Result<KeptVersion, StoreError> {
        let _removing = self.keeping.removing.lock().await;
        let version = self.version_at(moment).await?;
        *self.keeping.read.lock().entry(version).or_default() += 1;
        Ok(KeptVersion { graph: self.clone(), version })
    }

    /// The state of a version, out of what is stored; where the tables it is made of are in memory they are not read.
    pub(crate) async fn read_version(
        self: &Arc<Self>, kept: &KeptVersion,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let newest = self.snapshot();
        if newest.version == kept.version {
            return Ok(newest);
        }
        let stored =
            StoredGraph { database: &self.database, id: self.id, name: &self.name, bases: &self.bases };
        let snapshot = stored.open(Some(kept.version)).await?.0.snapshot;
        if snapshot.version != kept.version {
            let text = format!("the log of graph {} ends at version {}", self.name, snapshot.version);
            return Err(StoreError::Damaged(text));
        }
        Ok(Arc::new(snapshot))
    }
}

/// A version is kept as long as this is.
pub struct KeptVersion {
    graph: Arc<GraphHandle>,
    pub version: u64,
}

impl Drop for KeptVersion {
    fn drop(&mut self) {
        let mut read = self.graph.keeping.read.lock();
        if let Some(readers) = read.get_mut(&self.version) {
            *readers -= 1;
            if *readers == 0 {
                read.remove(&self.version);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bases(versions: &[(u64, bool, i64)]) -> Vec<StoredBase> {
        let base = |&(version, fold, days_ago)| StoredBase {
            version,
            fold,
            created: Utc::now().fixed_offset() - TimeDelta::days(days_ago),
            elements: MOST_ELEMENTS / 4,
            segments: vec![],
        };
        versions.iter().map(base).collect()
    }

    fn gone(versions: &[(u64, bool, i64)], newest: u64, keep: (u64, u64), read: Option<u64>) -> Vec<u64> {
        let keep = Retention { versions: keep.0, days: keep.1 };
        let bases = bases(versions);
        let gone = unneeded(&bases, newest, keep, Utc::now().fixed_offset(), read);
        gone.into_iter().map(|i| bases[i].version).collect()
    }

    #[test]
    fn bases_stay_that_a_version_needs_which_stays() {
        let loads = [(1, false, 9), (5, false, 8), (9, false, 3), (20, false, 1)];
        // Of the ten newest (11 to 20) the oldest are commits above 9.
        assert_eq!(gone(&loads, 20, (10, 0), None), [1, 5]);
        assert_eq!(gone(&loads, 20, (1, 0), None), [1, 5, 9]);
        assert_eq!(gone(&loads, 20, (20, 0), None), [0; 0]);
        // What was the newest within seven days: 5 until three days ago.
        assert_eq!(gone(&loads, 20, (1, 7), None), [1]);
        assert_eq!(gone(&loads, 20, (1, 30), None), [0; 0]);
        assert_eq!(gone(&loads, 20, (10, u64::MAX), None), [0; 0]);
        // Somebody reads version 6.
        assert_eq!(gone(&loads, 20, (1, 0), Some(6)), [1]);
        assert_eq!(gone(&loads, 20, (1, 0), Some(0)), [0; 0]);
    }

    #[test]
    fn no_more_bases_are_kept_than_there_may_be() {
        let folds: Vec<_> = (0..12).map(|i| (i * 10, i > 0, 0)).collect();
        // Those between can be made again out of the first and the log.
        assert_eq!(gone(&folds, 200, (1000, 7), None), [10, 20, 30, 40]);
        assert_eq!(gone(&folds, 200, (1000, 7), Some(5)), [0; 0]);
        let loads: Vec<_> = (0..12).map(|i| (i * 10, false, 0)).collect();
        assert_eq!(gone(&loads, 200, (1000, 7), None), [0, 10, 20, 30]);
        // Of a small graph there may be more.
        let mut small = bases(&loads);
        small.iter_mut().for_each(|base| base.elements = 100);
        let keep = Retention { versions: 1000, days: 7 };
        assert!(unneeded(&small, 200, keep, Utc::now().fixed_offset(), None).is_empty());
        let long = [(0, false, 0), (10, true, 0), (5_000_000, true, 0)];
        assert_eq!(gone(&long, 5_000_001, (1000, 7), None), [0, 10]);
    }
}
