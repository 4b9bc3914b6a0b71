//! Conditions and keys over texts that are read where they stand in their column, without a value for each.

use std::hash::{Hash, Hasher};

use graphodrome_graph::{Column, Dense, Element, PropertyReader, Value};
use graphodrome_language::ast::BinaryOperator;
use hashbrown::Equivalent;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::by_table::ByTable;
use crate::expression::{Expr, Kind};
use crate::functions::LikePattern;
use crate::number_columns::{TruthOfRow, UNKNOWN};
use crate::scope::Scope;

/// A property whose values are texts, at least in some tables.
pub(crate) struct PlainTexts<'a>(ByTable<Option<&'a Column>>);

impl<'a> PlainTexts<'a> {
    /// `None` where no table has texts that are not coded.
    pub fn of(element: Element, reader: &PropertyReader, scope: &'a Scope) -> Option<PlainTexts<'a>> {
        if !scope.typed_reads {
            return None;
        }
        let tables = ByTable::of(element, reader, scope, |column| column);
        let any = tables.columns().any(|column| matches!(column, Some(Column::Text(_))));
        any.then_some(PlainTexts(tables))
    }

    /// Of an expression that is a property and nothing else.
    pub fn of_property(e: &Expr, scope: &'a Scope) -> Option<PlainTexts<'a>> {
        match &e.kind {
            Kind::NodeProperty(_, reader) => PlainTexts::of(Element::Node, reader, scope),
            Kind::EdgeProperty(_, reader) => PlainTexts::of(Element::Edge, reader, scope),
            _ => None,
        }
    }

    /// The text of an element; `None` where it has another value, or none.
    #[inline]
    pub fn get(&self, id: Dense, scope: &Scope) -> Option<&'a str> {
        let (_, column, row) = self.0.find(id, scope)?;
        column.filter(|column| row < column.len())?.text(row)
    }
}

/// A text that is looked for among values.
pub(crate) struct TextOfKey<'a>(pub &'a str);

impl Hash for TextOfKey<'_> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.0.hash(state);
    }
}

impl Equivalent<Value> for TextOfKey<'_> {
    fn equivalent(&self, value: &Value) -> bool {
        matches!(value, Value::Text(text) if **text == *self.0)
    }
}

/// What a text is asked.
enum TextTest<'e> {
    Compared(BinaryOperator, &'e str),
    Like(LikePattern, bool),
}

fn known_text<'v>(e: &'v Expr, scope: &'v Scope) -> Option<&'v str> {
    let value = match &e.kind {
        Kind::Constant(value) => value,
        Kind::Parameter(number) => scope.parameters.get(*number)?,
        _ => return None,
    };
    match value {
        Value::Text(text) => Some(text),
        _ => None,
    }
}

impl<'e> TextTest<'e> {
    /// The test, and the property it is of.
    fn of(e: &'e Expr, scope: &'e Scope) -> Option<(TextTest<'e>, &'e Expr)> {
        use BinaryOperator::*;
        match &e.kind {
            Kind::Like(property, pattern, escape, negated) => {
                let escape = match escape {
                    None => '\\',
                    Some(escape) => {
                        let mut characters = known_text(escape, scope)?.chars();
                        characters.next().filter(|_| characters.next().is_none())?
                    }
                };
                let pattern = LikePattern::new(known_text(pattern, scope)?, escape);
                Some((TextTest::Like(pattern, *negated), property))
            }
            Kind::Binary(operator, a, b) => {
                let turned = match operator {
                    Less => Greater,
                    LessOrEqual => GreaterOrEqual,
                    Greater => Less,
                    GreaterOrEqual => LessOrEqual,
                    Equal | NotEqual => *operator,
                    _ => return None,
                };
                match (known_text(a, scope), known_text(b, scope)) {
                    (None, Some(text)) => Some((TextTest::Compared(*operator, text), a)),
                    (Some(text), None) => Some((TextTest::Compared(turned, text), b)),
                    _ => None,
                }
            }
            _ => None,
        }
    }

    fn holds(&self, text: &str, scope: &Scope) -> Option<bool> {
        use BinaryOperator::*;
        Some(match self {
            TextTest::Like(pattern, negated) => pattern.matches(text, &scope.budget).ok()? != *negated,
            TextTest::Compared(operator, other) => {
                let order = text.cmp(other);
                match operator {
                    Equal => order.is_eq(),
                    NotEqual => order.is_ne(),
                    Less => order.is_lt(),
                    LessOrEqual => order.is_le(),
                    Greater => order.is_gt(),
                    _ => order.is_ge(),
                }
            }
        })
    }
}

/// What a comparison or LIKE says of each row's text; `None` where the full evaluation must be asked.
pub(crate) fn truths_of_plain_texts(
    e: &Expr, batch: &Batch, scope: &Scope, reads: &mut u64,
) -> Option<Vec<TruthOfRow>> {
    let only = e.only_property()?;
    let (test, property) = TextTest::of(e, scope)?;
    if !matches!(property.kind, Kind::NodeProperty(..) | Kind::EdgeProperty(..)) {
        return None;
    }
    let (Vector::Nodes(ids) | Vector::Edges(ids)) = batch.columns.get(only.slot)? else { return None };
    let texts = PlainTexts::of(only.element, only.reader, scope)?;
    let value = |id: Dense| match only.element {
        Element::Node => scope.read_node(id, only.reader),
        Element::Edge => scope.read_edge(id, only.reader),
    };
    let truth = |id: &Dense| match texts.get(*id, scope) {
        Some(text) => test.holds(text, scope).map(u8::from),
        // Nothing, or a value of another type.
        None if *id == NO_ELEMENT => Some(UNKNOWN),
        None => match value(*id) {
            Value::Null => Some(UNKNOWN),
            Value::Text(text) => test.holds(&text, scope).map(u8::from),
            _ => None,
        },
    };
    let truths = ids.iter().map(truth).collect::<Option<Vec<TruthOfRow>>>()?;
    *reads += ids.len() as u64;
    Some(truths)
}
