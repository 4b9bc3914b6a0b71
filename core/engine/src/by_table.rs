//! A property's columns, found by the elements that are in them.

use graphodrome_graph::{Column, Dense, Element, PropertyReader};

use crate::batch::NO_ELEMENT;
use crate::scope::Scope;

/// What is known of each table's column, in the order of the tables' first elements. Empty tables come first of those with
/// one number.
pub(crate) struct ByTable<C> {
    element: Element,
    all_base: bool,
    tables: Vec<(Dense, C)>,
}

impl<C> ByTable<C> {
    pub fn of<'a>(
        element: Element, reader: &PropertyReader, scope: &'a Scope, known: impl Fn(Option<&'a Column>) -> C,
    ) -> ByTable<C> {
        let columns = match element {
            Element::Node => scope.node_columns(reader),
            Element::Edge => scope.edge_columns(reader),
        };
        let tables = columns.into_iter().map(|(first, column)| (first, known(column))).collect();
        ByTable { element, all_base: scope.elements_are_base(element), tables }
    }

    pub fn columns(&self) -> impl ExactSizeIterator<Item = &C> {
        self.tables.iter().map(|(_, column)| column)
    }

    /// The table of an element and its row there; `None` where it was changed, or is in no table.
    #[inline]
    pub fn find(&self, id: Dense, scope: &Scope) -> Option<(usize, &C, usize)> {
        if !self.all_base {
            let is_base = match self.element {
                _ if id == NO_ELEMENT => false,
                Element::Node => scope.node_is_base(id),
                Element::Edge => scope.edge_is_base(id),
            };
            if !is_base {
                return None;
            }
        }
        let table = match &self.tables[..] {
            [_] => 0,
            tables => tables.partition_point(|(first, _)| *first <= id).checked_sub(1)?,
        };
        let (first, column) = &self.tables[table];
        Some((table, column, id.checked_sub(*first)? as usize))
    }
}
