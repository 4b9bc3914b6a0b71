//! The commit log of a graph: one task writes queued entries and answers every waiting client with the outcome. A
//! write without an answer is resolved before anything else is written.

use std::sync::Arc;
use std::time::{Duration, Instant};

use sea_orm::sqlx::{self, PgPool};

use crate::StoreError;
use crate::graph_handle::{GraphHandle, PATIENCE, Pending, Standing};
use crate::head::{Ticket, is_refusal};

/// Between two questions what became of a write.
const AGAIN: Duration = Duration::from_millis(100);
const AGAIN_AT_MOST: Duration = Duration::from_secs(2);

/// Writes in doubt that are remembered.
const OUTCOMES: usize = 1_000;

/// Moves the head and writes the commits, if the head is where it should be and the epoch is ours.
const LOG: &str = "
WITH ours AS (SELECT FROM service WHERE epoch = $9 FOR SHARE),
moved AS (
    UPDATE heads SET version = $5, ticket = $7
    WHERE graph_id = $1 AND version = $6 AND ticket = $8 AND EXISTS (SELECT FROM ours)
    RETURNING graph_id
)
INSERT INTO commits (graph_id, version, checksum, changes, nodes, edges, origin, ticket, created)
SELECT graph_id, new.version, checksum, changes, nodes, edges, origin, $7, now()
FROM moved, unnest($2::bigint[], $3::bigint[], $4::bytea[], $10::bigint[], $11::bigint[], $12::text[])
    AS new (version, checksum, changes, nodes, edges, origin)";

/// The same in parts, for what is too much for one statement.
pub(crate) const MOVE: &str = "
WITH ours AS (SELECT FROM service WHERE epoch = $6 FOR SHARE)
UPDATE heads SET version = $2, ticket = $4
WHERE graph_id = $1 AND version = $3 AND ticket = $5 AND EXISTS (SELECT FROM ours)";
pub(crate) const PIECE_OF_LOG: &str = "
INSERT INTO commits (graph_id, version, checksum, changes, nodes, edges, origin, ticket, created)
SELECT $1, version, checksum, changes, nodes, edges, origin, $5, now()
FROM unnest($2::bigint[], $3::bigint[], $4::bytea[], $6::bigint[], $7::bigint[], $8::text[])
    AS new (version, checksum, changes, nodes, edges, origin)";

/// Commits as columns.
struct CommitColumns<'p> {
    versions: Vec<i64>,
    checksums: Vec<i64>,
    changes: Vec<&'p [u8]>,
    nodes: Vec<i64>,
    edges: Vec<i64>,
    origins: Vec<&'p str>,
}

impl CommitColumns<'_> {
    fn of(batch: &[Pending]) -> CommitColumns<'_> {
        CommitColumns {
            versions: batch.iter().map(|p| p.snapshot.version as i64).collect(),
            checksums: batch.iter().map(|p| crc32fast::hash(&p.changes) as i64).collect(),
            changes: batch.iter().map(|p| &p.changes[..]).collect(),
            nodes: batch.iter().map(|p| p.snapshot.node_count() as i64).collect(),
            edges: batch.iter().map(|p| p.snapshot.edge_count() as i64).collect(),
            origins: batch.iter().map(|p| &*p.origin).collect(),
        }
    }
}

/// What became of a write.
enum Written {
    Yes,
    /// Nothing was kept, or nothing was sent.
    No(StoreError),
    /// The connection broke before PostgreSQL said so.
    Unknown(sqlx::Error),
}

/// The task that writes the queue; should it stop half way, the next commit begins another.
struct Writer(Arc<GraphHandle>);

impl Drop for Writer {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.state.lock().writing = false;
        }
    }
}

/// What became of a change whose answer was that it is not known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    Written,
    NotWritten,
    /// PostgreSQL does not answer yet.
    NotKnownYet,
    /// It is too long ago to tell.
    Forgotten,
}

impl GraphHandle {
    /// Writes what is queued, in a task of its own: a client that goes away drops its request, and a
    /// log entry dropped half way would leave the newest state with a gap in the log behind it.
    pub(crate) async fn flush(self: &Arc<Self>) {
        let graph = self.clone();
        if let Err(error) = tokio::spawn(async move { graph.write_queue().await }).await {
            tracing::error!(%error, graph = self.name, "the commit log's writer stopped");
        }
    }

