//! Expressions over the columns of a table's row, outside any query: load mappings compute values with
//! them. A column's name is a variable; what queries a graph or aggregates is refused.

use std::sync::Arc;

use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::{Diagnostic, VariableKind, expression_variables, parse_expression};

use crate::Parameters;
use crate::batch::Batch;
use crate::compile::{Compiler, PlanParameters};
use crate::counters::Counters;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::outcome::located;
use crate::plan::Schema;
use crate::row::Row;
use crate::scope::Scope;
use crate::stack::on_large_stack;

/// A text of fewer characters has too few levels to matter.
const DEEP: usize = 400;

/// A compiled expression; evaluated from many threads at once.
#[derive(Clone, Debug)]
pub struct RowExpression {
    expr: Expr,
    columns: Vec<Arc<str>>,
    scope: Arc<Scope>,
    /// Its levels may need more stack than a thread of a load has.
    is_deep: bool,
}

impl RowExpression {
    pub fn parse(text: &str) -> Result<RowExpression, Diagnostic> {
        let parsed = parse_expression(text).map_err(|mut e| e.0.remove(0))?;
        let columns: Vec<Arc<str>> = expression_variables(&parsed).into_iter().collect();
        let snapshot = Snapshot::empty(None).map_err(|e| located(e, parsed.span))?;
        let scope = Scope::without_parameters(snapshot);
        let mut schema = Schema::default();
        for column in &columns {
            schema.push(column.clone(), VariableKind::Value);
        }
        let none = Parameters::new();
        let parameters = PlanParameters::new(&none);
        let compiler = Compiler {
            scope: &scope,
            schema: &schema,
            parameters: &parameters,
            computed: &vec![],
            grouped: false,
            lists: true,
        };
        let expr = on_large_stack(|| compiler.expression(&parsed))?;
        let is_deep = text.len() > DEEP;
        Ok(RowExpression { expr, columns, scope: Arc::new(scope), is_deep })
    }

    /// The columns it reads, in the order in which [`Self::value`] wants their values.
    pub fn columns(&self) -> &[Arc<str>] {
        &self.columns
    }

    pub fn value(&self, columns: &[Value]) -> Result<Value, Diagnostic> {
        if self.is_deep {
            return on_large_stack(|| self.value_here(columns));
        }
        self.value_here(columns)
    }

    fn value_here(&self, columns: &[Value]) -> Result<Value, Diagnostic> {
        let batch = Batch::unit();
        let mut counters = Counters::default();
        Evaluator { scope: &self.scope, counters: &mut counters }
            .value(&self.expr, Row { batch: &batch, row: 0, locals: columns })
    }
}

/// Evaluates a parameter's or a mapping's text as a literal of the language.
pub fn evaluate_constant(text: &str) -> Result<Value, Diagnostic> {
    let parsed = graphodrome_language::parse_expression(text).map_err(|mut e| e.0.remove(0))?;
    let snapshot =
        Snapshot::empty(None).map_err(|e: graphodrome_graph::GraphError| located(e, parsed.span))?;
    let scope = Scope::without_parameters(snapshot);
    let none = Parameters::new();
    let parameters = PlanParameters::new(&none);
    let compiled = Compiler::constant(&scope, &parameters).expression(&parsed)?;
    let mut counters = Counters::default();
    let batch = Batch::unit();
    Evaluator { scope: &scope, counters: &mut counters }
        .value(&compiled, Row { batch: &batch, row: 0, locals: &[] })
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    fn value(text: &str, columns: &[(&str, &str)]) -> Result<Value, Diagnostic> {
        let expression = RowExpression::parse(text)?;
        let of = |name: &Arc<str>| columns.iter().find(|(n, _)| **n == **name).map(|c| Value::text(c.1));
        let values: Vec<Value> =
            expression.columns().iter().map(|name| of(name).unwrap_or(Value::Null)).collect();
        expression.value(&values)
    }

    #[test]
    fn columns_are_variables_also_in_quotes() {
        assert_eq!(value("UPPER(TRIM(code))", &[("code", " v-1 ")]).unwrap(), Value::text("V-1"));
        let columns = [("Pipe No", "7"), ("len", "2.5")];
        assert_eq!(value(r#""Pipe No" || '/' || len"#, &columns).unwrap(), Value::text("7/2.5"));
        assert_eq!(value("CAST(len AS FLOAT64) * 2", &columns).unwrap(), Value::Float(5.0));
        let case = "CASE WHEN len IS NULL THEN 0 ELSE 1 END";
        assert_eq!(value(case, &[]).unwrap(), Value::Int(0));
    }

    #[test]
    fn lists_and_dates_come_out_of_texts() {
        let tags = value("SPLIT(tags, ';')", &[("tags", "a;b;;c")]).unwrap();
        let texts = ["a", "b", "", "c"].map(Value::text);
        assert_eq!(tags, Value::list(texts.to_vec()));
        let date = value("TO_DATE(d, 'DD.MM.YYYY')", &[("d", "31.12.2024")]).unwrap();
        assert_eq!(date.to_string(), "2024-12-31");
        let time = value("TO_DATETIME(d, 'MM/DD/YYYY HH12:MI AM')", &[("d", "05/31/2024 01:45 PM")]).unwrap();
        assert_eq!(time.to_string(), "2024-05-31T13:45:00");
        assert!(value("TO_DATE(d, 'DD.MM.YYYY')", &[("d", "31.02.2024")]).is_err());
    }

    #[test]
    fn what_needs_a_graph_is_refused() {
        assert!(RowExpression::parse("COUNT(*)").is_err());
        assert!(RowExpression::parse("$limit").is_err());
        assert!(RowExpression::parse("a +").is_err());
    }
}
