//! Reading tables: cut at row ends into chunks, each read by one thread straight into typed columns.

use std::sync::atomic::Ordering;

use rayon::prelude::*;

use crate::load::blocks::{cut_lines, cut_rows, open_quote, read_coded};
use crate::load::building::ChunkRead;
use crate::load::columnar;
use crate::load::plan::TablePlan;
use crate::load::rows::{Finished, RuleRead, TableRead};
use crate::load::{LoadError, MAX_KEPT_REJECTS, Progress};
use crate::mapping::TableFormat;

pub(crate) fn read_table(plan: &TablePlan, progress: &Progress) -> Result<TableRead, LoadError> {
    if plan.is_columnar() {
        return Ok(gathered(plan, columnar::read(plan, progress)?));
    }
    if !plan.coding.is_plain() {
        return Ok(gathered(plan, read_coded(plan, progress)?));
    }
    let bytes = plan.source.bytes();
    progress.bytes_read.fetch_add(plan.body as u64, Ordering::Relaxed);
    let cuts = match plan.format {
        TableFormat::Jsonl => cut_lines(bytes, plan.body),
        _ => cut_rows(plan, bytes)?,
    };
    let chunks: Vec<Finished> = cuts
        .par_windows(2)
        .map(|cut| {
            progress.check()?;
            let chunk = ChunkRead::of_text(plan, &bytes[cut[0]..cut[1]], cut[0], progress)?;
            progress.bytes_read.fetch_add((cut[1] - cut[0]) as u64, Ordering::Relaxed);
            chunk.ok_or_else(|| open_quote(plan, bytes))
        })
        .collect::<Result<_, LoadError>>()?;
    Ok(gathered(plan, chunks))
}

/// The chunks of a table, rule by rule.
fn gathered(plan: &TablePlan, chunks: Vec<Finished>) -> TableRead {
    let mut table = TableRead {
        rows: 0,
        nodes: plan.nodes.iter().map(|_| RuleRead::default()).collect(),
        edges: plan.edges.iter().map(|_| RuleRead::default()).collect(),
    };
    for chunk in chunks {
        table.rows += chunk.rows;
        let rules = table.nodes.iter_mut().chain(&mut table.edges);
        for (rule, read) in rules.zip(chunk.rules) {
            rule.skipped += read.skipped;
            for (kind, count) in read.rejected {
                *rule.rejected.entry(kind).or_default() += count;
            }
            let room = MAX_KEPT_REJECTS - rule.rejects.len();
            rule.rejects.extend(read.rejects.into_iter().take(room));
            rule.chunks.push(read.chunk);
        }
    }
    table
}