    /// Sees to it that what is queued is written: by the task that writes already, or by a new one. What is
    /// queued while that waits for PostgreSQL goes into one transaction after it.
    pub(crate) fn keep_writing(self: &Arc<Self>) {
        if std::mem::replace(&mut self.state.lock().writing, true) {
            return;
        }
        let writer = Writer(self.clone());
        tokio::spawn(async move {
            loop {
                // Whoever is about to queue something comes along.
                tokio::task::yield_now().await;
                writer.0.write_queue().await;
                writer.0.fold_when_wanted();
                let mut state = writer.0.state.lock();
                if state.queue.is_empty() {
                    state.writing = false;
                    return;
                }
            }
        });
    }

    /// Makes a new base in the background, where enough lies above the one there is, whoever changed it.
    pub fn fold_when_wanted(self: &Arc<Self>) {
        if !self.wants_fold() || self.folding.try_lock().is_err() {
            return;
        }
        let graph = self.clone();
        tokio::spawn(async move {
            if let Err(error) = graph.fold().await {
                tracing::warn!(%error, graph = graph.name, "the graph could not be folded");
            }
        });
    }

    /// Writes what is queued, unless somebody did so meanwhile.
    async fn write_queue(&self) {
        let _log = self.log.lock().await;
        let batch = std::mem::take(&mut self.state.lock().queue);
        let Some(last) = batch.last() else { return };
        let newest = last.snapshot.clone();
        let ticket = self.row.next(&self.fence);
        match self.log_commits(&batch, ticket).await {
            Written::Yes => {
                self.row.kept(ticket);
                self.add_to_log(batch.iter().map(|p| p.changes.len()).sum());
                self.publish_snapshot(newest);
                answer(batch, &|| Ok(()));
            }
            Written::No(error) => self.take_back(batch, &error),
            Written::Unknown(error) => {
                tracing::warn!(%error, graph = self.name, "whether commits were written is not known");
                self.settle_batch(batch, ticket).await;
            }
        }
    }

    /// Nothing of the batch is durable, so nothing built on it may stay.
    fn take_back(&self, batch: Vec<Pending>, error: &StoreError) {
        let later = {
            let mut state = self.state.lock();
            state.reset(self.snapshot());
            std::mem::take(&mut state.queue)
        };
        answer(batch, &|| Err(why_not(error)));
        answer(later, &|| Err(StoreError::Lost));
    }

    /// Nothing is written until it is known what became of the transaction with this ticket.
    pub(crate) fn doubts(&self, ticket: i64) {
        let mut state = self.state.lock();
        state.standing = Standing::InDoubt;
        state.outcomes.push_back((ticket, None));
        if state.outcomes.len() > OUTCOMES {
            state.outcomes.pop_front();
        }
    }

    /// Remembers what became of it, for those who ask.
    pub(crate) fn knows(&self, ticket: i64, kept: Option<bool>) {
        let mut state = self.state.lock();
        if let Some((_, outcome)) = state.outcomes.iter_mut().find(|(known, _)| *known == ticket) {
            *outcome = kept;
        }
    }

    /// Finds out what became of the batch, and nothing is written before that.
    async fn settle_batch(&self, batch: Vec<Pending>, ticket: Ticket) {
        self.doubts(ticket.own);
        let later = std::mem::take(&mut self.state.lock().queue);
        // These were never sent.
        answer(later, &|| Err(StoreError::Lost));
        let newest = batch.last().map(|last| last.snapshot.clone());
        let mut waiting = Some(batch);
        let unknown = || Err(StoreError::Unknown { graph: self.name.clone(), ticket: ticket.own });
        let settled = self
            .settle(ticket, &mut |since| {
                if since > PATIENCE
                    && let Some(batch) = waiting.take()
                {
                    answer(batch, &unknown);
                }
            })
            .await;
        self.knows(ticket.own, settled.as_ref().ok().copied());
        let mut state = self.state.lock();
        match (&settled, newest) {
            (Ok(true), Some(newest)) => {
                self.publish_snapshot(newest.clone());
                state.head = newest;
            }
            _ => state.reset(self.snapshot()),
        }
        drop(state);
        self.stand(after(&settled));
        let Some(batch) = waiting else { return };
        match settled {
            Ok(true) => answer(batch, &|| Ok(())),
            Ok(false) => answer(batch, &|| {
                Err(StoreError::Away("PostgreSQL went away before the change was written".into()))
            }),
            Err(_) => answer(batch, &unknown),
        }
    }

