//! Combine: UNION, EXCEPT, INTERSECT and OTHERWISE of two results with the same columns.

use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::ast::Conjunction;
use hashbrown::{HashMap, HashSet};

use crate::batch::{Batch, Vector, value_bytes};
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct Combine {
    pub conjunction: Conjunction,
    /// Which column of the right side belongs to each of the left.
    pub order: Vec<usize>,
    /// An empty vector of the right kind per column.
    pub kinds: Vec<Vector>,
}

impl OperatorPlan for Combine {
    fn name(&self) -> &'static str {
        "Combine"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let all = |name: &str, all: bool| if all { format!("{name} all") } else { name.to_string() };
        let how = match self.conjunction {
            Conjunction::Union { all: a } => all("union", a),
            Conjunction::Except { all: a } => all("except", a),
            Conjunction::Intersect { all: a } => all("intersect", a),
            Conjunction::Otherwise => "the second where the first has no row".into(),
        };
        vec![("how", how)]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let right = inputs.remove(1);
        Box::new(CombineRun {
            spec: self,
            left: Some(inputs.remove(0)),
            right,
            some: false,
            seen: HashSet::new(),
            counts: None,
        })
    }
}

struct CombineRun {
    spec: Arc<Combine>,
    left: Option<Input>,
    right: Input,
    /// The left side had a row.
    some: bool,
    seen: HashSet<Vec<Value>>,
    /// How often each row of the right side is left.
    counts: Option<HashMap<Vec<Value>, u64>>,
}

fn row_of(batch: &Batch, row: usize) -> Vec<Value> {
    batch.columns.iter().map(|c| c.get(row)).collect()
}

impl CombineRun {
    /// The columns in the left side's order and kinds.
    fn aligned(&self, batch: Batch, right: bool) -> Batch {
        let mut columns: Vec<Option<Vector>> = batch.columns.into_iter().map(Some).collect();
        let mut out = vec![];
        for (i, kind) in self.spec.kinds.iter().enumerate() {
            let place = if right { self.spec.order[i] } else { i };
            let column = columns[place].take().unwrap_or_else(|| kind.empty_like());
            let same = std::mem::discriminant(&column) == std::mem::discriminant(kind);
            out.push(if same {
                column
            } else {
                Vector::Values((0..column.len()).map(|row| column.get(row)).collect())
            });
        }
        Batch { len: batch.len, columns: out }
    }

    fn left(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(left) = &mut self.left else { return Ok(None) };
        match left.next(context)? {
            Some(batch) => {
                self.some = true;
                Ok(Some(self.aligned(batch, false)))
            }
            None => {
                self.left = None;
                Ok(None)
            }
        }
    }

    fn right(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        Ok(self.right.next(context)?.map(|batch| self.aligned(batch, true)))
    }

    /// The rows that were not seen yet.
    fn new_rows(&mut self, batch: Batch, context: &mut Context) -> Outcome<Batch> {
        let mut kept = vec![];
        for row in 0..batch.len {
            let key = row_of(&batch, row);
            let bytes: usize = key.iter().map(value_bytes).sum();
            if self.seen.insert(key) {
                context.reserve(bytes + 32)?;
                kept.push(row as u32);
            }
        }
        context.work(batch.len as u64)?;
        Ok(batch.gather(&kept))
    }

    /// The right side's rows, counted.
    fn count_right(&mut self, context: &mut Context) -> Outcome<()> {
        if self.counts.is_some() {
            return Ok(());
        }
        let mut counts: HashMap<Vec<Value>, u64> = HashMap::new();
        while let Some(batch) = self.right(context)? {
            for row in 0..batch.len {
                let key = row_of(&batch, row);
                context.reserve(key.iter().map(value_bytes).sum::<usize>() + 40)?;
                *counts.entry(key).or_default() += 1;
            }
            context.work(batch.len as u64)?;
        }
        self.counts = Some(counts);
        Ok(())
    }

    /// The rows of a batch of the left side that stay.
    fn compared(
        &mut self, batch: Batch, keep_common: bool, all: bool, context: &mut Context,
    ) -> Outcome<Batch> {
        let mut kept = vec![];
        for row in 0..batch.len {
            let key = row_of(&batch, row);
            let counts = self.counts.get_or_insert_default();
            let common = match counts.get_mut(&key) {
                None => false,
                Some(0) => false,
                Some(left) => {
                    if all {
                        *left -= 1;
                    }
                    true
                }
            };
            if common == keep_common {
                kept.push(row as u32);
            }
        }
        let batch = batch.gather(&kept);
        if all { Ok(batch) } else { self.new_rows(batch, context) }
    }
}

impl Operator for CombineRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            let out = match self.spec.conjunction {
                Conjunction::Union { all } => {
                    let batch = match self.left(context)? {
                        Some(batch) => Some(batch),
                        None => self.right(context)?,
                    };
                    match batch {
                        None => return Ok(None),
                        Some(batch) if all => batch,
                        Some(batch) => self.new_rows(batch, context)?,
                    }
                }
                Conjunction::Otherwise => {
                    if let Some(batch) = self.left(context)? {
                        return Ok(Some(batch));
                    }
                    if self.some {
                        return Ok(None);
                    }
                    return self.right(context);
                }
                Conjunction::Except { all } | Conjunction::Intersect { all } => {
                    self.count_right(context)?;
                    let keep_common = matches!(self.spec.conjunction, Conjunction::Intersect { .. });
                    match self.left(context)? {
                        None => return Ok(None),
                        Some(batch) => self.compared(batch, keep_common, all, context)?,
                    }
                }
            };
            if out.len > 0 {
                return Ok(Some(out));
            }
        }
    }
}
