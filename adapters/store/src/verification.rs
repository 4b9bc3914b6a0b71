//! Reads all stored data of a graph and compares it with memory.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use futures::TryStreamExt;
use graphodrome_graph::{Element, GraphError, differences};
use sea_orm::sqlx::{self};
use sea_orm::{ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entities::{commit, manifest};
use crate::entries::decode;
use crate::opening::{Bases, StoredGraph, layout_of, schema_of};
use crate::pages::read_segment;
use crate::schema_rows::GoOn;
use crate::segments::{read_residue, read_rows};
use crate::versions::{Moment, VersionKind};
use crate::{Catalog, StoreError};

/// Elements that are named of those that differ.
const MOST_NAMED: usize = 5;

/// What a look at everything that is stored of a graph found.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Verification {
    pub graph: String,
    /// The newest version that is stored.
    pub newest: u64,
    /// Bases, their segments and bytes, and entries of the log.
    pub bases: u64,
    pub segments: u64,
    pub bytes: u64,
    pub commits: u64,
    pub problems: Vec<String>,
    /// The newest version that can be read; `None` where none can.
    pub readable: Option<u64>,
}

impl Catalog {
    /// Looks at all of a graph that is stored, whether it is open or offline. `go_on` ends it.
    pub async fn verify(&self, name: &str, go_on: GoOn) -> Result<Verification, StoreError> {
        let open = self.graph(name);
        let id = match &open {
            Some(graph) => graph.id,
            None => {
                let offline = self.offline_graphs().into_iter().find(|g| g.name == name);
                offline.ok_or_else(|| StoreError::NoGraph(name.into()))?.id
            }
        };
        // Nothing is removed meanwhile.
        let _kept = match &open {
            Some(graph) => Some(graph.keep_version(Moment::Version(graph.oldest_version().await?)).await?),
            None => None,
        };
        let pool = self.database.get_postgres_connection_pool();
        let newest = match &open {
            Some(graph) => graph.snapshot().version as i64,
            None => {
                let text = "SELECT version FROM heads WHERE graph_id = $1";
                sqlx::query_scalar(text).bind(id).fetch_one(pool).await?
            }
        };
        let mut found = Verification { graph: name.into(), newest: newest as u64, ..Verification::default() };
        let bases = manifest::Entity::find()
            .filter(manifest::Column::GraphId.eq(id))
            .filter(manifest::Column::Version.lte(newest))
            .order_by_asc(manifest::Column::Version)
            .all(&self.database)
            .await?;
        found.bases = bases.len() as u64;
        let broken_bases = self.verify_bases(&bases, &mut found, &go_on).await?;
        let broken_commits = self.verify_log(id, name, &bases, &mut found, &go_on).await?;
        found.readable = newest_readable(&bases, &broken_bases, &broken_commits, newest);
        if found.problems.is_empty()
            && let Some(graph) = &open
        {
            self.compare(graph, newest as u64, &mut found, go_on).await?;
        }
        Ok(found)
    }

    /// Reads every segment; returns the versions of bases that cannot be read.
    async fn verify_bases(
        &self, bases: &[manifest::Model], found: &mut Verification, go_on: &GoOn,
    ) -> Result<BTreeSet<i64>, StoreError> {
        let pool = self.database.get_postgres_connection_pool();
        let mut broken = BTreeSet::new();
        // Bases share segments: each is read once.
        let mut segments: BTreeMap<(i64, bool), Vec<i64>> = BTreeMap::new();
        for base in bases {
            match layout_of(base).and_then(|layout| schema_of(base).map(|_| layout)) {
                Ok(layout) => {
                    for id in layout.table_segments() {
                        segments.entry((id, false)).or_default().push(base.version);
                    }
                    if let Some(id) = layout.residue {
                        segments.entry((id, true)).or_default().push(base.version);
                    }
                }
                Err(error) => {
                    found.problems.push(format!("the base of version {}: {error}", base.version));
                    broken.insert(base.version);
                }
            }
        }
        for ((id, residue), versions) in segments {
            go_on()?;
            let data = match read_segment(pool, id).await {
                Err(error @ (StoreError::Database(_) | StoreError::Driver(_))) => return Err(error),
                data => data,
            };
            let bytes = data.as_ref().map_or(0, |data| data.len() as u64);
            let read = tokio::task::spawn_blocking(move || match residue {
                true => read_residue(data?).map(drop),
                false => read_rows(data?).map(drop),
            });
            if let Err(error) = read.await? {
                let shown: Vec<String> = versions.iter().map(|v| v.to_string()).collect();
                let of = if shown.len() == 1 { "version" } else { "versions" };
                found
                    .problems
                    .push(format!("segment {id} of the base of {of} {}: {error}", shown.join(", ")));
                broken.extend(versions);
            }
            found.segments += 1;
            found.bytes += bytes;
        }
        Ok(broken)
    }

