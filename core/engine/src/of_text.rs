//! Expressions that read one property of one element and nothing else: if the property's column is
//! dictionary-encoded, they are evaluated once for each distinct text instead of once for each row.

use std::sync::Arc;

use graphodrome_graph::{Column, Dense, Element, PropertyReader, TextCodes};

use crate::answers::NodeAnswers;
use crate::by_table::ByTable;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::row::Row;
use crate::scope::Scope;

/// A property whose values are texts with codes, at least in some tables.
pub(crate) struct TextColumns<'a>(ByTable<Option<TextCodes<'a>>>);

/// Where a text stands: the table, and its code there. The code after the last one is that of null.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) struct TextPlace {
    pub table: usize,
    pub code: u32,
}

impl<'a> TextColumns<'a> {
    /// `None` where no table has texts with codes.
    pub fn of(element: Element, reader: &PropertyReader, scope: &'a Scope) -> Option<TextColumns<'a>> {
        if !scope.known_texts {
            return None;
        }
        let coded = |column: Option<&'a Column>| column.and_then(Column::text_codes);
        let tables = ByTable::of(element, reader, scope, coded);
        let any = tables.columns().any(Option::is_some);
        any.then_some(TextColumns(tables))
    }

    pub fn tables(&self) -> usize {
        self.0.columns().len()
    }

    /// How many places the table has for codes, with that of null.
    pub fn places(&self, table: usize) -> usize {
        self.0.columns().nth(table).copied().flatten().map_or(0, |coded| coded.texts().len() + 1)
    }

    /// `None` where the element has no code: it was changed, or its table has none.
    #[inline]
    pub fn place(&self, id: Dense, scope: &Scope) -> Option<TextPlace> {
        let (table, coded, row) = self.0.find(id, scope)?;
        let coded = coded.filter(|coded| row < coded.len())?;
        Some(TextPlace { table, code: coded.code(row) })
    }
}

/// A condition on one text, with the answers that are known.
pub(crate) struct OfText<'a> {
    condition: &'a Expr,
    columns: TextColumns<'a>,
    /// By the table.
    answers: Vec<Arc<NodeAnswers>>,
}

impl<'a> OfText<'a> {
    /// Where the condition reads nothing but one property of the element in `slot`.
    pub fn of(condition: &'a Expr, slot: usize, scope: &'a Scope) -> Option<OfText<'a>> {
        let only = condition.only_property().filter(|only| only.slot == slot)?;
        let columns = TextColumns::of(only.element, only.reader, scope)?;
        let answers = (0..columns.tables())
            .map(|table| scope.answers.of_texts(condition, table, columns.places(table) as Dense))
            .collect();
        Some(OfText { condition, columns, answers })
    }

    /// Whether `id` passes, which is in the condition's slot of `row`.
    #[inline]
    pub fn holds(&self, id: Dense, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Outcome<bool> {
        let Some(TextPlace { table, code }) = self.columns.place(id, scope) else {
            return holds(self.condition, row, scope, counters);
        };
        counters.properties_read += 1;
        if let Some(passes) = self.answers[table].get(code) {
            return Ok(passes);
        }
        // How often threads ask before an answer is known is not told apart.
        let passes = holds(self.condition, row, scope, &mut Counters::default())?;
        self.answers[table].put(code, passes, &scope.budget);
        Ok(passes)
    }
}
