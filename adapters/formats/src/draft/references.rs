//! Finding which columns refer to which tables' keys, and keys of several columns.

use std::collections::BTreeSet;

use super::column::SeenKind;
use super::names::{label, name_tokens, singular};
use super::structure::{Entity, Finder, Found, LEAST_ROWS, MOST_COMPARED};

/// A reference should find this share of its values.
const SURE_SHARE: f64 = 0.95;
/// With a name that says so, this share will do.
const NAMED_SHARE: f64 = 0.5;
/// Names of columns that say nothing of what they name.
const GENERAL: [&str; 9] = ["id", "code", "no", "nr", "number", "key", "name", "title", "type"];

fn percent(share: f64) -> String {
    if share == 1.0 { "all".into() } else { format!("{:.1} % of", share * 100.0) }
}

impl Finder<'_> {
    /// Tables whose rows only several columns together name.
    pub(super) fn composite_keys(&mut self, edge_tables: &BTreeSet<usize>) {
        for (place, table) in self.tables.iter().enumerate() {
            if edge_tables.contains(&place) || self.entity_of(place).is_some() {
                continue;
            }
            let declared = table.declared.as_ref().filter(|d| d.primary_key.len() > 1);
            let columns: Option<Vec<usize>> = match declared {
                Some(d) => d.primary_key.iter().map(|c| table.place_of(c)).collect(),
                None => self.pair_that_names(place),
            };
            let Some(columns) = columns else { continue };
            // Where each of them refers to another table, the rows connect those.
            if columns.iter().all(|&c| self.refers(place, c, None).is_some()) {
                continue;
            }
            let names: Vec<&str> = columns.iter().map(|&c| table.columns[c].name.as_str()).collect();
            let why = match declared {
                Some(_) => "are its primary key".to_string(),
                None if table.sampled => format!(
                    "together are different in each row of a sample of {}; none is alone",
                    table.sample[0].len()
                ),
                None => "together are different in each row; none is alone".into(),
            };
            let notes =
                vec![format!("{}: {} rows; {} {why}", table.short(), table.rows, names.join(" and "))];
            let label = self.free_label(label(&table.stem), place);
            self.made.entities.push(Entity {
                label,
                table: place,
                key: Some(columns[0]),
                breaches: 0,
                more_key: columns[1..].to_vec(),
                columns: (0..table.columns.len()).filter(|c| !columns.contains(c)).collect(),
                elsewhere: false,
                gone: false,
                key_name: None,
                notes,
            });
        }
    }

    /// Two columns that together differ in every row, one of them called a number or a code.
    fn pair_that_names(&self, table: usize) -> Option<Vec<usize>> {
        let profile = &self.tables[table];
        if profile.rows < LEAST_ROWS {
            return None;
        }
        let can: Vec<usize> = (0..profile.columns.len())
            .filter(|&c| {
                let column = &profile.columns[c];
                column.can_identify() && column.nulls == 0 && column.distinct() > 1
            })
            .take(MOST_COMPARED)
            .collect();
        let counts = |c: usize| {
            let tokens = name_tokens(&profile.columns[c].name);
            tokens.last().is_some_and(|last| {
                ["no", "nr", "number", "id", "code", "line", "seq", "sequence", "position", "index", "item"]
                    .contains(&last.as_str())
            })
        };
        let pairs = can.iter().enumerate().flat_map(|(i, &a)| can[i + 1..].iter().map(move |&b| (a, b)));
        let enough = |(a, b): &(usize, usize)| {
            let product = profile.columns[*a].distinct().saturating_mul(profile.columns[*b].distinct());
            (counts(*a) || counts(*b)) && product >= profile.rows
        };
        pairs.filter(enough).find(|&(a, b)| profile.differs_by(&[a, b])).map(|(a, b)| vec![a, b])
    }

    /// References of several columns: declared, or by the names of another table's key columns.
    pub(super) fn composite_references(&self, table: usize) -> Vec<(Vec<usize>, Found)> {
        let profile = &self.tables[table];
        let mut found = vec![];
        for (place, entity) in self.made.entities.iter().enumerate() {
            if entity.gone || entity.more_key.is_empty() || entity.table == table {
                continue;
            }
            let Some(key) = self.own_end(place).map(|end| end.columns) else { continue };
            let other = &self.tables[entity.table];
            let names: Vec<&str> = key.iter().map(|&c| other.columns[c].name.as_str()).collect();
            let declared = profile.declared.iter().flat_map(|d| &d.references).find_map(|r| {
                let order = names.iter().map(|n| r.to.iter().position(|to| to == n));
                let order: Option<Vec<usize>> = order.collect();
                let places = order?.into_iter().map(|i| r.columns.get(i).and_then(|c| profile.place_of(c)));
                (r.file == other.file).then(|| places.collect::<Option<Vec<usize>>>())?
            });
            let by_name = || -> Option<Vec<usize>> {
                let same =
                    |name: &&str| profile.columns.iter().position(|c| c.name.eq_ignore_ascii_case(name));
                let places: Vec<usize> = names.iter().map(same).collect::<Option<_>>()?;
                let within = |(&own, &of): (&usize, &usize)| {
                    let (own, of) = (&profile.columns[own], &other.columns[of]);
                    let hits = own.values.iter().filter(|v| of.values.contains(*v)).count();
                    own.kind == of.kind && hits as f64 >= SURE_SHARE * own.distinct() as f64 && hits > 0
                };
                places.iter().zip(&key).all(within).then_some(places)
            };
            let (columns, why) = match declared {
                Some(columns) => (columns, "declared foreign key"),
                None => match by_name() {
                    Some(columns) => (
                        columns,
                        "called the same, and each column's values are there; the pairs were not compared",
                    ),
                    None => continue,
                },
            };
            let note = format!(
                "{} refer to {} of {}: {why}",
                names.join(" and "),
                names.join(" and "),
                other.short()
            );
            found.push((columns, Found { entities: vec![place], share: 1.0, note }));
        }
        found
    }

    fn declared_reference(&self, table: usize, column: usize, except: Option<usize>) -> Option<Found> {
        let own = self.column(table, column);
        let declared = self.tables[table].declared.as_ref()?;
        let reference =
            declared.references.iter().find(|r| r.columns.len() == 1 && r.columns[0] == own.name)?;
        let place = self.made.entities.iter().enumerate().position(|(place, e)| {
            let of_file = self.tables[e.table].file == reference.file && Some(place) != except;
            let key = self.single_key(place).map(|k| &self.column(e.table, k).name);
            of_file && !e.gone && key == reference.to.first()
        })?;
        let key = self.key_column(place)?;
        let hits = own.values.iter().filter(|v| key.values.contains(*v)).count();
        let share = if own.distinct() == 0 { 1.0 } else { hits as f64 / own.distinct() as f64 };
        let file = self.tables[self.made.entities[place].table].short();
        let note = format!("{} refers to {} of {file}: declared foreign key", own.name, key.name);
        Some(Found { entities: vec![place], share, note })
    }

    /// Which entities' keys the values of a column are.
    pub(super) fn refers(&self, table: usize, column: usize, except: Option<usize>) -> Option<Found> {
        self.refers_as(table, column, except, false)
    }

    /// With `paired` the column's name says that it is where an edge begins or ends.
    pub(super) fn refers_as(
        &self, table: usize, column: usize, except: Option<usize>, paired: bool,
    ) -> Option<Found> {
        let own = self.column(table, column);
        if let Some(found) = self.declared_reference(table, column, except) {
            return Some(found);
        }
        if !own.can_identify() || own.distinct() == 0 || own.capped {
            return None;
        }
        let tokens = name_tokens(&own.name);
        let mut shares: Vec<(usize, f64, bool)> = vec![];
        for (place, entity) in self.made.entities.iter().enumerate() {
            let Some(key) = self.key_column(place) else { continue };
            let itself = entity.table == table && entity.key == Some(column);
            let composite = !entity.more_key.is_empty();
            if itself || composite || entity.gone || Some(place) == except || key.kind != own.kind {
                continue;
            }
            let hits = own.values.iter().filter(|v| key.values.contains(*v)).count();
            let share = hits as f64 / own.distinct() as f64;
            let mut known = name_tokens(&entity.label);
            known.extend(name_tokens(&singular(&self.tables[entity.table].stem)));
            // In its own table a word of the table's name says nothing; `parent_id` beside `id` does.
            let key_tokens = name_tokens(&key.name);
            let named = match entity.table == table {
                true => tokens.len() > 1 && tokens.last() == key_tokens.last(),
                false => {
                    // Called as the key is: `tailnum` in flights and planes; `id` and `name` are in every table.
                    let alike = !GENERAL.contains(&own.name.to_lowercase().as_str());
                    (alike && own.name.eq_ignore_ascii_case(&key.name))
                        || tokens.iter().any(|t| known.contains(&singular(t)))
                }
            };
            if hits > 0 {
                shares.push((place, share, named));
            }
        }
        let entity_named = |place: usize| {
            let entity = &self.made.entities[place];
            (entity, self.tables[entity.table].short(), self.key_column(place).map_or("", |k| &k.name))
        };
        // Numbers from 1 up are in every table: there a name must say what they mean.
        let believed = |(_, share, named): &&(usize, f64, bool)| {
            let sure = (own.kind == SeenKind::Text || paired) && own.distinct() >= 2 && *share >= SURE_SHARE;
            let enough = if own.kind == SeenKind::Text { NAMED_SHARE } else { SURE_SHARE };
            sure || (*named && *share >= enough)
        };
        let best = shares
            .iter()
            .filter(believed)
            // Of several that hold as many of the values, the one with the fewest others.
            .max_by(|a, b| {
                let others =
                    |place: usize| std::cmp::Reverse(self.key_column(place).map_or(0, |k| k.distinct()));
                let by_share = (a.1, a.2).partial_cmp(&(b.1, b.2)).unwrap_or(std::cmp::Ordering::Equal);
                by_share.then(others(a.0).cmp(&others(b.0)))
            });
        let together: f64 = if own.kind == SeenKind::Text { shares.iter().map(|s| s.1).sum() } else { 0.0 };
        // One table's keys, unless others' hold just the rest.
        let rest_elsewhere = best.is_some_and(|b| b.1 < 1.0) && (1.0 - 1e-9..=1.0 + 1e-9).contains(&together);
        if let Some(&(place, share, named)) = best.filter(|_| !rest_elsewhere) {
            let (_, file, key) = entity_named(place);
            let name = if named { ", and the name fits" } else { "" };
            let note = format!("{} {} are among {key} of {file}{name}", percent(share), own.name);
            return Some(Found { entities: vec![place], share, note });
        }
        // Several tables' keys together.
        if own.kind != SeenKind::Text || own.distinct() < 3 {
            return None;
        }
        shares.sort_by(|a, b| b.1.total_cmp(&a.1));
        if shares.len() >= 2 && (SURE_SHARE..=1.0 + 1e-9).contains(&together) {
            shares.truncate(4);
            let parts: Vec<String> = shares
                .iter()
                .map(|(place, share, _)| {
                    format!(
                        "{:.1} % among {} of {}",
                        share * 100.0,
                        entity_named(*place).2,
                        entity_named(*place).1
                    )
                })
                .collect();
            let entities = shares.iter().map(|s| s.0).collect();
            return Some(Found {
                entities,
                share: together.min(1.0),
                note: format!("{}: {}", own.name, parts.join(", ")),
            });
        }
        None
    }
}
