//! Atomic commits of several graphs: all heads move in one PostgreSQL transaction, so that a restart finds all of
//! it or nothing. Readers of several graphs also see all of it or nothing.

use std::sync::Arc;

use graphodrome_graph::{Change, Snapshot};
use parking_lot::RwLock;
use sea_orm::sqlx;
use tokio::sync::oneshot;

use crate::entries::encode_changes;
use crate::graph_handle::{GraphHandle, PATIENCE, Standing, Turn};
use crate::head::{Ticket, is_refusal};
use crate::log::{MOVE, PIECE_OF_LOG, after};
use crate::{Catalog, StoreError};

/// What a graph comes to, and the turn in which it does.
pub struct Part<'g> {
    pub turn: Turn<'g>,
    pub snapshot: Snapshot,
    pub changes: Vec<Change>,
}

/// A part on its way to the log.
struct WaitingCommit {
    graph: Arc<GraphHandle>,
    ticket: Ticket,
    before: u64,
    snapshot: Arc<Snapshot>,
    made: Arc<Vec<Change>>,
    bytes: Vec<u8>,
    origin: Arc<str>,
}

enum GroupFailed {
    /// Nothing of it was kept.
    Whole(StoreError),
    /// The graph's head was not where it should be: something else has written to it.
    Elsewhere(usize),
    /// The connection broke before PostgreSQL said so.
    Unknown(sqlx::Error),
}

impl From<sqlx::Error> for GroupFailed {
    fn from(error: sqlx::Error) -> GroupFailed {
        GroupFailed::Whole(error.into())
    }
}

impl Catalog {
    /// The newest states of all graphs, of one moment: of a commit of several graphs all is there, or nothing.
    pub fn snapshots(&self) -> Vec<(Arc<GraphHandle>, Arc<Snapshot>)> {
        let _shown = self.shown_together.read();
        self.graphs().into_iter().map(|graph| (graph.clone(), graph.snapshot())).collect()
    }

    /// The turns of several graphs. None is held while another is waited for: a long load of one of them keeps no writer
    /// of the others waiting.
    pub async fn turns<'g>(&self, graphs: &'g [Arc<GraphHandle>]) -> Result<Vec<Turn<'g>>, StoreError> {
        let mut busy = 0;
        'again: loop {
            let mut turns: Vec<Option<Turn<'g>>> = graphs.iter().map(|_| None).collect();
            let Some(graph) = graphs.get(busy) else { return Ok(vec![]) };
            turns[busy] = Some(graph.turn().await?);
            for (place, graph) in graphs.iter().enumerate().filter(|(place, _)| *place != busy) {
                match graph.turn_now()? {
                    Some(turn) => turns[place] = Some(turn),
                    None => {
                        busy = place;
                        continue 'again;
                    }
                }
            }
            return Ok(turns.into_iter().flatten().collect());
        }
    }

    /// Commits all parts or none; returns when that is durable, and seen.
    pub async fn commit_together(&self, parts: Vec<Part<'_>>) -> Result<(), StoreError> {
        let mut entries = vec![];
        for Part { turn, snapshot, changes } in &parts {
            let head = turn.settled().await?;
            let graph = turn.graph().clone();
            entries.push(WaitingCommit {
                ticket: graph.row.next(&graph.fence),
                before: head.version,
                snapshot: Arc::new(snapshot.clone()),
                bytes: encode_changes(changes)?,
                made: Arc::new(changes.clone()),
                origin: turn.origin.clone(),
                graph,
            });
        }
        let graphs: Vec<Arc<GraphHandle>> = entries.iter().map(|entry| entry.graph.clone()).collect();
        let mut logs = vec![];
        for graph in &graphs {
            logs.push(graph.log.lock().await);
            graph.state.lock().may_write()?;
        }
        match write(&entries).await {
            Ok(()) => {
                show_together(&self.shown_together, &entries);
                Ok(())
            }
            Err(GroupFailed::Whole(error)) => Err(error),
            Err(GroupFailed::Elsewhere(place)) => {
                let graph = &entries[place].graph;
                if !graph.fence.is_ours(graph.database.get_postgres_connection_pool()).await? {
                    return Err(graph.fence.check().err().unwrap_or(StoreError::Lost));
                }
                let why = "something else has written to it";
                graph.stand(Standing::Closed(why.into()));
                Err(StoreError::Closed(why.into()))
            }
            Err(GroupFailed::Unknown(error)) => {
                for WaitingCommit { graph, ticket, .. } in &entries {
                    tracing::warn!(%error, graph = graph.name, "whether a commit of several graphs was written is not known");
                    graph.doubts(ticket.own);
                }
                // From here on nobody writes to them before that is known.
                drop((logs, parts));
                self.settle_together(entries, error).await
            }
        }
    }

    /// Finds out what became of a commit, however long that takes; who waits for it is told after a while that it is not known.
    async fn settle_together(
        &self, entries: Vec<WaitingCommit>, error: sqlx::Error,
    ) -> Result<(), StoreError> {
        let unknown = entries.first().map(|entry| (entry.graph.name.clone(), entry.ticket.own));
        let (told, answer) = oneshot::channel();
        let shown_together = self.shown_together.clone();
        tokio::spawn(async move {
            let mut all = Ok(true);
            for WaitingCommit { graph, ticket, .. } in &entries {
                let settled = {
                    let _log = graph.log.lock().await;
                    graph.settle(*ticket, &mut |_| {}).await
                };
                // It is one transaction: what is true of one graph is true of all.
                match (&mut all, settled) {
                    (Ok(kept), Ok(of_this)) => *kept = *kept && of_this,
                    (Ok(_), Err(error)) => all = Err(error),
                    (Err(_), _) => {}
                }
            }
            if matches!(all, Ok(true)) {
                show_together(&shown_together, &entries);
            }
            for WaitingCommit { graph, ticket, .. } in &entries {
                graph.knows(ticket.own, all.as_ref().ok().copied());
                graph.stand(after(&all));
            }
            let _ = told.send(all);
        });
        match (tokio::time::timeout(PATIENCE, answer).await, unknown) {
            (Ok(Ok(Ok(true))), _) => Ok(()),
            (Ok(Ok(Ok(false))), _) => {
                Err(StoreError::Away(format!("PostgreSQL went away before the change was written: {error}")))
            }
            (_, Some((graph, ticket))) => Err(StoreError::Unknown { graph, ticket }),
            (_, None) => Err(error.into()),
        }
    }
}