    /// Reads the log; returns the versions whose entries are missing or cannot be read.
    async fn verify_log(
        &self, id: i64, name: &str, bases: &[manifest::Model], found: &mut Verification, go_on: &GoOn,
    ) -> Result<BTreeSet<i64>, StoreError> {
        let mut broken = BTreeSet::new();
        let Some(oldest) = bases.first().map(|base| base.version) else {
            found.problems.push("there is no base".into());
            return Ok(broken);
        };
        let based: BTreeSet<i64> = bases.iter().map(|base| base.version).collect();
        let mut log = commit::Entity::find()
            .filter(commit::Column::GraphId.eq(id))
            .filter(commit::Column::Version.gt(oldest))
            .filter(commit::Column::Version.lte(found.newest as i64))
            .order_by_asc(commit::Column::Version)
            .stream(&self.database)
            .await?;
        let mut wanted = oldest + 1;
        while let Some(row) = log.try_next().await? {
            // What a load brought is in its base, and in no entry.
            let missing: Vec<i64> = (wanted..row.version).filter(|v| !based.contains(v)).collect();
            found.problems.extend(missing.iter().map(|v| format!("commit {v} is missing")));
            broken.extend(missing);
            if let Err(error) = decode(&row, name) {
                found.problems.push(error.to_string());
                broken.insert(row.version);
            }
            found.commits += 1;
            found.bytes += row.changes.len() as u64;
            if found.commits.is_multiple_of(1000) {
                go_on()?;
            }
            wanted = row.version + 1;
        }
        let missing: Vec<i64> = (wanted..=found.newest as i64).filter(|v| !based.contains(v)).collect();
        found.problems.extend(missing.iter().map(|v| format!("commit {v} is missing")));
        broken.extend(missing);
        Ok(broken)
    }

    /// Reads the newest version once more, as a start would, and compares it with the one in memory.
    async fn compare(
        &self, graph: &Arc<crate::GraphHandle>, newest: u64, found: &mut Verification, go_on: GoOn,
    ) -> Result<(), StoreError> {
        let kept = graph.keep_version(Moment::Version(newest)).await?;
        let in_memory = self.state_of(graph, &kept).await?;
        let bases = Bases::default();
        let stored = StoredGraph { database: &self.database, id: graph.id, name: &graph.name, bases: &bases };
        let read = match stored.open(Some(newest)).await {
            Ok((opened, _)) => opened.snapshot,
            Err(error @ (StoreError::Database(_) | StoreError::Driver(_))) => return Err(error),
            Err(error) => {
                found.problems.push(format!("version {newest} cannot be opened: {error}"));
                found.readable = newest.checked_sub(1);
                return Ok(());
            }
        };
        let compared = tokio::task::spawn_blocking(move || {
            let (mut count, mut named) = (0u64, vec![]);
            let mut visit = |difference: graphodrome_graph::ElementDifference| {
                count += 1;
                if named.len() < MOST_NAMED {
                    let letter = if difference.element == Element::Node { 'n' } else { 'e' };
                    named.push(format!("{letter}{}", difference.id));
                }
                Ok::<_, GraphError>(())
            };
            differences(&in_memory, &read, &*go_on, &mut visit)?;
            let counts = |s: &graphodrome_graph::Snapshot| (s.node_count(), s.edge_count());
            let mut problems = vec![];
            if count > 0 {
                problems.push(format!(
                    "{count} elements are stored otherwise than they are in memory: {}",
                    named.join(", ")
                ));
            }
            if counts(&in_memory) != counts(&read) {
                let (a, b) = (counts(&in_memory), counts(&read));
                problems.push(format!(
                    "{} nodes and {} edges are in memory, {} and {} are stored",
                    a.0, a.1, b.0, b.1
                ));
            }
            if in_memory.schema() != read.schema() {
                problems.push("type, keys or indexes are stored otherwise than they are in memory".into());
            }
            Ok::<_, StoreError>(problems)
        });
        found.problems.extend(compared.await??);
        Ok(())
    }
}

/// The newest version whose base and log can be read.
fn newest_readable(
    bases: &[manifest::Model], broken_bases: &BTreeSet<i64>, broken_commits: &BTreeSet<i64>, newest: i64,
) -> Option<u64> {
    let mut end = newest;
    for base in bases.iter().rev() {
        let first_broken = broken_commits.range(base.version + 1..).next();
        let last = first_broken.map_or(end, |broken| end.min(broken - 1));
        if !broken_bases.contains(&base.version) {
            return Some(last.max(base.version) as u64);
        }
        // What lies above a base can be made of the one before it only where the log goes through.
        if base.kind != VersionKind::Fold.as_str() {
            end = base.version - 1;
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn base(version: i64, kind: VersionKind) -> manifest::Model {
        manifest::Model {
            graph_id: 1,
            version,
            next_node_id: 0,
            next_edge_id: 0,
            layout: serde_json::Value::Null,
            created: chrono::Utc::now().fixed_offset(),
            kind: kind.as_str().into(),
            schema: serde_json::Value::Null,
            nodes: None,
            edges: None,
            origin: String::new(),
        }
    }

    #[test]
    fn the_newest_version_that_can_be_read_is_found() {
        let bases = [base(0, VersionKind::Create), base(5, VersionKind::Load), base(9, VersionKind::Fold)];
        let readable = |bad_bases: &[i64], bad_commits: &[i64]| {
            let set = |of: &[i64]| of.iter().copied().collect::<BTreeSet<i64>>();
            newest_readable(&bases, &set(bad_bases), &set(bad_commits), 12)
        };
        assert_eq!(readable(&[], &[]), Some(12));
        assert_eq!(readable(&[], &[11]), Some(10));
        assert_eq!(readable(&[], &[10]), Some(9));
        assert_eq!(readable(&[], &[7]), Some(12));
        // The base of a fold is made again out of the one before it and the log.
        assert_eq!(readable(&[9], &[]), Some(12));
        assert_eq!(readable(&[9], &[7]), Some(6));
        // What a load brought is nowhere else.
        assert_eq!(readable(&[5, 9], &[]), Some(4));
        assert_eq!(readable(&[5, 9], &[2]), Some(1));
        assert_eq!(readable(&[0, 5, 9], &[]), None);
    }
}
