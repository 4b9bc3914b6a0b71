//! The account of a load, rule by rule, and the positions of rejects in their files.

use crate::load::plan::TablePlan;
use crate::load::rows::{RawReject, RuleRead, TableRead};
use crate::load::{Account, MAX_KEPT_REJECTS, Reject, RuleAccount, TableAccount, columnar};
use crate::mapping::TableFormat;

/// Bytes of a row that are kept with its reject.
const MOST_KEPT: usize = 64 << 10;

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
            header: header(plan),
        };
        let of_rows = table.nodes.iter().zip(&plan.nodes).filter(|(_, p)| p.created_by.is_none());
        for (rule, plan_of) in of_rows {
            account.nodes_created += rule.made;
            of_table.rules.push(of_rule(rule, &plan_of.shown, table.rows));
            kept.extend(located(plan, &plan_of.shown, &rule.rejects));
        }
        for (rule, plan_of) in table.edges.iter().zip(&plan.edges) {
            account.edges_created += rule.made;
            account.nodes_created += rule.created;
            of_table.rules.push(of_rule(rule, &plan_of.shown, table.rows));
            kept.extend(located(plan, &plan_of.shown, &rule.rejects));
        }
        for rule in &of_table.rules {
            account.changed += rule.changed;
            account.unchanged += rule.unchanged;
            account.duplicates += rule.duplicates;
            account.rejects += rule.rejects;
        }
        account.tables.push(of_table);
    }
    kept.truncate(MAX_KEPT_REJECTS);
    (account, kept)
}

fn of_rule(rule: &RuleRead, shown: &str, rows: u64) -> RuleAccount {
    RuleAccount {
        rule: shown.to_string(),
        rows,
        created: rule.made,
        changed: rule.changed,
        unchanged: rule.unchanged,
        duplicates: rule.duplicates,
        skipped: rule.skipped,
        rejects: rule.rejected.values().sum(),
        rejects_by_kind: rule.rejected.clone(),
        created_ends: rule.created,
    }
}

/// The header line as it stands in the file.
fn header(plan: &TablePlan) -> Option<String> {
    if !matches!(plan.format, TableFormat::Csv | TableFormat::Tsv) {
        return None;
    }
    let line = String::from_utf8_lossy(plan.text().get(..plan.body)?).into_owned();
    Some(line.trim_start_matches('\u{feff}').trim_end_matches(['\r', '\n']).to_string())
}

/// Lines are counted once over the file, for all rejects in the order of their places.
fn located(plan: &TablePlan, shown: &str, rejects: &[RawReject]) -> Vec<Reject> {
    let mut order: Vec<&RawReject> = rejects.iter().collect();
    order.sort_by_key(|r| r.offset);
    let of = |reject: &RawReject, line: u64, record: String| Reject {
        table: plan.name.clone(),
        line,
        column: reject.column.and_then(|c| plan.columns.get(c).cloned()),
        value: reject.value.as_ref().map(|v| v.replace('\0', "\u{2400}")),
        kind: reject.kind,
        reason: format!("{shown}: {}", reject.reason),
        record,
    };
    if plan.is_columnar() {
        let records = columnar::records(plan, order.iter().map(|r| r.offset));
        return order.iter().zip(records).map(|(r, record)| of(r, r.offset + 1, record)).collect();
    }
    let bytes = plan.text();
    let (mut line, mut at) = (1u64, 0usize);
    order
        .into_iter()
        .map(|reject| {
            let place = (reject.offset as usize).min(bytes.len());
            line += memchr::memchr_iter(b'\n', &bytes[at..place]).count() as u64;
            at = place;
            let end = place + row_length(plan, &bytes[place..bytes.len().min(place + MOST_KEPT)]);
            let mut record = String::from_utf8_lossy(&bytes[place..end]).replace('\0', "\u{2400}");
            record.truncate(record.trim_end_matches('\r').len());
            of(reject, line, record)
        })
        .collect()
}

/// How far the first row reaches: to a line end that no quote hides.
fn row_length(plan: &TablePlan, bytes: &[u8]) -> usize {
    let line_end = |from: usize| memchr::memchr(b'\n', &bytes[from..]).map_or(bytes.len(), |i| from + i);
    if plan.format == TableFormat::Jsonl {
        return line_end(0);
    }
    let (mut quoted, mut at) = (false, 0);
    while let Some(i) = memchr::memchr2(plan.quote, b'\n', &bytes[at..]) {
        match bytes[at + i] {
            b'\n' if !quoted => return at + i,
            b'\n' => {}
            _ => quoted = !quoted,
        }
        at += i + 1;
    }
    // A quote in the middle of a field opens nothing: the row ends with its line.
    if quoted { line_end(0) } else { bytes.len() }
}
