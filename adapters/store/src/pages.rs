//! Segments in PostgreSQL: one row with the owner, and the bytes in pages of PostgreSQL's page size, written and
//! read in one stream.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use futures::TryStreamExt;
use sea_orm::sqlx::postgres::PgPoolCopyExt;
use sea_orm::sqlx::{self, PgPool};
use tokio::sync::mpsc;

use crate::StoreError;
use crate::schema_rows::GoOn;
use crate::segments::{Layout, Outline};

/// Bytes of a page: what fits into PostgreSQL's beside the row's own head.
const PAGE: usize = 8100;

/// Bytes of a segment that room is made for.
const MOST_EXPECTED: usize = 4 << 20;

/// Connections over which segments are written, and threads that make them.
const WRITERS: usize = 2;

/// Segments that are made and not yet written.
const READY: usize = 4;

/// Segments that are removed in one statement.
const REMOVED_AT_ONCE: usize = 64;

const COPY: &str = "COPY segment_pages (segment_id, page, data) FROM STDIN (FORMAT binary)";

/// Begins and ends a stream of PostgreSQL's binary COPY.
const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";
const TRAILER: [u8; 2] = (-1i16).to_be_bytes();

/// Makes and stores the segments of an outline; returns the layout with their ids. Where it fails what it has
/// stored is removed.
pub(crate) async fn store(
    pool: &PgPool, graph_id: i64, outline: Outline, go_on: GoOn,
) -> Result<Layout, StoreError> {
    let text = "INSERT INTO segments (id, graph_id)
                SELECT nextval('segment_ids'), $1 FROM generate_series(1, $2) RETURNING id";
    let ids: Vec<i64> =
        sqlx::query_scalar(text).bind(graph_id).bind(outline.len() as i64).fetch_all(pool).await?;
    let layout = outline.layout(&ids);
    let outline = Arc::new(outline);
    let (sender, receiver) = mpsc::channel::<(i64, Vec<u8>)>(READY);
    let next = Arc::new(AtomicUsize::new(0));
    let ids = Arc::new(ids);
    let makers: Vec<_> = (0..WRITERS)
        .map(|_| {
            let (outline, ids, next) = (outline.clone(), ids.clone(), next.clone());
            let (sender, go_on) = (sender.clone(), go_on.clone());
            tokio::task::spawn_blocking(move || {
                loop {
                    let place = next.fetch_add(1, Ordering::Relaxed);
                    let Some(id) = ids.get(place) else { return Ok(()) };
                    go_on()?;
                    let made = outline.segment(place)?;
                    // Nobody takes it where writing has failed, which says why.
                    if sender.blocking_send((*id, made)).is_err() {
                        return Ok::<(), StoreError>(());
                    }
                }
            })
        })
        .collect();
    drop(sender);
    let receiver = tokio::sync::Mutex::new(receiver);
    let (first, second) = tokio::join!(copy(pool, &receiver), copy(pool, &receiver));
    // Makers that wait for a place learn that there is none.
    drop(receiver);
    let mut made = Ok(());
    for maker in makers {
        let ended = maker.await.map_err(StoreError::from).flatten();
        made = made.and(ended);
    }
    if let Err(error) = made.and(first).and(second) {
        remove_segments(pool, &ids).await.ok();
        return Err(error);
    }
    Ok(layout)
}

/// The rows of a segment's pages, as COPY takes them.
fn page_rows(id: i64, data: &[u8]) -> Vec<u8> {
    let mut rows = Vec::with_capacity(data.len() + (data.len() / PAGE + 1) * 26);
    for (page, bytes) in data.chunks(PAGE).enumerate() {
        rows.extend_from_slice(&3i16.to_be_bytes());
        rows.extend_from_slice(&8i32.to_be_bytes());
        rows.extend_from_slice(&id.to_be_bytes());
        rows.extend_from_slice(&4i32.to_be_bytes());
        rows.extend_from_slice(&(page as i32).to_be_bytes());
        rows.extend_from_slice(&(bytes.len() as i32).to_be_bytes());
        rows.extend_from_slice(bytes);
    }
    rows
}

