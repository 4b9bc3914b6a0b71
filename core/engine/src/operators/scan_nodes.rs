//! ScanNodes: every node that a label expression takes and that passes the conditions. A leaf.

use std::ops::Range;
use std::sync::Arc;

use graphodrome_graph::{Dense, NodeTest, Value};

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::of_text::OfText;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};
use crate::quick::{Place, PlainComparison, Which};
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

impl Operator for ScanNodesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.ranges.is_none() {
            let mut ranges = context.scope.base_ranges(&self.plan.test);
            ranges.reverse();
            self.ranges = Some(ranges);
            self.added = context.scope.overlay_nodes(&self.plan.test);
            self.added.reverse();
        }
        let mut found = Vec::with_capacity(BATCH_ROWS);
        let unit = Batch::default();
        let plan = self.plan.clone();
        let scope = context.scope.clone();
        let compared = plan.conditions.iter().map(|c| PlainComparison::of(c, &unit, &[Which::Node], &scope));
        let compared: Vec<Option<PlainComparison<'_>>> = compared.collect();
        let of_text: Vec<Option<OfText<'_>>> =
            plan.conditions.iter().map(|condition| OfText::of(condition, 0, &scope)).collect();
        while found.len() < BATCH_ROWS {
            let range = self.ranges.as_mut().and_then(|r| r.last_mut());
            let node = match range {
                Some(range) => match range.next() {
                    Some(node) if context.scope.node_is_base(node) => node,
                    Some(_) => continue,
                    None => {
                        self.ranges.as_mut().map(Vec::pop);
                        continue;
                    }
                },
                None => match self.added.pop() {
                    Some(node) => node,
                    None => break,
                },
            };
            context.work(1)?;
            let locals = [Value::Node(node)];
            let row = Row { batch: &unit, row: 0, locals: &locals };
            let counters = &mut context.metrics[context.current].counters;
            let mut passes = true;
            let asked = plan.conditions.iter().zip(compared.iter().zip(&of_text));
            for (condition, (comparison, of_text)) in asked {
                let known = comparison.as_ref().and_then(|comparison| {
                    counters.properties_read += comparison.reads;
                    comparison.get(Place { row: 0, edge: NO_ELEMENT, node })
                });
                let holds = match known {
                    Some(known) => known,
                    None => match of_text {
                        Some(of_text) => of_text.holds(node, row, &scope, counters)?,
                        None => holds(condition, row, &scope, counters)?,
                    },
                };
                if !holds {
                    passes = false;
                    break;
                }
            }
            if passes {
                found.push(node);
            }
        }
        let len = found.len();
        Ok((len > 0).then(|| Batch { len, columns: vec![Vector::Nodes(found)] }))
    }
}
