//! Reference evaluation of expressions on one row.

use std::cmp::Ordering;
use std::sync::Arc;

use graphodrome_graph::label_set;
use graphodrome_language::ast::*;

use super::{Datum, Element, Matcher, Row, Trouble};

type Result<T> = std::result::Result<T, Trouble>;

impl Matcher<'_> {
    pub(super) fn property(&self, element: &Element, name: &str) -> Datum {
        let properties = match element {
            Element::Node(n) => &self.graph.nodes[*n].properties,
            Element::Edge(e) => &self.graph.edges[*e].properties,
            Element::Path(..) => panic!("a path has no properties"),
        };
        properties.iter().find(|(n, _)| *n == name).map_or(Datum::Null, |(_, d)| d.clone())
    }

    pub(super) fn truth(&self, e: &Expression, row: &Row) -> Result<Option<bool>> {
        match self.value(e, row)? {
            Datum::Null => Ok(None),
            Datum::Truth(b) => Ok(Some(b)),
            _ => Err(Trouble::Data),
        }
    }

    pub(super) fn value(&self, e: &Expression, row: &Row) -> Result<Datum> {
        let truth = |t: Option<bool>| t.map_or(Datum::Null, Datum::Truth);
        let negated = |t: Option<bool>, negated: bool| truth(t.map(|t| t != negated));
        match &e.kind {
            ExpressionKind::Literal(value) => Ok(Datum::of(value).unwrap_or_else(|| panic!("{value:?}"))),
            ExpressionKind::Variable(name) => {
                Ok(row.get(name).unwrap_or_else(|| panic!("no {name} in {row:?}")).clone())
            }
            ExpressionKind::Property(owner, name) => match self.value(owner, row)? {
                Datum::Null => Ok(Datum::Null),
                Datum::Element(element) => Ok(self.property(&element, &name.text)),
                other => panic!("{other:?}"),
            },
            ExpressionKind::Not(a) => Ok(truth(self.truth(a, row)?.map(|t| !t))),
            ExpressionKind::Negate(a) => {
                Ok(self.value(a, row)?.number()?.map_or(Datum::Null, |n| Datum::Number(-n)))
            }
            ExpressionKind::Binary(operator, a, b) => self.binary(*operator, a, b, row),
            ExpressionKind::IsNull { operand, negated } => {
                Ok(Datum::Truth((self.value(operand, row)? == Datum::Null) != *negated))
            }
            ExpressionKind::IsLabeled { operand, labels, negated: not, .. } => {
                let own = match self.value(operand, row)? {
                    Datum::Element(Element::Node(n)) => self.graph.nodes[n].labels.clone(),
                    Datum::Element(Element::Edge(e)) => vec![self.graph.edges[e].label],
                    Datum::Null => return Ok(Datum::Null),
                    other => panic!("{other:?}"),
                };
                Ok(negated(Some(labels.matches(&label_set(own))), *not))
            }
            ExpressionKind::In { operand, list, negated: not } => {
                let value = self.value(operand, row)?;
                let Datum::List(items) = self.value(list, row)? else { return Ok(Datum::Null) };
                let mut found = Some(false);
                for item in &items {
                    match value.equals(item)? {
                        Some(true) => return Ok(negated(Some(true), *not)),
                        None => found = None,
                        Some(false) => {}
                    }
                }
                Ok(negated(found, *not))
            }
            ExpressionKind::Between { operand, low, high, negated: not } => {
                let value = self.value(operand, row)?;
                let from = value.order(&self.value(low, row)?)?.map(Ordering::is_ge);
                let to = value.order(&self.value(high, row)?)?.map(Ordering::is_le);
                Ok(negated(and(from, to), *not))
            }
            ExpressionKind::Call { function, arguments } => self.call(&function.text, arguments, row),
            ExpressionKind::Aggregate { function, distinct, argument, .. } => {
                let each = self.along(argument, row)?;
                fold(*function, *distinct, each)
            }
            ExpressionKind::List(items) => {
                Ok(Datum::List(items.iter().map(|i| self.value(i, row)).collect::<Result<_>>()?))
            }
            ExpressionKind::Exists(query) => {
                Ok(Datum::Truth(!self.query(query, vec![row.clone()])?.is_empty()))
            }
            ExpressionKind::Subquery(query) => {
                let mut rows = self.query(query, vec![row.clone()])?;
                match (rows.pop(), rows.len()) {
                    (None, _) => Ok(Datum::Null),
                    (Some(columns), 0) => Ok(columns.into_iter().next().map_or(Datum::Null, |(_, d)| d)),
                    _ => Err(Trouble::Data),
                }
            }
            other => panic!("{other:?}"),
        }
    }

    fn binary(&self, operator: BinaryOperator, a: &Expression, b: &Expression, row: &Row) -> Result<Datum> {
        use BinaryOperator::*;
        let truth = |t: Option<bool>| Ok(t.map_or(Datum::Null, Datum::Truth));
        if matches!(operator, And | Or | Xor) {
            let (a, b) = (self.truth(a, row)?, self.truth(b, row)?);
            return truth(match operator {
                And => and(a, b),
                Or => and(a.map(|t| !t), b.map(|t| !t)).map(|t| !t),
                _ => a.zip(b).map(|(a, b)| a != b),
            });
        }
        let (a, b) = (self.value(a, row)?, self.value(b, row)?);
        let order = |holds: fn(Ordering) -> bool| truth(a.order(&b)?.map(holds));
        match operator {
            Equal => truth(a.equals(&b)?),
            NotEqual => truth(a.equals(&b)?.map(|t| !t)),
            Less => order(Ordering::is_lt),
            LessOrEqual => order(Ordering::is_le),
            Greater => order(Ordering::is_gt),
            GreaterOrEqual => order(Ordering::is_ge),
            Add | Subtract => {
                let sign = if operator == Add { 1 } else { -1 };
                let both = a.number()?.zip(b.number()?);
                Ok(both.map_or(Datum::Null, |(a, b)| Datum::Number(a + sign * b)))
            }
            other => panic!("{other:?}"),
        }
    }

    fn call(&self, function: &str, arguments: &[Expression], row: &Row) -> Result<Datum> {
        let given = arguments.iter().map(|a| self.value(a, row)).collect::<Result<Vec<_>>>()?;
        let whole = |n: usize| Ok(Datum::whole(n as i64));
        match (function.to_uppercase().as_str(), &given[..]) {
            ("COALESCE", _) => Ok(given.into_iter().find(|d| *d != Datum::Null).unwrap_or(Datum::Null)),
            ("ALL_DIFFERENT", _) if given.contains(&Datum::Null) => Ok(Datum::Null),
            ("ALL_DIFFERENT", _) => {
                let different: std::collections::BTreeSet<_> = given.iter().collect();
                Ok(Datum::Truth(different.len() == given.len()))
            }
            (_, [Datum::Null]) => Ok(Datum::Null),
            ("PATH_LENGTH", [Datum::Element(Element::Path(_, edges))]) => whole(edges.len()),
            ("SIZE", [Datum::Group(items)]) => whole(items.len()),
            ("SIZE", [Datum::List(items)]) => whole(items.len()),
            // Edges, not their ends: a loop is one.
            ("DEGREE", [Datum::Element(Element::Node(n))]) => {
                whole(self.graph.edges.iter().filter(|e| e.from == *n || e.to == *n).count())
            }
            other => panic!("{other:?}"),
        }
    }

    /// Whether an aggregate runs along the elements of a group, not over rows.
    pub(super) fn is_along(&self, argument: &Expression) -> bool {
        self.element_of(argument).is_some()
    }

    /// The group of which an expression reads each element.
    fn element_of(&self, e: &Expression) -> Option<Arc<str>> {
        match &e.kind {
            ExpressionKind::Variable(name) => self.groups.borrow().contains(name).then(|| name.clone()),
            // How many there are is not asked of each.
            ExpressionKind::Call { function, .. } if &*function.text == "SIZE" => None,
            ExpressionKind::Aggregate { .. } => None,
            _ => {
                let mut found = None;
                e.each_part(&mut |part| found = found.take().or_else(|| self.element_of(part)));
                found
            }
        }
    }

    /// What an expression is of each element of the group that it reads.
    fn along(&self, argument: &Expression, row: &Row) -> Result<Vec<Datum>> {
        let name = self.element_of(argument).expect("an aggregate over rows is folded before");
        let items = match &row[&name] {
            Datum::Group(items) => items,
            // Of an OPTIONAL without a match.
            Datum::Null => return Ok(vec![]),
            other => panic!("{other:?}"),
        };
        let mut inner = row.clone();
        let mut values = vec![];
        for item in items {
            inner.insert(name.clone(), Datum::Element(item.clone()));
            values.push(self.value(argument, &inner)?);
        }
        Ok(values)
    }
}

fn and(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

/// An aggregate of values, nulls left out.
pub(super) fn fold(function: Aggregate, distinct: bool, values: Vec<Datum>) -> Result<Datum> {
    let mut values: Vec<Datum> = values.into_iter().filter(|d| *d != Datum::Null).collect();
    if distinct {
        values.sort();
        values.dedup();
    }
    if matches!(function, Aggregate::Count) {
        return Ok(Datum::whole(values.len() as i64));
    }
    if matches!(function, Aggregate::CollectList) {
        return Ok(Datum::List(values));
    }
    let numbers = values.iter().map(|d| d.number().map(|n| n.unwrap())).collect::<Result<Vec<i64>>>()?;
    let folded = match function {
        _ if numbers.is_empty() => None,
        Aggregate::Sum => Some(numbers.iter().sum()),
        Aggregate::Min => numbers.iter().min().copied(),
        Aggregate::Max => numbers.iter().max().copied(),
        other => panic!("{other:?}"),
    };
    Ok(folded.map_or(Datum::Null, Datum::Number))
}
