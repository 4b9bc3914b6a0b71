//! Evaluating compiled expressions on a row. Three-valued logic: unknown is null.

pub(crate) mod arithmetic;
mod paths;

use std::cmp::Ordering;
use std::sync::Arc;

use graphodrome_graph::{Code, PathValue, PropertyReader, Value};
use graphodrome_language::ast::{Aggregate, BinaryOperator};
use graphodrome_language::{Diagnostic, Span};

use crate::counters::Counters;
use crate::expression::{Expr, Kind};
use crate::functions;
use crate::listed::known_list;
use crate::operators::Accumulator;
use crate::outcome::{CHECK_EVERY, Outcome, located};
use crate::quick;
use crate::row::Row;
use crate::scope::Scope;

use arithmetic::{and, or, overflow};
pub(crate) use arithmetic::{arithmetic, compared, wrong_type};

pub(crate) struct Evaluator<'a> {
    pub scope: &'a Scope,
    pub counters: &'a mut Counters,
}

/// Whether a condition holds on the row: unknown does not.
pub(crate) fn holds(expr: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Outcome<bool> {
    let read = counters.properties_read;
    if let Some(truth) = quick::truth(expr, row, scope, counters) {
        return Ok(truth == Some(true));
    }
    counters.properties_read = read;
    let mut evaluator = Evaluator { scope, counters };
    match evaluator.value(expr, row)? {
        Value::Bool(b) => Ok(b),
        Value::Null => Ok(false),
        other => Err(wrong_type(&other, "a condition", "BOOL", expr.span)),
    }
}

fn truth(value: &Value, span: Span) -> Outcome<Option<bool>> {
    match value {
        Value::Bool(b) => Ok(Some(*b)),
        Value::Null => Ok(None),
        other => Err(wrong_type(other, "an operand of AND, OR and NOT", "BOOL", span)),
    }
}

fn from_truth(truth: Option<bool>) -> Value {
    truth.map_or(Value::Null, Value::Bool)
}

fn negate_if(value: Option<bool>, negated: bool) -> Value {
    from_truth(value.map(|b| b != negated))
}

/// The operand of a minus sign, with the other sign.
fn negated(value: Value, span: Span) -> Outcome<Value> {
    Ok(match value {
        Value::Null => Value::Null,
        Value::Int(i) => Value::Int(i.checked_neg().ok_or_else(|| overflow(span))?),
        Value::Float(f) => Value::Float(-f),
        Value::Decimal(d) => Value::Decimal(-d),
        Value::Duration(d) => match (d.months.checked_neg(), d.nanoseconds.checked_neg()) {
            (Some(months), Some(nanoseconds)) => {
                Value::Duration(graphodrome_graph::Duration { months, nanoseconds })
            }
            _ => return Err(overflow(span)),
        },
        other => return Err(wrong_type(&other, "the operand of -", "a number", span)),
    })
}

/// Positions count from 0, as in the standard's list element reference.
fn element_at(list: Value, position: Value, span: Span) -> Outcome<Value> {
    match (list, position) {
        (Value::Null, _) | (_, Value::Null) => Ok(Value::Null),
        (Value::List(items), Value::Int(i)) => {
            usize::try_from(i).ok().and_then(|i| items.get(i)).cloned().ok_or_else(|| {
                let text = format!("position {i} is outside the list of {} elements", items.len());
                Diagnostic::error(Code("22G0C"), span, text).hint("positions count from 0")
            })
        }
        (Value::List(_), other) => Err(wrong_type(&other, "a list position", "INT64", span)),
        (other, _) => Err(wrong_type(&other, "what stands before [ ]", "a LIST", span)),
    }
}

impl Evaluator<'_> {
    pub fn value(&mut self, expr: &Expr, row: Row<'_>) -> Outcome<Value> {
        let span = expr.span;
        Ok(match &expr.kind {
            Kind::Constant(value) => value.clone(),
            Kind::Parameter(number) => self.scope.parameters.get(*number).cloned().unwrap_or(Value::Null),
            Kind::Slot(slot) => row.get(*slot),
            Kind::NodeProperty(slot, reader) => match row.get(*slot) {
                Value::Node(id) => {
                    self.counters.properties_read += 1;
                    self.scope.read_node(id, reader)
                }
                _ => Value::Null,
            },
            Kind::EdgeProperty(slot, reader) => match row.get(*slot) {
                Value::Edge(id) => {
                    self.counters.properties_read += 1;
                    self.scope.read_edge(id, reader)
                }
                _ => Value::Null,
            },
            Kind::Property(operand, node, edge) => {
                let value = self.value(operand, row)?;
                self.property(value, node, edge, span)?
            }
            Kind::Not(operand) => {
                let value = self.value(operand, row)?;
                from_truth(truth(&value, operand.span)?.map(|b| !b))
            }
            Kind::Negate(operand) => negated(self.value(operand, row)?, span)?,
            Kind::Binary(operator, left, right) => self.binary(*operator, left, right, row, span)?,
            Kind::IsNull(operand, negated) => Value::Bool(self.value(operand, row)?.is_null() != *negated),
            Kind::IsTruth(operand, wanted, negated) => {
                let value = self.value(operand, row)?;
                Value::Bool((truth(&value, operand.span)? == *wanted) != *negated)
            }
            Kind::IsLabeled(operand, labels, negated) => match self.value(operand, row)? {
                Value::Node(id) => Value::Bool(labels.matches(&self.scope.node_labels(id)) != *negated),
                Value::Edge(id) => Value::Bool(labels.matches(&self.scope.edge_labels(id)) != *negated),
                Value::Null => Value::Null,
                other => {
                    return Err(wrong_type(&other, "the operand of IS LABELED", "a node or an edge", span));
                }
            },
            Kind::IsTyped(operand, value_type, null_is, negated) => {
                let value = self.value(operand, row)?;
                let is = if value.is_null() { *null_is } else { value_type.accepts(&value) };
                Value::Bool(is != *negated)
            }
            Kind::IsDirected(operand, negated) => match self.value(operand, row)? {
                Value::Edge(id) => Value::Bool(self.scope.edge_directed(id) != *negated),
                Value::Null => Value::Null,
                other => return Err(wrong_type(&other, "the operand of IS DIRECTED", "an edge", span)),
            },
            Kind::IsEnd { node, edge, source, negated } => {
                let (node, edge) = (self.value(node, row)?, self.value(edge, row)?);
                self.is_end(&node, &edge, *source, span)?
                    .map_or(Value::Null, |is| Value::Bool(is != *negated))
            }
            Kind::In(operand, list, negated, table) => {
                let value = self.value(operand, row)?;
                match known_list(list, table, self.scope).and_then(|known| known.has(&value)) {
                    Some(truth) => negate_if(truth, *negated),
                    None => self.is_in(value, operand, list, *negated, row)?,
                }
            }
            Kind::Between(operand, low, high, negated) => {
                let value = self.value(operand, row)?;
                let low = self.value(low, row)?;
                let high = self.value(high, row)?;
                let above = value.compare(&low).map_err(|e| located(e, span))?.map(Ordering::is_ge);
                let below = value.compare(&high).map_err(|e| located(e, span))?.map(Ordering::is_le);
                negate_if(and(above, below), *negated)
            }
            Kind::Like(operand, pattern, escape, negated) => {
                let escape = escape.as_ref().map(|e| self.value(e, row)).transpose()?;
                let (text, pattern) = (self.value(operand, row)?, self.value(pattern, row)?);
                negate_if(self.is_like(&text, &pattern, escape.as_ref(), span)?, *negated)
            }
            Kind::Case { operand, branches, otherwise } => {
                return match self.branch(operand.as_deref(), branches, row)? {
                    Some(then) => self.value(then, row),
                    None => {
                        otherwise.as_ref().map_or(Ok(Value::Null), |otherwise| self.value(otherwise, row))
                    }
                };
            }
            Kind::Cast(operand, wanted) => {
                let value = self.value(operand, row)?;
                functions::cast(value, wanted).map_err(|e| located(e, span))?
            }
            Kind::Call(function, arguments) => {
                let mut values = Vec::with_capacity(arguments.len());
                for argument in arguments {
                    values.push(self.value(argument, row)?);
                }
                functions::call(*function, values, self.scope).map_err(|e| located(e, span))?
            }
            Kind::List(items) => {
                let mut values = Vec::with_capacity(items.len());
                for item in items {
                    values.push(self.value(item, row)?);
                }
                self.made(Value::list(values), span)?
            }
            Kind::Record(fields) => {
                let mut values = Vec::with_capacity(fields.len());
                for (name, field) in fields {
                    values.push((name.clone(), self.value(field, row)?));
                }
                self.made(Value::Record(values.into()), span)?
            }
            Kind::Index(list, index) => element_at(self.value(list, row)?, self.value(index, row)?, span)?,
            Kind::Fold { .. } => self.fold(expr, row)?,
            Kind::Path(pieces) => self.path(pieces, row),
            Kind::Length(pieces) => paths::path_length(pieces, row),
            Kind::NoSharedEdge(a, b) => {
                let edges = |value: Value| -> Vec<u32> {
                    match value {
                        Value::Edge(e) => vec![e],
                        Value::Path(p) => p.edges.clone(),
                        _ => vec![],
                    }
                };
                let (a, b) = (edges(row.get(*a)), edges(row.get(*b)));
                Value::Bool(!a.iter().any(|e| b.contains(e)))
            }
            Kind::PathOf(items) => self.path_of(items, row, span)?,
            Kind::Let { first, values, body } => {
                let mut locals = row.locals.to_vec();
                let place = first - row.batch.columns.len();
                locals.resize(place, Value::Null);
                for value in values {
                    let value = self.value(value, Row { locals: &locals, ..row })?;
                    locals.push(value);
                }
                self.value(body, Row { locals: &locals, ..row })?
            }
            Kind::Require(operand, wanted, not_null) => {
                let value = self.value(operand, row)?;
                let fits = if value.is_null() { !not_null } else { wanted.accepts(&value) };
                if !fits {
                    return Err(wrong_type(&value, "the value", &wanted.to_string(), operand.span));
                }
                value
            }
            Kind::IsNormalized(operand, form, negated) => match self.value(operand, row)? {
                Value::Null => Value::Null,
                Value::Text(t) => Value::Bool((*functions::normalized(&t, *form) == *t) != *negated),
                other => return Err(wrong_type(&other, "the operand of IS NORMALIZED", "STRING", span)),
            },
        })
    }

    fn property(
        &mut self, of: Value, node: &PropertyReader, edge: &PropertyReader, span: Span,
    ) -> Outcome<Value> {
        Ok(match of {
            Value::Null => Value::Null,
            Value::Node(id) => {
                self.counters.properties_read += 1;
                self.scope.read_node(id, node)
            }
            Value::Edge(id) => {
                self.counters.properties_read += 1;
                self.scope.read_edge(id, edge)
            }
            Value::Record(fields) => {
                fields.iter().find(|(name, _)| *name == node.name).map_or(Value::Null, |(_, v)| v.clone())
            }
            other => {
                let wanted = "a node, an edge or a RECORD";
                return Err(wrong_type(&other, "what stands before a dot", wanted, span));
            }
        })
    }

    /// Whether a node is the source, or the destination, of a directed edge; unknown where one is null.
    fn is_end(&self, node: &Value, edge: &Value, source: bool, span: Span) -> Outcome<Option<bool>> {
        match (node, edge) {
            (Value::Node(node), Value::Edge(edge)) => {
                let ends = self.scope.edge_ends(*edge);
                let end = if source { ends.0 } else { ends.1 };
                Ok(Some(self.scope.edge_directed(*edge) && end == *node))
            }
            (Value::Null, _) | (_, Value::Null) => Ok(None),
            (other, _) => Err(wrong_type(other, "the operands of IS SOURCE OF", "a node and an edge", span)),
        }
    }

    fn is_like(
        &self, text: &Value, pattern: &Value, escape: Option<&Value>, span: Span,
    ) -> Outcome<Option<bool>> {
        let escape = match escape {
            None => '\\',
            Some(Value::Null) => return Ok(None),
            Some(Value::Text(text)) if text.chars().count() == 1 => text.chars().next().unwrap_or('\\'),
            Some(other) => return Err(wrong_type(other, "what follows ESCAPE", "one character", span)),
        };
        match (text, pattern) {
            (Value::Text(text), Value::Text(pattern)) => {
                Ok(Some(functions::LikePattern::new(pattern, escape).matches(text, &self.scope.budget)?))
            }
            (Value::Null, _) | (_, Value::Null) => Ok(None),
            (Value::Text(_), other) | (other, _) => {
                Err(wrong_type(other, "both sides of LIKE", "STRING", span))
            }
        }
    }

    /// The branch of a CASE that is taken.
    fn branch<'e>(
        &mut self, operand: Option<&Expr>, branches: &'e [(Expr, Expr)], row: Row<'_>,
    ) -> Outcome<Option<&'e Expr>> {
        let subject = operand.map(|o| self.value(o, row)).transpose()?;
        for (when, then) in branches {
            let value = self.value(when, row)?;
            let taken = match &subject {
                Some(subject) => subject.equals(&value).map_err(|e| located(e, when.span))?,
                None => truth(&value, when.span)?,
            };
            if taken == Some(true) {
                return Ok(Some(then));
            }
        }
        Ok(None)
    }

    /// An aggregate along the elements of a group.
    fn fold(&mut self, expr: &Expr, row: Row<'_>) -> Outcome<Value> {
        let Kind::Fold { list, local, function, distinct, share, argument } = &expr.kind else {
            return self.value(expr, row);
        };
        let span = expr.span;
        let items = match row.get(*list) {
            Value::List(items) => items,
            // Of an OPTIONAL without a match: nothing is counted and collected, as over no rows.
            Value::Null => {
                return Ok(match function {
                    Aggregate::Count => Value::Int(0),
                    Aggregate::CollectList => Value::list(vec![]),
                    _ => Value::Null,
                });
            }
            one => vec![one].into(),
        };
        let share = match share {
            None => None,
            Some(share) => {
                let given = self.value(share, row)?;
                let valid = given.as_f64().filter(|s| (0.0..=1.0).contains(s));
                Some(valid.ok_or_else(|| {
                    let text = format!(
                        "the share of a percentile is a number from 0 to 1, found {}",
                        given.excerpt()
                    );
                    Diagnostic::error(Code::DATA, share.span, text)
                })?)
            }
        };
        let mut accumulator =
            Accumulator::new(*function, *distinct, self.scope.node_bound()).with_share(share);
        let mut locals = row.locals.to_vec();
        let place = local - row.batch.columns.len();
        locals.resize(locals.len().max(place + 1), Value::Null);
        for (i, item) in items.iter().enumerate() {
            self.look_up(i)?;
            locals[place] = item.clone();
            let value = self.value(argument, Row { locals: &locals, ..row })?;
            accumulator.add(value).map_err(|e| located(e, span))?;
        }
        let folded = accumulator.finish().map_err(|e| located(e, span))?;
        self.made(folded, span)
    }

    /// A value put together out of others.
    fn made(&self, value: Value, span: Span) -> Outcome<Value> {
        self.scope.budget.check_made(&value, span)?;
        Ok(value)
    }

    /// Asks in a long loop now and then whether to go on.
    fn look_up(&self, round: usize) -> Outcome<()> {
        if round > 0 && (round as u64).is_multiple_of(CHECK_EVERY) {
            self.scope.budget.check()
        } else {
            Ok(())
        }
    }

    /// Compares the operand's value with those of the list one by one.
    fn is_in(
        &mut self, value: Value, operand: &Expr, list: &Expr, negated: bool, row: Row<'_>,
    ) -> Outcome<Value> {
        let items = match self.value(list, row)? {
            Value::List(items) => items,
            Value::Null => return Ok(Value::Null),
            other => return Err(wrong_type(&other, "the right side of IN", "a LIST", list.span)),
        };
        let mut unknown = false;
        for (i, item) in items.iter().enumerate() {
            self.look_up(i)?;
            match value.equals(item).map_err(|e| located(e, operand.span))? {
                Some(true) => return Ok(Value::Bool(!negated)),
                Some(false) => {}
                None => unknown = true,
            }
        }
        Ok(if unknown { Value::Null } else { Value::Bool(negated) })
    }

    fn binary(
        &mut self, operator: BinaryOperator, left: &Expr, right: &Expr, row: Row<'_>, span: Span,
    ) -> Outcome<Value> {
        use BinaryOperator::*;
        let a = self.value(left, row)?;
        match operator {
            And | Or => {
                let decisive = operator == Or;
                let a = truth(&a, left.span)?;
                if a == Some(decisive) {
                    return Ok(Value::Bool(decisive));
                }
                let b = self.value(right, row)?;
                let b = truth(&b, right.span)?;
                Ok(from_truth(if decisive { or(a, b) } else { and(a, b) }))
            }
            Xor => {
                let b = self.value(right, row)?;
                let (a, b) = (truth(&a, left.span)?, truth(&b, right.span)?);
                Ok(from_truth(a.zip(b).map(|(a, b)| a != b)))
            }
            Equal | NotEqual | Less | LessOrEqual | Greater | GreaterOrEqual => {
                let b = self.value(right, row)?;
                compared(operator, &a, &b).map(from_truth).map_err(|e| located(e, span))
            }
            Add | Subtract | Multiply | Divide => {
                let b = self.value(right, row)?;
                arithmetic(operator, a, b, span)
            }
            Concatenate => {
                let b = self.value(right, row)?;
                Ok(match (a, b) {
                    (Value::Null, _) | (_, Value::Null) => Value::Null,
                    (Value::Text(a), Value::Text(b)) => {
                        self.scope.budget.fits(a.len() + b.len())?;
                        Value::text(format!("{a}{b}"))
                    }
                    (Value::List(a), Value::List(b)) => {
                        self.scope.budget.fits((a.len() + b.len()) * size_of::<Value>())?;
                        let joined = Value::list(a.iter().chain(b.iter()).cloned().collect());
                        self.made(joined, span)?
                    }
                    (Value::Bytes(a), Value::Bytes(b)) => {
                        self.scope.budget.fits(a.len() + b.len())?;
                        Value::Bytes(a.iter().chain(b.iter()).copied().collect::<Vec<u8>>().into())
                    }
                    (Value::Path(a), Value::Path(b)) => {
                        if a.nodes.last() != b.nodes.first() {
                            let text = "the second path does not begin where the first ends";
                            return Err(Diagnostic::error(Code("22G0Z"), span, text));
                        }
                        let nodes = a.nodes.iter().chain(&b.nodes[1..]).copied().collect();
                        let edges = a.edges.iter().chain(&b.edges).copied().collect();
                        Value::Path(Arc::new(PathValue { nodes, edges }))
                    }
                    (Value::Text(_) | Value::List(_), other) | (other, _) => {
                        return Err(wrong_type(
                            &other,
                            "both sides of ||",
                            "STRING, LIST, PATH or BYTES",
                            span,
                        )
                        .hint("CAST(... AS STRING) makes a text of a value"));
                    }
                })
            }
        }
    }
}
