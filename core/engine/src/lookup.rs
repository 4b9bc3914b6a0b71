//! Finds elements by a key or an index with the values of the current row.

use graphodrome_graph::{Element, IndexSearch, Value, ValueRange};
use graphodrome_language::Span;

use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::outcome::{Outcome, located};
use crate::row::Row;
use crate::scope::Scope;

/// What an index is searched for.
#[derive(Clone, Debug)]
pub(crate) struct SearchedIndex {
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
    Index(Box<SearchedIndex>),
}

impl Lookup {
    /// Calls `found` for each element, in no order.
    pub fn run(&self, context: &mut Context, at: Row<'_>, found: &mut Vec<u32>) -> Outcome<()> {
        let counters = &mut context.metrics[context.current].counters;
        counters.index_probes += 1;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        match self {
            Lookup::Key(key, values) => {
                let mut given = Vec::with_capacity(values.len());
                for value in values {
                    given.push(evaluator.value(value, at)?);
                }
                let span = values.first().map(|e| e.span).unwrap_or_default();
                found.extend(seek(&context.scope, *key, &given, span)?);
            }
            Lookup::Index(spec) => {
                let mut bound = |side: &Option<(Expr, bool)>| -> Outcome<Option<(Value, bool)>> {
                    side.as_ref().map(|(e, inclusive)| Ok((evaluator.value(e, at)?, *inclusive))).transpose()
                };
                let range = ValueRange { lower: bound(&spec.lower)?, upper: bound(&spec.upper)? };
                let equal: Vec<Value> =
                    spec.equal.iter().map(|e| evaluator.value(e, at)).collect::<Outcome<_>>()?;
                let ranged = range.lower.is_some() || range.upper.is_some();
                let search = IndexSearch { equal, range: ranged.then_some(range) };
                let before = found.len();
                context.scope.search(spec.index, &search, |id| found.push(id));
                if found.len() == before {
                    spec.check_comparable(&context.scope, &search)?;
                }
            }
        }
        Ok(())
    }
}

impl SearchedIndex {
    /// Where nothing was found: whether that is because the values cannot be compared.
    fn check_comparable(&self, scope: &Scope, search: &IndexSearch) -> Outcome<()> {
        let definition = &scope.indexes[self.index];
        let bounds = search.range.iter().flat_map(|r| [&r.lower, &r.upper]).flatten().map(|(v, _)| v);
        let sides = [&self.lower, &self.upper].into_iter().flatten().map(|(e, _)| e);
        let equal = definition.properties.iter().zip(search.equal.iter().zip(&self.equal));
        let range = definition.properties.iter().skip(search.equal.len()).take(1);
        let ranged = range.flat_map(|p| bounds.clone().zip(sides.clone()).map(move |pair| (p, pair)));
        for (property, (value, e)) in equal.chain(ranged) {
            comparable(scope, (definition.element, &definition.label, property), value, e.span)?;
        }
        Ok(())
    }
}

/// The element with these values of a key, as `=` has it: what is equal to nothing finds none, and what cannot
/// be compared with the values that are there is an error, as it is without a key.
pub(crate) fn seek(scope: &Scope, key: usize, values: &[Value], span: Span) -> Outcome<Option<u32>> {
    if !values.iter().all(Value::equals_itself) {
        return Ok(None);
    }
    let found = scope.seek(key, values);
    if found.is_none() {
        let definition = &scope.keys[key];
        for (property, value) in definition.properties.iter().zip(values) {
            comparable(scope, (definition.element, &definition.label, property), value, span)?;
        }
    }
    Ok(found)
}

fn comparable(
    scope: &Scope, (element, label, property): (Element, &str, &str), value: &Value, span: Span,
) -> Outcome<()> {
    if value.is_null() {
        return Ok(());
    }
    match scope.incomparable(element, label, property, value) {
        None => Ok(()),
        Some(other) => other.compare(value).map(|_| ()).map_err(|e| located(e, span)),
    }
}
