//! Splits a table's text into blocks that end at row ends. Quotes may hide a line end, so quotes are counted first.
//! Compressed or otherwise encoded text is read while it is decoded.

use std::io::Write;
use std::sync::Arc;
use std::sync::mpsc::sync_channel;

use rayon::prelude::*;

use crate::load::building::ChunkRead;
use crate::load::plan::TablePlan;
use crate::load::rows::{Finished, MAX_ROW};
use crate::load::sources::{BLOCK, Counted, Spool, cannot_keep, decode, table_error, taken};
use crate::load::{LoadError, Progress};
use crate::mapping::TableFormat;

/// Bytes of a block, of text that is there whole.
const CHUNK: usize = BLOCK;
/// Decoded blocks that wait for a reader.
const BLOCKS_AHEAD: usize = 2;

/// A text that has to be decoded: one thread decodes it and cuts it at row ends, the others read what is
/// cut. The text is kept beside, for the rows of rejects.
pub(super) fn read_coded(plan: &TablePlan, progress: &Progress) -> Result<Vec<Finished>, LoadError> {
    let failed = |message: String| {
        if progress.is_cancelled() { LoadError::Cancelled } else { table_error(&plan.name, message) }
    };
    let (sender, receiver) = sync_channel::<(usize, usize, Vec<u8>)>(BLOCKS_AHEAD);
    let mut chunks: Vec<(usize, Option<Finished>)> = vec![];
    let decoded = std::thread::scope(|scope| {
        let decoder = scope.spawn(move || -> Result<_, String> {
            let mut spool = Spool::new().map_err(cannot_keep)?;
            let (mut taken_over, mut cut_off) = (0, false);
            let mut rest: Vec<u8> = vec![];
            let (mut number, mut start, mut skip) = (0, plan.body, plan.body);
            let mut send = |block: Vec<u8>| {
                let length = block.len();
                let sent = sender.send((number, start, block)).is_ok();
                (number, start) = (number + 1, start + length);
                sent
            };
            let taken = taken(progress);
            let source = Counted { bytes: plan.source.bytes(), taken: &taken };
            decode(source, plan.coding, plan.limit, &mut |block| {
                spool.write_all(block).map_err(cannot_keep)?;
                let header = skip.min(block.len());
                skip -= header;
                taken_over += block.len() as u64;
                rest.extend_from_slice(&block[header..]);
                match row_end(plan, &rest) {
                    Some(end) => {
                        let after = rest.split_off(end);
                        cut_off = progress.is_enough(taken_over);
                        Ok(send(std::mem::replace(&mut rest, after)) && !cut_off)
                    }
                    // A row that never ends: whoever reads it says so.
                    None if rest.len() > MAX_ROW => {
                        send(std::mem::take(&mut rest));
                        Ok(false)
                    }
                    None => Ok(!progress.is_cancelled()),
                }
            })?;
            if !rest.is_empty() && !cut_off {
                send(rest);
            }
            drop(sender);
            spool.finish().map_err(cannot_keep)
        });
        let read: Result<Vec<_>, LoadError> = receiver
            .into_iter()
            .par_bridge()
            .map(|(number, start, block)| Ok((number, ChunkRead::of_text(plan, &block, start, progress)?)))
            .collect();
        let decoded = decoder.join().unwrap_or_else(|_| Err("the decoder stopped".into()));
        chunks = read?;
        decoded.map_err(failed)
    })?;
    let text = plan.text.get_or_init(|| Arc::new(decoded));
    chunks.sort_by_key(|(number, _)| *number);
    chunks.into_iter().map(|(_, chunk)| chunk.ok_or_else(|| open_quote(plan, text.bytes()))).collect()
}

/// Where the last row of a block ends that is there whole; the block begins with a row.
fn row_end(plan: &TablePlan, block: &[u8]) -> Option<usize> {
    let quotes = match plan.format {
        TableFormat::Jsonl => 0,
        _ => memchr::memchr_iter(plan.quote, block).count(),
    };
    // A line end is a row's where the quotes before it pair up.
    let (mut quoted, mut at) = (quotes % 2 == 1, block.len());
    if quotes == 0 {
        return memchr::memrchr(b'\n', block).map(|end| end + 1);
    }
    while let Some(place) = memchr::memrchr2(plan.quote, b'\n', &block[..at]) {
        if block[place] == plan.quote {
            quoted = !quoted;
        } else if !quoted {
            return Some(place + 1);
        }
        at = place;
    }
    None
}

/// Line ends near every `CHUNK` bytes.
pub(super) fn cut_lines(bytes: &[u8], body: usize) -> Vec<usize> {
    let mut cuts = vec![body];
    let mut at = body;
    while at + CHUNK < bytes.len() {
        at = memchr::memchr(b'\n', &bytes[at + CHUNK..]).map_or(bytes.len(), |i| at + CHUNK + i + 1);
        cuts.push(at);
    }
    if *cuts.last().unwrap_or(&0) < bytes.len() || cuts.len() == 1 {
        cuts.push(bytes.len());
    }
    cuts
}

/// Line ends outside quotes near every `CHUNK` bytes. Each block's quotes are counted in parallel;
/// whether a block begins inside a quoted field follows from those before it.
pub(super) fn cut_rows(plan: &TablePlan, bytes: &[u8]) -> Result<Vec<usize>, LoadError> {
    let body = plan.body;
    let blocks: Vec<usize> = (body..bytes.len()).step_by(CHUNK).collect();
    let quotes: Vec<usize> = blocks
        .par_iter()
        .map(|&start| memchr::memchr_iter(plan.quote, &bytes[start..bytes.len().min(start + CHUNK)]).count())
        .collect();
    if quotes.iter().sum::<usize>() % 2 == 1 {
        return Err(open_quote(plan, bytes));
    }
    let mut cuts = vec![body];
    let mut before = 0usize;
    for (block, &start) in blocks.iter().enumerate() {
        if block > 0 {
            // The first line end in this block that no quote hides.
            let mut quoted = before % 2 == 1;
            let mut at = start;
            let mut found = None;
            while let Some(i) = memchr::memchr2(plan.quote, b'\n', &bytes[at..]) {
                let place = at + i;
                if bytes[place] == plan.quote {
                    quoted = !quoted;
                } else if !quoted {
                    found = Some(place + 1);
                    break;
                }
                at = place + 1;
            }
            let end = found.unwrap_or(bytes.len());
            if end > *cuts.last().unwrap_or(&0) && end < bytes.len() {
                cuts.push(end);
            }
        }
        before += quotes[block];
    }
    cuts.push(bytes.len());
    Ok(cuts)
}

/// The quotes of the file do not pair up: says where the last one that opens is.
pub(super) fn open_quote(plan: &TablePlan, bytes: &[u8]) -> LoadError {
    let place = memchr::memrchr(plan.quote, bytes).unwrap_or(0);
    let line = memchr::memchr_iter(b'\n', &bytes[..place]).count() + 1;
    let quote = plan.quote as char;
    table_error(
        &plan.name,
        format!(
            "a quote is never closed, or a row is longer than {} MiB (the last quote is in line {line}); close it, or write {quote}{quote} for a quote inside a field",
            MAX_ROW >> 20
        ),
    )
}