/// Makes what is durable what everybody sees, at once.
fn show_together(shown_together: &RwLock<()>, entries: &[WaitingCommit]) {
    let _shown = shown_together.write();
    for WaitingCommit { graph, ticket, snapshot, made, bytes, .. } in entries {
        graph.row.kept(*ticket);
        graph.add_to_log(bytes.len());
        graph.show_commit(snapshot.clone(), made.clone());
        graph.fold_when_wanted();
    }
}

/// All of it in one transaction.
async fn write(entries: &[WaitingCommit]) -> Result<(), GroupFailed> {
    let Some(first) = entries.first() else { return Ok(()) };
    first.graph.fence.check().map_err(GroupFailed::Whole)?;
    let pool = first.graph.database.get_postgres_connection_pool();
    let mut transaction = pool.begin().await?;
    for (place, entry) in entries.iter().enumerate() {
        let WaitingCommit { graph, ticket, before, snapshot, .. } = entry;
        let moved = sqlx::query(MOVE)
            .bind(graph.id)
            .bind(snapshot.version as i64)
            .bind(*before as i64)
            .bind(ticket.own)
            .bind(ticket.before)
            .bind(graph.fence.epoch)
            .execute(&mut *transaction)
            .await?;
        if moved.rows_affected() == 0 {
            return Err(GroupFailed::Elsewhere(place));
        }
        sqlx::query(PIECE_OF_LOG)
            .bind(graph.id)
            .bind(vec![snapshot.version as i64])
            .bind(vec![crc32fast::hash(&entry.bytes) as i64])
            .bind(vec![&entry.bytes[..]])
            .bind(ticket.own)
            .bind(vec![snapshot.node_count() as i64])
            .bind(vec![snapshot.edge_count() as i64])
            .bind(vec![&*entry.origin])
            .execute(&mut *transaction)
            .await?;
    }
    transaction.commit().await.map_err(|error| match is_refusal(&error) {
        true => GroupFailed::Whole(error.into()),
        false => GroupFailed::Unknown(error),
    })
}
