//! `CALL name({...}) YIELD ...`.

use graphodrome_language::ast::{Expression, Name};
use graphodrome_language::{Diagnostic, Gives, Span, VariableKind};

use crate::operators::CallProcedure;
use crate::outcome::Outcome;
use crate::plan::PlanNode;
use crate::planner::state::Planner;
use crate::procedures;
use crate::profile::{Basis, Estimate};

pub(super) struct ProcedureCall<'a> {
    pub optional: bool,
    pub name: &'a Name,
    pub arguments: &'a [Expression],
    pub yields: &'a Option<Vec<(Name, Name)>>,
    pub span: Span,
}

impl Planner<'_> {
    pub(super) fn call_procedure(&mut self, input: PlanNode, call: &ProcedureCall<'_>) -> Outcome<PlanNode> {
        let unknown = |name: &Name, what: &str| {
            Diagnostic::unknown(name.span, format!("there is no {what} {}", name.text))
        };
        let entry = procedures::entry(&call.name.text).ok_or_else(|| unknown(call.name, "procedure"))?;
        let given = call.arguments.first();
        let (input, computed) = self.subqueries(input, &given.into_iter().collect::<Vec<_>>())?;
        let compiled =
            given.map(|given| self.compiler(&input.schema, &computed).expression(given)).transpose()?;
        let mut schema = input.schema.clone();
        let mut columns = vec![];
        let mut take = |at: usize, name: &str| {
            let kind = match entry.procedure.yields[at].gives {
                Gives::Node => VariableKind::Node,
                Gives::Edge => VariableKind::Edge,
                _ => VariableKind::Value,
            };
            schema.push(name, kind);
            columns.push(at);
        };
        match call.yields {
            Some(yields) => {
                for (name, alias) in yields {
                    let at = entry.procedure.column(&name.text).ok_or_else(|| unknown(name, "column"))?;
                    take(at, &alias.text);
                }
            }
            None => {
                (0..entry.procedure.yields.len()).for_each(|at| take(at, entry.procedure.yields[at].name))
            }
        }
        let snapshot = &self.scope.snapshot;
        let (n, m) = (snapshot.node_count() as f64, snapshot.edge_count() as f64);
        let rows = match entry.procedure.yields[0].gives {
            Gives::Node => n,
            Gives::Edge => m,
            _ => 1.0,
        };
        let times = input.estimate.rows;
        let estimate = Estimate {
            rows: (times * rows).max(1.0),
            cost: input.estimate.cost + times * (n + m) * (entry.work + 2.0),
            basis: Basis::Count,
            source: "the graph's nodes and edges".into(),
        };
        let shown = format!("{}({})", entry.procedure.name, given.map_or(String::new(), |g| self.shown(g)));
        let plan = CallProcedure {
            entry,
            given: compiled,
            columns,
            optional: call.optional,
            shown,
            span: call.span,
        };
        Ok(self.node(plan, vec![input], schema, estimate))
    }
}