    /// Asks what became of a transaction until PostgreSQL answers; calls `meanwhile` with how long that has
    /// lasted. Called with the log held.
    pub(crate) async fn settle(
        &self, ticket: Ticket, meanwhile: &mut (dyn FnMut(Duration) + Send),
    ) -> Result<bool, StoreError> {
        let pool = self.database.get_postgres_connection_pool();
        let (began, mut pause) = (Instant::now(), AGAIN);
        loop {
            match self.row.settle(ticket, &self.fence, pool).await {
                Err(error @ (StoreError::Closed(_) | StoreError::Fenced(_))) => return Err(error),
                Err(error) => tracing::debug!(%error, graph = self.name, "PostgreSQL does not answer yet"),
                Ok(kept) => {
                    tracing::info!(graph = self.name, kept, "what became of the last write is known");
                    return Ok(kept);
                }
            }
            meanwhile(began.elapsed());
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(AGAIN_AT_MOST);
        }
    }

    /// All of them or none: one statement for any number of commits, so that it is prepared once, and one
    /// more for each piece of what is more than PostgreSQL takes at once.
    async fn log_commits(&self, batch: &[Pending], ticket: Ticket) -> Written {
        if let Err(error) = self.fence.check() {
            return Written::No(error);
        }
        let pool = self.database.get_postgres_connection_pool();
        let pieces = pieces(batch);
        let written = match &pieces[..] {
            [all] => self.log_at_once(pool, all, ticket).await,
            _ => self.log_in_pieces(pool, &pieces, ticket).await,
        };
        match written {
            Ok(rows) if rows == batch.len() as u64 => Written::Yes,
            Ok(_) => match self.fence.is_ours(pool).await {
                Ok(true) => {
                    let why = "something else has written to it";
                    self.stand(Standing::Closed(why.into()));
                    Written::No(StoreError::Closed(why.into()))
                }
                Ok(false) => Written::No(self.fence.check().err().unwrap_or(StoreError::Lost)),
                Err(error) => Written::No(error.into()),
            },
            Err(WriteFailed::Before(error)) => Written::No(error.into()),
            Err(WriteFailed::Amid(error)) if is_refusal(&error) => Written::No(error.into()),
            Err(WriteFailed::Amid(error)) => Written::Unknown(error),
        }
    }

    async fn log_at_once(
        &self, pool: &PgPool, batch: &[Pending], ticket: Ticket,
    ) -> Result<u64, WriteFailed> {
        let mut connection = self.lent.take(pool).await.map_err(WriteFailed::Before)?;
        let Some((first, last)) = batch.first().zip(batch.last()) else { return Ok(0) };
        let CommitColumns { versions, checksums, changes, nodes, edges, origins } = CommitColumns::of(batch);
        let done = sqlx::query(LOG)
            .bind(self.id)
            .bind(versions)
            .bind(checksums)
            .bind(changes)
            .bind(last.snapshot.version as i64)
            .bind(first.snapshot.version as i64 - 1)
            .bind(ticket.own)
            .bind(ticket.before)
            .bind(self.fence.epoch)
            .bind(nodes)
            .bind(edges)
            .bind(origins)
            .execute(&mut *connection)
            .await
            .map_err(WriteFailed::Amid)?;
        self.lent.give_back(connection);
        Ok(done.rows_affected())
    }

