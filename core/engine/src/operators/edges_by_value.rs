//! Edges of a node by values that conditions compare with the row: if many rows come to a node with many edges, the
//! edges are put into a hash table once, and each row looks up those with its values.

use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, OnceLock};

use graphodrome_graph::{Dense, Value};
use graphodrome_language::ast::BinaryOperator;
use hashbrown::HashMap;

use crate::answers::AnswerBook;
use crate::batch::{Batch, value_bytes};
use crate::counters::Counters;
use crate::evaluate::Evaluator;
use crate::expression::{Expr, Kind};
use crate::operators::plain_edges::{Entry, Plain};
use crate::outcome::{CHECK_EVERY, Outcome};
use crate::row::Row;
use crate::scope::Scope;

/// Nodes with fewer edges are not worth it.
const MANY_EDGES: usize = 64;

/// Rows that look at all edges of a node before its table is made.
const VISITS_BEFORE: u32 = 8;

/// For so many nodes of one query tables are made.
const MOST_NODES: usize = 4096;

/// Values of the new edge, or of the node that it leads to, each with the value of the row that it must equal.
#[derive(Clone, Debug)]
pub(crate) struct ComparedValues {
    new: Vec<Expr>,
    of_row: Vec<Expr>,
}

impl ComparedValues {
    /// Of the conditions on rows of `width` slots with the edge and the node in the next two; `None` where none says so.
    pub fn of(conditions: &[Expr], width: usize) -> Option<ComparedValues> {
        let mut found = ComparedValues { new: vec![], of_row: vec![] };
        for condition in conditions {
            let Kind::Binary(BinaryOperator::Equal, a, b) = &condition.kind else { continue };
            // Elements that are compared are found by probing.
            if matches!(a.kind, Kind::Slot(_)) || matches!(b.kind, Kind::Slot(_)) {
                continue;
            }
            let slots = |e: &Expr| {
                let mut slots = vec![];
                e.slots(&mut slots);
                slots
            };
            let (of_a, of_b) = (slots(a), slots(b));
            let is_new = |slots: &[usize]| !slots.is_empty() && slots.iter().all(|slot| *slot >= width);
            let is_old = |slots: &[usize]| !slots.is_empty() && slots.iter().all(|slot| *slot < width);
            let (new, of_row) = match () {
                () if is_new(&of_a) && is_old(&of_b) => (a, b),
                () if is_new(&of_b) && is_old(&of_a) => (b, a),
                () => continue,
            };
            found.new.push((**new).clone());
            found.of_row.push((**of_row).clone());
        }
        (!found.new.is_empty()).then_some(found)
    }
}

/// The entries of a node by their values.
#[derive(Debug)]
struct ByValues {
    /// One of the values of each kind: all others can be compared with it.
    kinds: Vec<Option<Value>>,
    entries: HashMap<Vec<Value>, Vec<Entry>>,
}

/// What is kept of a node for all threads of a query.
#[derive(Debug, Default)]
pub(crate) struct NodeHash {
    visits: AtomicU32,
    /// `None` in it where there is no table: values cannot be compared with each other, or have errors.
    table: OnceLock<Option<ByValues>>,
}

/// The tables that one run of an operator has asked for.
#[derive(Default)]
pub(super) struct NodeHashes {
    /// `None` where nothing is hashed.
    compared: Option<ComparedValues>,
    known: HashMap<Dense, Option<Arc<NodeHash>>>,
    /// The answers that they are kept among: others once the query has changed the graph. Held, so that no others come to lie
    /// in their place.
    kept_in: Option<Arc<AnswerBook>>,
}

/// What is asked for a node.
pub(super) struct Asked<'a> {
    /// Tells the operator's tables from those of others.
    pub operator: usize,
    pub batch: &'a Batch,
    pub row: usize,
    pub scope: &'a Scope,
}

