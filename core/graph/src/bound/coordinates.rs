//! Coordinates: where nodes lie, of which every edge is at least as long as the straight line between its ends.

use crate::bound::definition::BoundDefinition;
use crate::bound::landmarks::weight_of;
use crate::error::GoOn;
use crate::keys::ASK_EVERY;
use crate::tables::{EdgeTable, Tables};
use crate::{Dense, GraphError, Value};

/// A straight line counts as so much of itself: what rounding may have added is taken off again.
const PART: f64 = 1.0 - 1e-12;

#[derive(Debug)]
pub(super) struct Coordinates {
    dimensions: usize,
    /// Of each node of the base; NaN where it has none.
    places: Vec<f64>,
}

/// The straight line, rounded down.
pub(super) fn line(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| (a - b) * (a - b)).sum::<f64>().sqrt() * PART
}

pub(super) fn coordinate(value: &Value) -> f64 {
    match value {
        Value::Int(i) => *i as f64,
        Value::Decimal(d) => d.to_f64(),
        Value::Float(f) => *f,
        _ => f64::NAN,
    }
}

impl Coordinates {
    /// Or which edge is shorter than the straight line between its ends.
    pub fn read(
        base: &Tables<'_>, definition: &BoundDefinition, names: &[std::sync::Arc<str>], go_on: GoOn<'_>,
    ) -> Result<Result<Coordinates, String>, GraphError> {
        let dimensions = names.len();
        let mut places = vec![f64::NAN; base.node_count as usize * dimensions];
        for table in base.nodes.iter() {
            for (dimension, name) in names.iter().enumerate() {
                let Some(column) = table.column(name) else { continue };
                for row in 0..table.len {
                    places[(table.first as usize + row) * dimensions + dimension] =
                        coordinate(&column.value(row));
                }
            }
        }
        let coordinates = Coordinates { dimensions, places };
        for table in base.edges.iter().filter(|table| definition.takes(&table.labels)) {
            if let Err(reason) = coordinates.holds(table, definition, go_on)? {
                return Ok(Err(reason));
            }
        }
        Ok(Ok(coordinates))
    }

    fn holds(
        &self, table: &EdgeTable, definition: &BoundDefinition, go_on: GoOn<'_>,
    ) -> Result<Result<(), String>, GraphError> {
        let Some(column) = table.column(&definition.property) else { return Ok(Ok(())) };
        for row in 0..table.len {
            if row.is_multiple_of(ASK_EVERY) {
                go_on()?;
            }
            let weight = match weight_of(table, column, row) {
                Ok(Some(weight)) => weight,
                Ok(None) => continue,
                Err(reason) => return Ok(Err(reason)),
            };
            let (source, target) = table.ends(row);
            let shortest = match (self.of(source), self.of(target)) {
                (Some(source), Some(target)) => line(source, target),
                _ => f64::NAN,
            };
            let id = table.ids.get(row);
            if shortest.is_nan() {
                return Ok(Err(format!("an end of the edge e{id} has no coordinates")));
            }
            if weight < shortest {
                return Ok(Err(format!(
                    "the edge e{id} has {} = {}, and the straight line between its ends is {shortest:.3}",
                    definition.property,
                    column.value(row).excerpt()
                )));
            }
        }
        Ok(Ok(()))
    }

    /// `None` of a node that is newer than the base.
    #[inline]
    pub fn of(&self, node: Dense) -> Option<&[f64]> {
        self.places.get(node as usize * self.dimensions..(node as usize + 1) * self.dimensions)
    }

    pub fn bytes(&self) -> usize {
        size_of::<f64>() * self.places.len()
    }
}
