//! HashJoin: rows of both sides whose key values are equal. The right side is kept in a hash table.

use std::sync::Arc;

use hashbrown::HashMap;

use graphodrome_graph::Value;

use crate::batch::Batch;
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::operators::drain;
use crate::outcome::{Outcome, located};
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct HashJoin {
    pub left_keys: Vec<Expr>,
    pub right_keys: Vec<Expr>,
    pub shown: String,
}

impl OperatorPlan for HashJoin {
    fn name(&self) -> &'static str {
        "HashJoin"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("on", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let right = inputs.remove(1);
        Box::new(HashJoinRun { spec: self, left: inputs.remove(0), right, kept: None })
    }
}

/// The right side by its keys.
struct JoinTable {
    rows: Batch,
    keys: Vec<Vec<Value>>,
    by_key: HashMap<Vec<Value>, Vec<u32>>,
    /// Whether the values of each key can all be compared with each other; with which, the first says.
    kinds: Vec<Kinds>,
}

enum Kinds {
    None,
    One(Value),
    Several,
}

impl Kinds {
    fn see(&mut self, value: &Value) {
        match self {
            Kinds::None => *self = Kinds::One(value.clone()),
            Kinds::One(first) if first.kind_order(value).is_eq() => {}
            _ => *self = Kinds::Several,
        }
    }

    /// Whether `value` can be compared with all of them.
    fn take(&self, value: &Value) -> bool {
        match self {
            Kinds::None => true,
            // Lists and records may hold what cannot be compared.
            Kinds::One(first) => {
                first.kind_order(value).is_eq() && !matches!(value, Value::List(_) | Value::Record(_))
            }
            Kinds::Several => false,
        }
    }
}

struct HashJoinRun {
    spec: Arc<HashJoin>,
    left: Input,
    right: Input,
    kept: Option<JoinTable>,
}

/// The values of a row's keys; `None` where one of them is equal to nothing, itself included.
fn key(
    expressions: &[Expr], batch: &Batch, row: usize, context: &mut Context,
) -> Outcome<Option<Vec<Value>>> {
    let counters = &mut context.metrics[context.current].counters;
    let mut evaluator = Evaluator { scope: &context.scope, counters };
    let mut values = Vec::with_capacity(expressions.len());
    for expression in expressions {
        let value = evaluator.value(expression, Row { batch, row, locals: &[] })?;
        if value.is_null() {
            return Ok(None);
        }
        values.push(value);
    }
    Ok(Some(values))
}

impl JoinTable {
    fn of(rows: Batch, expressions: &[Expr], context: &mut Context) -> Outcome<JoinTable> {
        let mut table = JoinTable { keys: vec![], by_key: HashMap::new(), kinds: vec![], rows };
        table.kinds.resize_with(expressions.len(), || Kinds::None);
        for row in 0..table.rows.len {
            context.work(1)?;
            let values = key(expressions, &table.rows, row, context)?.unwrap_or_default();
            table.kinds.iter_mut().zip(&values).for_each(|(kinds, value)| kinds.see(value));
            if !values.is_empty() && values.iter().all(Value::equals_itself) {
                table.by_key.entry(values.clone()).or_default().push(row as u32);
            }
            table.keys.push(values);
        }
        Ok(table)
    }

    /// Calls `found` for each right row that matches: by hashing where the values can be compared with all
    /// on the right, and pair by pair where they cannot, so that what is an error without hashing is one.
    fn each_match(
        &self, values: &[Value], spec: &HashJoin, found: &mut Vec<u32>, context: &mut Context,
    ) -> Outcome<()> {
        if self.kinds.iter().zip(values).all(|(kinds, value)| kinds.take(value)) {
            context.work(1)?;
            if values.iter().all(Value::equals_itself) {
                found.extend(self.by_key.get(values).into_iter().flatten());
            }
            return Ok(());
        }
        'rows: for (row, other) in self.keys.iter().enumerate() {
            context.work(1)?;
            if other.is_empty() {
                continue;
            }
            for ((a, b), place) in values.iter().zip(other).zip(&spec.left_keys) {
                if a.equals(b).map_err(|e| located(e, place.span))? != Some(true) {
                    continue 'rows;
                }
            }
            found.push(row as u32);
        }
        Ok(())
    }
}

impl Operator for HashJoinRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.kept.is_none() {
            let Some(right) = drain(&mut self.right, context)? else { return Ok(None) };
            context.reserve(128 * right.len)?;
            self.kept = Some(JoinTable::of(right, &self.spec.right_keys, context)?);
        }
        let Some(table) = &self.kept else { return Ok(None) };
        while let Some(batch) = self.left.next(context)? {
            let (mut lefts, mut rights) = (vec![], vec![]);
            for row in 0..batch.len {
                context.metrics[context.current].counters.index_probes += 1;
                let Some(values) = key(&self.spec.left_keys, &batch, row, context)? else { continue };
                table.each_match(&values, &self.spec, &mut rights, context)?;
                lefts.resize(rights.len(), row as u32);
            }
            if !lefts.is_empty() {
                let mut out = batch.gather(&lefts);
                out.columns.extend(table.rows.gather(&rights).columns);
                return Ok(Some(out));
            }
        }
        Ok(None)
    }
}