impl NodeHashes {
    /// Of a step with these conditions on rows of `width` slots; nothing is hashed unless `may_hash`.
    pub fn of(may_hash: bool, conditions: &[Expr], width: usize) -> NodeHashes {
        let compared = if may_hash { ComparedValues::of(conditions, width) } else { None };
        NodeHashes { compared, ..NodeHashes::default() }
    }

    /// The entries of `node` that have the row's values; `None` where all its entries are to be looked at, which `entries`
    /// gives.
    pub fn find(
        &mut self, asked: &Asked<'_>, node: Dense, plain: &Plain<'_>, counters: &mut Counters,
    ) -> Outcome<Option<&[Entry]>> {
        let Some(compared) = &self.compared else { return Ok(None) };
        if plain.degree(node) < MANY_EDGES {
            return Ok(None);
        }
        let Asked { operator, batch, row, scope } = *asked;
        if !self.kept_in.as_ref().is_some_and(|kept_in| Arc::ptr_eq(kept_in, &scope.answers)) {
            self.known.clear();
            self.kept_in = Some(scope.answers.clone());
        }
        let hash =
            self.known.entry(node).or_insert_with(|| scope.answers.kept_for(operator, node, MOST_NODES));
        let Some(hash) = hash else { return Ok(None) };
        if hash.visits.fetch_add(1, Ordering::Relaxed) < VISITS_BEFORE {
            return Ok(None);
        }
        let table = hash.table.get_or_init(|| {
            let entries = plain.entries_of(node, counters);
            counters.edges_looked += entries.len() as u64;
            ByValues::of(entries, compared, batch, scope, counters)
        });
        let Some(table) = table else { return Ok(None) };
        let mut values = Vec::with_capacity(compared.of_row.len());
        let mut evaluator = Evaluator { scope, counters };
        for (expression, kind) in compared.of_row.iter().zip(&table.kinds) {
            let value = evaluator.value(expression, Row { batch, row, locals: &[] })?;
            if !value.equals_itself() {
                // It is null or NaN, and equal to nothing.
                return Ok(Some(&[]));
            }
            let comparable = kind.as_ref().is_none_or(|kind| kind.kind_order(&value).is_eq());
            if !comparable || matches!(value, Value::List(_) | Value::Record(_)) {
                return Ok(None);
            }
            values.push(value);
        }
        Ok(Some(table.entries.get(&values).map_or(&[][..], Vec::as_slice)))
    }
}

impl ByValues {
    fn of(
        entries: Vec<Entry>, compared: &ComparedValues, batch: &Batch, scope: &Scope, counters: &mut Counters,
    ) -> Option<ByValues> {
        let mut table = ByValues { kinds: vec![None; compared.new.len()], entries: HashMap::new() };
        let mut bytes = 0;
        'entries: for (place, entry) in entries.into_iter().enumerate() {
            // A hub has many: a query that is to stop, or has no memory left, does without the table.
            if (place as u64).is_multiple_of(CHECK_EVERY) {
                scope.budget.check().ok()?;
                scope.budget.hold(std::mem::take(&mut bytes)).ok()?;
            }
            let locals = [Value::Edge(entry.edge), Value::Node(entry.node)];
            let at = Row { batch, row: 0, locals: &locals };
            let mut values = Vec::with_capacity(compared.new.len());
            for (expression, kind) in compared.new.iter().zip(&mut table.kinds) {
                let value = Evaluator { scope, counters }.value(expression, at).ok()?;
                if !value.equals_itself() {
                    continue 'entries;
                }
                let first = kind.get_or_insert_with(|| value.clone());
                if !first.kind_order(&value).is_eq() || matches!(value, Value::List(_) | Value::Record(_)) {
                    return None;
                }
                values.push(value);
            }
            let of_values = table.entries.entry(values).or_insert_with_key(|values| {
                bytes += 96 + values.iter().map(value_bytes).sum::<usize>();
                vec![]
            });
            of_values.push(entry);
            bytes += size_of::<Entry>();
        }
        scope.budget.hold(bytes).ok()?;
        Some(table)
    }
}