    async fn log_in_pieces(
        &self, pool: &PgPool, pieces: &[&[Pending]], ticket: Ticket,
    ) -> Result<u64, WriteFailed> {
        let mut transaction = pool.begin().await.map_err(WriteFailed::Before)?;
        let first = pieces.first().and_then(|piece| piece.first());
        let last = pieces.last().and_then(|piece| piece.last());
        let Some((first, last)) = first.zip(last) else { return Ok(0) };
        let moved = sqlx::query(MOVE)
            .bind(self.id)
            .bind(last.snapshot.version as i64)
            .bind(first.snapshot.version as i64 - 1)
            .bind(ticket.own)
            .bind(ticket.before)
            .bind(self.fence.epoch)
            .execute(&mut *transaction)
            .await
            .map_err(WriteFailed::Before)?;
        if moved.rows_affected() == 0 {
            return Ok(0);
        }
        let mut written = 0;
        for piece in pieces {
            let CommitColumns { versions, checksums, changes, nodes, edges, origins } =
                CommitColumns::of(piece);
            let done = sqlx::query(PIECE_OF_LOG)
                .bind(self.id)
                .bind(versions)
                .bind(checksums)
                .bind(changes)
                .bind(ticket.own)
                .bind(nodes)
                .bind(edges)
                .bind(origins)
                .execute(&mut *transaction)
                .await
                .map_err(WriteFailed::Before)?;
            written += done.rows_affected();
        }
        transaction.commit().await.map_err(WriteFailed::Amid)?;
        Ok(written)
    }

    /// What became of a change whose answer was [`StoreError::Unknown`].
    pub async fn outcome(&self, ticket: i64) -> Result<Outcome, StoreError> {
        let known = {
            let state = self.state.lock();
            state.outcomes.iter().find(|(known, _)| *known == ticket).map(|(_, outcome)| *outcome)
        };
        match known {
            Some(Some(true)) => return Ok(Outcome::Written),
            Some(Some(false)) => return Ok(Outcome::NotWritten),
            Some(None) => return Ok(Outcome::NotKnownYet),
            None => {}
        }
        let pool = self.database.get_postgres_connection_pool();
        let found: bool =
            sqlx::query_scalar("SELECT EXISTS (SELECT FROM commits WHERE graph_id = $1 AND ticket = $2)")
                .bind(self.id)
                .bind(ticket)
                .fetch_one(pool)
                .await?;
        let oldest: Option<i64> = sqlx::query_scalar("SELECT min(ticket) FROM commits WHERE graph_id = $1")
            .bind(self.id)
            .fetch_one(pool)
            .await?;
        // Of what was folded into a base the log says nothing any more.
        Ok(match found {
            true => Outcome::Written,
            false if ticket > self.row.last() || oldest.is_some_and(|oldest| oldest < ticket) => {
                Outcome::NotWritten
            }
            false => Outcome::Forgotten,
        })
    }
}

/// Whether a graph may be written once a write was settled.
pub(crate) fn after(settled: &Result<bool, StoreError>) -> Standing {
    match settled {
        Err(StoreError::Closed(why)) => Standing::Closed(why.clone()),
        _ => Standing::Open,
    }
}

enum WriteFailed {
    /// Before anything could be kept.
    Before(sqlx::Error),
    Amid(sqlx::Error),
}

/// An error that was said once, for everybody in a batch.
fn why_not(error: &StoreError) -> StoreError {
    match error {
        StoreError::Closed(why) => StoreError::Closed(why.clone()),
        StoreError::Fenced(why) => StoreError::Fenced(why.clone()),
        StoreError::Lost => StoreError::Lost,
        other => StoreError::Away(format!("the change could not be written: {other}")),
    }
}

fn answer(batch: Vec<Pending>, with: &dyn Fn() -> Result<(), StoreError>) {
    for pending in batch {
        // Who asked may be gone.
        let _ = pending.done.send(with());
    }
}

/// Bytes of changes in one statement, where there is more than one commit in it: PostgreSQL takes less than
/// 1 GiB.
const PIECE: usize = 64 << 20;

/// Commits in their order, so many at once as are not too large together.
fn pieces(batch: &[Pending]) -> Vec<&[Pending]> {
    let (mut pieces, mut first, mut bytes) = (vec![], 0, 0);
    for (i, pending) in batch.iter().enumerate() {
        if i > first && bytes + pending.changes.len() > PIECE {
            pieces.push(&batch[first..i]);
            (first, bytes) = (i, 0);
        }
        bytes += pending.changes.len();
    }
    pieces.push(&batch[first..]);
    pieces
}
