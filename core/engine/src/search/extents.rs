//! Between which numbers lies what an expression makes of an edge: found from the extents of the edges' columns.

use graphodrome_graph::{EdgeTest, Extent};
use graphodrome_language::ast::BinaryOperator;

use crate::expression::{Expr, Kind};
use crate::functions::Function;
use crate::scope::Scope;

/// Where the numbers of an edge lie that the test lets pass; `None` where nobody knows, or they are none.
pub(crate) fn extent(e: &Expr, slot: usize, test: &EdgeTest, scope: &Scope) -> Option<Extent> {
    let of = |e: &Expr| extent(e, slot, test, scope);
    match &e.kind {
        Kind::Constant(value) => Extent::of_value(value),
        Kind::Parameter(n) => Extent::of_value(scope.parameters.get(*n)?),
        Kind::EdgeProperty(s, reader) if *s == slot => scope.extent_of_edges(reader, test),
        // To a whole number, or to fewer places.
        Kind::Cast(a, to) if to.is_numeric() => {
            of(a).map(|e| Extent { least: e.least.floor(), greatest: e.greatest.ceil(), ..e })
        }
        Kind::Binary(BinaryOperator::Add, a, b) => {
            let (a, b) = (of(a)?, of(b)?);
            let nulls = a.nulls | b.nulls;
            // They are rounded, and what they add up to may lie as much to either side.
            let around = |a: f64, b: f64| (a.abs() + b.abs()) * f64::EPSILON;
            let least = a.least + b.least - around(a.least, b.least);
            let greatest = a.greatest + b.greatest + around(a.greatest, b.greatest);
            Some(Extent { least, greatest, nulls })
        }
        Kind::Binary(BinaryOperator::Multiply, a, b) => {
            let (a, b) = (of(a)?, of(b)?);
            let positive = a.least >= 0.0 && b.least >= 0.0;
            let nulls = a.nulls | b.nulls;
            positive.then_some(Extent { least: a.least * b.least, greatest: a.greatest * b.greatest, nulls })
        }
        Kind::Binary(BinaryOperator::Divide, a, b) => {
            let (a, b) = (of(a)?, of(b)?);
            let nulls = a.nulls | b.nulls;
            let positive = a.least >= 0.0 && b.least > 0.0;
            // A whole number divided is cut off towards zero.
            positive.then_some(Extent { least: 0.0, greatest: a.greatest / b.least, nulls })
        }
        Kind::Case { branches, otherwise, .. } => {
            let all = branches.iter().map(|(_, then)| of(then));
            let none = Extent { nulls: true, ..Extent::NONE };
            let otherwise = otherwise.as_ref().map_or(Some(none), |e| of(e));
            all.chain([otherwise]).try_fold(Extent::NONE, |extent, more| Some(extent.and(more?)))
        }
        Kind::Call(Function::Coalesce, all) => {
            let mut together = Extent::NONE;
            for part in all {
                let extent = of(part)?;
                together = Extent { nulls: extent.nulls, ..together.and(extent) };
                if !extent.nulls {
                    break;
                }
            }
            Some(together)
        }
        Kind::Call(Function::Abs, all) => {
            let extent = of(all.first()?)?;
            let greatest = extent.greatest.max(-extent.least);
            Some(Extent { least: 0.0, greatest, ..extent })
        }
        _ => None,
    }
}
