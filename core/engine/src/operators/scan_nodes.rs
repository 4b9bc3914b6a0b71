//! ScanNodes: every node that a label expression takes and that passes the conditions. A leaf.

use std::ops::Range;
use std::sync::Arc;

use graphodrome_graph::{Dense, NodeTest};

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::columnar;
use crate::context::Context;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::number_columns::TRUE;
use crate::of_text::OfText;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};
use crate::row::Row;

#[derive(Debug)]
pub(crate) struct ScanNodes {
    pub pattern: String,
    pub test: NodeTest,
    /// On the node in slot 0.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
}

impl OperatorPlan for ScanNodes {
    fn name(&self) -> &'static str {
        "ScanNodes"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone())];
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn row_facts(&self, _: &[PlanNode]) -> RowFacts {
        RowFacts { at_most_one: false, distinct_nodes: Some(0) }
    }

    fn open(self: Arc<Self>, _: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ScanNodesRun { plan: self, ranges: None, added: vec![] })
    }
}

struct ScanNodesRun {
    plan: Arc<ScanNodes>,
    ranges: Option<Vec<Range<Dense>>>,
    added: Vec<Dense>,
}

impl ScanNodesRun {
    /// The next nodes with the labels, up to as many as a batch has.
    fn candidates(&mut self, context: &Context) -> Vec<Dense> {
        let mut found = Vec::with_capacity(BATCH_ROWS);
        while found.len() < BATCH_ROWS {
            let Some(range) = self.ranges.as_mut().and_then(|ranges| ranges.last_mut()) else {
                let left = self.added.len().saturating_sub(BATCH_ROWS - found.len());
                found.extend(self.added.drain(left..).rev());
                break;
            };
            let most = BATCH_ROWS - found.len();
            found.extend(range.take(most).filter(|node| context.scope.node_is_base(*node)));
            if range.start >= range.end {
                self.ranges.as_mut().map(Vec::pop);
            }
        }
        found
    }
}

/// What of the batch passes one condition: asked of all at once where it is of columns of one type.
fn passing(condition: &Expr, batch: Batch, context: &mut Context) -> Outcome<Batch> {
    let scope = context.scope.clone();
    let Some(Vector::Nodes(nodes)) = batch.columns.first() else { return Ok(batch) };
    let mut reads = 0;
    let mut kept = Vec::with_capacity(batch.len);
    if let Some(truths) = columnar::condition(condition, &batch, &scope, &mut reads) {
        context.counters().properties_read += reads;
        kept.extend((0..batch.len as u32).filter(|row| truths[*row as usize] == TRUE));
        return Ok(batch.gather(&kept));
    }
    let of_text = OfText::of(condition, 0, &scope);
    let counters = &mut context.metrics[context.current].counters;
    for (row, node) in nodes.iter().enumerate() {
        let at = Row { batch: &batch, row, locals: &[] };
        let holds = match &of_text {
            Some(of_text) => of_text.holds(*node, at, &scope, counters)?,
            None => holds(condition, at, &scope, counters)?,
        };
        if holds {
            kept.push(row as u32);
        }
    }
    Ok(batch.gather(&kept))
}

impl Operator for ScanNodesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.ranges.is_none() {
            let mut ranges = context.scope.base_ranges(&self.plan.test);
            ranges.reverse();
            self.ranges = Some(ranges);
            self.added = context.scope.overlay_nodes(&self.plan.test);
            self.added.reverse();
        }
        let plan = self.plan.clone();
        let mut found: Option<Batch> = None;
        while found.as_ref().is_none_or(|found| found.len < BATCH_ROWS / 2) {
            let candidates = self.candidates(context);
            if candidates.is_empty() {
                break;
            }
            context.work(candidates.len() as u64)?;
            let mut batch = Batch { len: candidates.len(), columns: vec![Vector::Nodes(candidates)] };
            for condition in &plan.conditions {
                batch = passing(condition, batch, context)?;
            }
            match &mut found {
                Some(found) => found.append(batch),
                None => found = Some(batch),
            }
        }
        Ok(found.filter(|found| found.len > 0))
    }
}