/// Stores one segment; its number.
pub(crate) async fn write_segment(pool: &PgPool, graph_id: i64, data: Vec<u8>) -> Result<i64, StoreError> {
    let text = "INSERT INTO segments (id, graph_id) VALUES (nextval('segment_ids'), $1) RETURNING id";
    let id: i64 = sqlx::query_scalar(text).bind(graph_id).fetch_one(pool).await?;
    let mut copy = pool.copy_in_raw(COPY).await?;
    copy.send([HEADER, &page_rows(id, &data), &TRAILER].concat()).await?;
    copy.finish().await?;
    Ok(id)
}

/// Writes what comes, over one connection.
async fn copy(
    pool: &PgPool, segments: &tokio::sync::Mutex<mpsc::Receiver<(i64, Vec<u8>)>>,
) -> Result<(), StoreError> {
    let mut copy = None;
    loop {
        let next = segments.lock().await.recv().await;
        let Some((id, data)) = next else { break };
        let copy = match &mut copy {
            Some(copy) => copy,
            None => {
                let copy = copy.insert(pool.copy_in_raw(COPY).await?);
                copy.send(HEADER).await?;
                copy
            }
        };
        copy.send(page_rows(id, &data)).await?;
    }
    if let Some(mut copy) = copy {
        copy.send(&TRAILER[..]).await?;
        copy.finish().await?;
    }
    Ok(())
}

/// The pages of a segment, as PostgreSQL sent them.
pub(crate) struct Pages {
    id: i64,
    raw: Vec<u8>,
}

pub(crate) async fn read_pages(pool: &PgPool, id: i64) -> Result<Pages, StoreError> {
    let text = format!(
        "COPY (SELECT data FROM segment_pages WHERE segment_id = {id} ORDER BY page) TO STDOUT (FORMAT binary)"
    );
    let mut stream = pool.copy_out_raw(&text).await?;
    let mut raw: Vec<u8> = Vec::with_capacity(MOST_EXPECTED);
    while let Some(piece) = stream.try_next().await? {
        raw.extend_from_slice(&piece);
    }
    Ok(Pages { id, raw })
}

impl Pages {
    /// The bytes of the segment.
    pub fn into_segment(self) -> Result<Vec<u8>, StoreError> {
        let Pages { id, raw } = self;
        rows_of(raw).ok_or_else(|| StoreError::Damaged(format!("the pages of segment {id} cannot be read")))
    }
}

/// The bytes of a segment.
pub(crate) async fn read_segment(pool: &PgPool, id: i64) -> Result<Vec<u8>, StoreError> {
    read_pages(pool, id).await?.into_segment()
}

/// The one column of the rows of a binary COPY, one behind the other.
fn rows_of(mut raw: Vec<u8>) -> Option<Vec<u8>> {
    if !raw.starts_with(&HEADER[..11]) {
        return None;
    }
    let (mut at, mut end) = (HEADER.len(), 0);
    loop {
        let fields = i16::from_be_bytes(raw.get(at..at + 2)?.try_into().ok()?);
        if fields == -1 {
            raw.truncate(end);
            return Some(raw);
        }
        let len = i32::from_be_bytes(raw.get(at + 2..at + 6)?.try_into().ok()?);
        let (from, to) = (at + 6, at + 6 + usize::try_from(len).ok()?);
        if fields != 1 || to > raw.len() {
            return None;
        }
        raw.copy_within(from..to, end);
        end += to - from;
        at = to;
    }
}

/// Removes segments with their pages.
pub(crate) async fn remove_segments(pool: &PgPool, ids: &[i64]) -> Result<(), StoreError> {
    for ids in ids.chunks(REMOVED_AT_ONCE) {
        // The pages first: what is left of a removal that is broken off is found by its segments.
        for text in [
            "DELETE FROM segment_pages WHERE segment_id = ANY($1)",
            "DELETE FROM segments WHERE id = ANY($1)",
        ] {
            sqlx::query(text).bind(ids).execute(pool).await?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rows_of_a_copy_become_their_bytes() {
        let mut raw = HEADER.to_vec();
        for row in [&b"abc"[..], b"", b"defg"] {
            raw.extend(1i16.to_be_bytes());
            raw.extend((row.len() as i32).to_be_bytes());
            raw.extend(row);
        }
        let whole = [&raw[..], &TRAILER].concat();
        assert_eq!(rows_of(whole.clone()), Some(b"abcdefg".to_vec()));
        // Broken off anywhere it is nothing.
        for end in 0..whole.len() {
            assert_eq!(rows_of(whole[..end].to_vec()), None, "{end}");
        }
    }
}
