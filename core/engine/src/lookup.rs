//! Finding elements by a key or an index, as planned: what is looked for, on the row at hand.

use graphodrome_graph::{IndexSearch, Value, ValueRange};

use crate::context::{Context, Outcome};
use crate::evaluate::{Evaluator, Row};
use crate::expression::Expr;

/// What an index is searched for.
#[derive(Clone, Debug)]
pub(crate) struct SearchSpec {
    pub index: usize,
    /// Values of its first properties.
    pub equal: Vec<Expr>,
    /// Bounds of the next property, each with whether it is among what is looked for.
    pub lower: Option<(Expr, bool)>,
    pub upper: Option<(Expr, bool)>,
}

#[derive(Clone, Debug)]
pub(crate) enum Lookup {
    /// The number of a key, and a value for each of its properties.
    Key(usize, Vec<Expr>),
    Index(Box<SearchSpec>),
}

impl Lookup {
    /// Calls `found` for each element, in no order.
    pub fn run(&self, context: &mut Context, at: Row<'_>, found: &mut Vec<u32>) -> Outcome<()> {
        let counters = &mut context.metrics[context.current].counters;
        counters.index_probes += 1;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        match self {
            Lookup::Key(key, values) => {
                let values: Vec<Value> =
                    values.iter().map(|value| evaluator.value(value, at)).collect::<Outcome<_>>()?;
                found.extend(context.scope.seek(*key, &values));
            }
            Lookup::Index(spec) => {
                let mut bound = |side: &Option<(Expr, bool)>| -> Outcome<Option<(Value, bool)>> {
                    side.as_ref().map(|(e, inclusive)| Ok((evaluator.value(e, at)?, *inclusive))).transpose()
                };
                let range = ValueRange { lower: bound(&spec.lower)?, upper: bound(&spec.upper)? };
                let equal = spec.equal.iter().map(|e| evaluator.value(e, at)).collect::<Outcome<_>>()?;
                let ranged = range.lower.is_some() || range.upper.is_some();
                let search = IndexSearch { equal, range: ranged.then_some(range) };
                context.scope.search(spec.index, &search, |id| found.push(id));
            }
        }
        Ok(())
    }
}
