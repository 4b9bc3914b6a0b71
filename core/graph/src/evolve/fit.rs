//! The columns of a part as the declared properties of its new type want them.

use std::sync::Arc;

use super::Carrier;
use crate::{Column, ColumnBuilder, Element, PropertyType, Value};

impl Carrier<'_> {
    /// Columns as the declared properties want them: those it does not have go, defaults fill, numbers are
    /// spelled as the new type spells them where nothing is lost.
    pub(super) fn fit_columns(
        &mut self, element: Element, columns: &mut Vec<(Arc<str>, Column)>, len: usize,
        declared: Option<&Vec<PropertyType>>, before: Option<(usize, &Vec<PropertyType>)>,
    ) {
        let Some(declared) = declared else { return };
        if let Some((t, _)) = before {
            let (kept, gone): (Vec<_>, Vec<_>) =
                std::mem::take(columns).into_iter().partition(|(n, _)| declared.iter().any(|p| p.name == *n));
            *columns = kept;
            for (name, column) in gone {
                let values = (0..column.len()).filter(|&row| !column.is_null(row)).count() as u64;
                self.changed |= values > 0;
                *self.lost.entry((element, t, Some(name))).or_default() += values;
            }
        }
        for property in declared {
            let known = before.and_then(|(_, all)| all.iter().find(|p| p.name == property.name));
            let place = columns.iter().position(|(n, _)| *n == property.name);
            let fills = property.default.is_some()
                && (property.not_null || (before.is_some() && known.is_none()))
                && len > 0;
            if let Some(place) = place
                && known.is_none_or(|k| k.value_type != property.value_type)
            {
                let column = &columns[place].1;
                let assigned = |row: usize| property.value_type.assign(column.value(row));
                let differs = |row: &usize| {
                    !column.is_null(*row)
                        && std::mem::discriminant(&assigned(*row))
                            != std::mem::discriminant(&column.value(*row))
                };
                if (0..column.len()).any(|row| differs(&row)) {
                    let mut builder = ColumnBuilder::with_capacity(column.len());
                    (0..column.len()).for_each(|row| builder.push(assigned(row)));
                    columns[place].1 = builder.finish();
                    self.changed = true;
                }
            }
            if let (true, Some(default)) = (fills, &property.default) {
                let column = place.map(|place| &columns[place].1);
                if column.is_some_and(|c| (0..c.len()).all(|row| !c.is_null(row))) {
                    continue;
                }
                let value = |row: usize| column.map_or(Value::Null, |c| c.value(row));
                let mut builder = ColumnBuilder::with_capacity(len);
                for row in 0..len {
                    let value = value(row);
                    builder.push(if value.is_null() { default.clone() } else { value });
                }
                let filled = builder.finish();
                match place {
                    Some(place) => columns[place].1 = filled,
                    None => columns.push((property.name.clone(), filled)),
                }
                self.changed = true;
            }
        }
        columns.sort_by(|a, b| a.0.cmp(&b.0));
    }
}
