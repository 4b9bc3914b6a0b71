//! Entities hidden in a wide table: columns that decide others.

use std::cmp::Reverse;
use std::collections::HashMap;

use super::column::SeenKind;
use super::names::{edge_label, label};
use super::profile::TableProfile;
use super::structure::{End, Entity, Finder, LEAST_ROWS, MOST_COMPARED, Relation, decides};

/// Whether a column has few values for its rows, so that it may decide others; each value `at_least` so often.
fn may_decide(profile: &TableProfile, x: usize, at_least: f64) -> bool {
    let column = &profile.columns[x];
    column.can_identify()
        && column.distinct() >= 3
        && column.filled() as f64 >= at_least * column.distinct() as f64
}

/// Whether a column that decides another seems to own it: by its name, or as it has more values.
fn may_own(profile: &TableProfile, x: usize, y: usize) -> bool {
    let (a, b) = (&profile.columns[x], &profile.columns[y]);
    b.name.to_lowercase().starts_with(&format!("{}_", a.name.to_lowercase()))
        || (a.distinct() >= 8 && a.filled() >= 5 * a.distinct() && a.distinct() > b.distinct())
}

impl Finder<'_> {
    pub(super) fn hidden_entities(&mut self, table: usize) {
        let profile = &self.tables[table];
        let own = self.entity_of(table);
        let own_key = own.and_then(|e| self.single_key(e));
        let free: Vec<usize> = (0..profile.columns.len())
            .filter(|&c| Some(c) != own_key && self.refers(table, c, None).is_none())
            .take(MOST_COMPARED)
            .collect();
        if profile.rows < LEAST_ROWS {
            return;
        }
        let Some(top) = own.or_else(|| self.by_what_decides_most(table, &free)) else { return };
        let top_key = self.single_key(top);
        // Of several columns that decide one, the one with the fewest values is the nearest.
        let mut owners: HashMap<usize, Vec<usize>> = HashMap::new();
        for &y in &free {
            if Some(y) == top_key || profile.columns[y].distinct() < 2 {
                continue;
            }
            let owner = (free.iter().copied())
                .filter(|&x| x != y && Some(x) != top_key && may_decide(profile, x, 3.0))
                .filter(|&x| decides(profile, x, y) && may_own(profile, x, y))
                .min_by_key(|&x| (profile.columns[x].distinct(), x));
            if let Some(x) = owner {
                owners.entry(x).or_default().push(y);
            }
        }
        let mut owners: Vec<(usize, Vec<usize>)> = owners.into_iter().collect();
        owners.sort();
        for (x, owned) in owners {
            self.hidden_entity(table, top, x, owned);
        }
    }

    /// For a table without a key of its own: what most columns hang on is what the rows are about. Where the rows refer to two
    /// other nodes or more they connect those, unless a column decides one of the references or is called a key; a number that
    /// is not called one is a measure, unless half of the columns hang on it.
    fn by_what_decides_most(&mut self, table: usize, free: &[usize]) -> Option<usize> {
        let profile = &self.tables[table];
        let owned = |x: usize| free.iter().copied().filter(move |&y| y != x && decides(profile, x, y));
        let references: Vec<usize> =
            (0..profile.columns.len()).filter(|&c| self.refers(table, c, None).is_some()).collect();
        let is_about = |x: usize| {
            if self.is_called_a_key(table, x) {
                return true;
            }
            let decided = (0..profile.columns.len()).filter(|&y| y != x && decides(profile, x, y)).count();
            let connects = references.len() < 2 || references.iter().any(|&r| decides(profile, x, r));
            let measure = profile.columns[x].kind == SeenKind::Whole && 2 * decided < profile.columns.len();
            connects && !measure
        };
        let (count, Reverse(x)) = (free.iter().copied())
            .filter(|&x| profile.columns[x].nulls == 0 && may_decide(profile, x, 1.0))
            .filter(|&x| profile.rows - profile.columns[x].distinct() >= 5 && is_about(x))
            .map(|x| (owned(x).count(), Reverse(x)))
            .max()
            .filter(|(count, _)| *count >= 1)?;
        let column = &profile.columns[x];
        let notes = vec![format!(
            "{}: {} rows with {} different {}, which decides {count} other columns",
            profile.short(),
            profile.rows,
            column.distinct(),
            column.name
        )];
        let columns = owned(x).collect();
        let top = self.made.entities.len();
        let label = self.free_label(label(&column.name), table);
        self.made.entities.push(Entity::new(label, table, Some(x), columns, notes));
        Some(top)
    }

    /// The entity that a column names and others describe, referred to by what the rows are about.
    fn hidden_entity(&mut self, table: usize, top: usize, x: usize, owned: Vec<usize>) {
        let profile = &self.tables[table];
        let column = &profile.columns[x];
        let names: Vec<&str> = owned.iter().map(|&y| profile.columns[y].name.as_str()).collect();
        let mut notes = vec![format!(
            "hidden in {}: {} different {} in {} rows, each always with the same {}",
            profile.short(),
            column.distinct(),
            column.name,
            profile.rows,
            names.join(", ")
        )];
        if profile.sampled {
            notes.push(format!("seen in a sample of {} rows", profile.sample[0].len()));
        }
        let entity = self.made.entities.len();
        let label = self.free_label(label(&column.name), table);
        self.made.entities[top].columns.retain(|c| *c != x && !owned.contains(c));
        self.made.entities.push(Entity::new(label, table, Some(x), owned, notes));
        let Some(from) = self.own_end(top) else { return };
        self.made.relations.push(Relation {
            label: edge_label(&column.name),
            table,
            from,
            to: End { entities: vec![entity], columns: vec![x] },
            columns: vec![],
            key: None,
            optional: column.nulls > 0,
            makes: None,
            notes: vec![format!("each row of {} names both", profile.short())],
        });
    }
}
