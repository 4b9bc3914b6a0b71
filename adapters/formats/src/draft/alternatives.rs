//! Alternatives to a draft's choices, as comments for the reader.

use std::collections::BTreeSet;

use super::column::SeenKind;
use super::names::label;
use super::profile::TableProfile;
use super::structure::{Alternative, LEAST_ROWS, Structure};

/// Texts that repeat: they could be nodes, or labels.
pub(super) fn repeated_texts(tables: &[TableProfile], made: &mut Structure) {
    let mut labels: BTreeSet<String> = made.entities.iter().map(|e| e.label.clone()).collect();
    for (place, entity) in made.entities.iter().enumerate() {
        let profile = &tables[entity.table];
        for &c in &entity.columns {
            let column = &profile.columns[c];
            if column.kind == SeenKind::Text
                && (3..=200).contains(&column.distinct())
                && column.filled() >= 5 * column.distinct()
                && profile.rows >= LEAST_ROWS
            {
                let evidence = format!(
                    "{} has {} different texts in {} rows ({}, ...)",
                    column.name,
                    column.distinct(),
                    profile.rows,
                    column.examples.join(", ")
                );
                made.remarks.push(format!(
                    "{}: {evidence}: it could be a node type of its own, as the comment beside {} has it, or a label (label_from)",
                    profile.short(),
                    entity.label
                ));
                // The edge goes from the entity, which needs a key for that.
                if entity.key.is_some() {
                    let own = label(&column.name);
                    let label = if labels.contains(&own) { format!("{own}Of{}", entity.label) } else { own };
                    labels.insert(label.clone());
                    made.alternatives.push(Alternative { entity: place, column: c, label, evidence });
                }
            }
        }
    }
}
