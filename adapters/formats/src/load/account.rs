//! What a load did, rule by rule, and where its rejects stand in their files.

use crate::load::parquet;
use crate::load::plan::TablePlan;
use crate::load::read::{RawReject, TableRead};
use crate::load::{Account, MAX_KEPT_REJECTS, Reject, RuleAccount, TableAccount};
use crate::mapping::TableFormat;

/// The account of everything, with the rejects' lines and rows looked up.
pub(crate) fn account(plans: &[TablePlan], tables: &[TableRead]) -> (Account, Vec<Reject>) {
    let mut account = Account::default();
    let mut kept = vec![];
    for (plan, table) in plans.iter().zip(tables) {
        let mut of_table = TableAccount {
            table: plan.name.clone(),
            rows: table.rows,
            bytes: plan.source.bytes().len() as u64,
            rules: vec![],
        };
        let node_rules = table.nodes.iter().zip(&plan.nodes).map(|(r, p)| (r, &p.shown, true));
        let edge_rules = table.edges.iter().zip(&plan.edges).map(|(r, p)| (r, &p.shown, false));
        for (rule, shown, is_node) in node_rules.chain(edge_rules) {
            of_table.rules.push(RuleAccount {
                rule: shown.clone(),
                rows: table.rows,
                made: rule.made,
                duplicates: rule.duplicates,
                skipped: rule.skipped,
                rejects: rule.rejected,
            });
            if is_node {
                account.nodes_made += rule.made;
            } else {
                account.edges_made += rule.made;
            }
            account.duplicates += rule.duplicates;
            account.rejects += rule.rejected;
            kept.extend(located(plan, shown, &rule.rejects));
        }
        account.tables.push(of_table);
    }
    kept.truncate(MAX_KEPT_REJECTS);
    (account, kept)
}

/// Lines are counted once over the file, for all rejects in the order of their places.
fn located(plan: &TablePlan, shown: &str, rejects: &[RawReject]) -> Vec<Reject> {
    let mut order: Vec<&RawReject> = rejects.iter().collect();
    order.sort_by_key(|r| r.offset);
    if plan.format == TableFormat::Parquet {
        let records = parquet::records(plan, order.iter().map(|r| r.offset));
        let shown = order.iter().zip(records).map(|(reject, record)| Reject {
            table: plan.name.clone(),
            rule: shown.to_string(),
            line: reject.offset + 1,
            column: reject.column.and_then(|c| plan.columns.get(c).cloned()),
            value: reject.value.clone(),
            reason: reject.reason.clone(),
            record,
        });
        return shown.collect();
    }
    let bytes = plan.source.bytes();
    let (mut line, mut at) = (1u64, 0usize);
    order
        .into_iter()
        .map(|reject| {
            let place = (reject.offset as usize).min(bytes.len());
            line += memchr::memchr_iter(b'\n', &bytes[at..place]).count() as u64;
            at = place;
            let end = memchr::memchr(b'\n', &bytes[place..]).map_or(bytes.len(), |i| place + i);
            let mut record = String::from_utf8_lossy(&bytes[place..end]).replace('\0', "\u{2400}");
            record.truncate(record.trim_end_matches('\r').len());
            Reject {
                table: plan.name.clone(),
                rule: shown.to_string(),
                line,
                column: reject.column.and_then(|c| plan.columns.get(c).cloned()),
                value: reject.value.as_ref().map(|v| v.replace('\0', "\u{2400}")),
                reason: reject.reason.clone(),
                record,
            }
        })
        .collect()
}
