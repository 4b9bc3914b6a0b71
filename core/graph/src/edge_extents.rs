//! Least and greatest numbers of a property over the edges of a snapshot.

use crate::{Dense, EdgeTable, EdgeTest, Extent, PropertyReader, Snapshot};

impl EdgeTable {
    fn extent_of(&self, column: usize) -> Option<Extent> {
        let find = || Extent::of_column(&self.columns[column].1);
        match self.extents.0.get(column) {
            Some(known) => *known.get_or_init(find),
            None => find(),
        }
    }
}

impl Snapshot {
    /// Where the numbers of a property lie over the edges that the test may let pass, or wider; `None` where some value
    /// is neither a number nor null.
    pub fn extent_of_edges(&self, reader: &PropertyReader, test: &EdgeTest) -> Option<Extent> {
        let of_table = |table: &usize| match reader.place(*table) {
            Some(column) => self.base.edges[*table].extent_of(column),
            None if self.base.edges[*table].len == 0 => Some(Extent::NONE),
            None => Some(Extent { nulls: true, ..Extent::NONE }),
        };
        let base = test.tables.iter().map(of_table);
        let changed = self.overlay_edge_numbers();
        let passes =
            |edge: &Dense| test.expression.as_ref().is_none_or(|e| e.matches(&self.edge_labels(*edge)));
        let above = changed
            .iter()
            .filter(|edge| passes(edge))
            .map(|edge| Extent::of_value(&self.read_edge(*edge, reader)));
        base.chain(above).try_fold(Extent::NONE, |extent, more| Some(extent.and(more?)))
    }
}
