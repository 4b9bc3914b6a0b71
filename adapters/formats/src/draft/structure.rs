//! Finding the nouns, the verbs and the keys: which tables are nodes, which are edges, which columns
//! refer to which, and what a wide table hides.

use std::collections::{BTreeSet, HashMap};

use super::names::{edge_label, label, name_tokens, property, singular};

use super::column::ColumnProfile;
use super::profile::TableProfile;

/// Rows that must speak for "one column decides another".
pub(super) const LEAST_ROWS: u64 = 30;
/// Columns compared with each other in one table.
pub(super) const MOST_COMPARED: usize = 60;
/// Column names that come in pairs: where an edge begins and where it ends.
const PAIRS: [(&str, &str); 12] = [
    ("from", "to"),
    ("source", "target"),
    ("start", "end"),
    ("parent", "child"),
    ("origin", "destination"),
    ("origin", "dest"),
    ("departure", "arrival"),
    ("dep", "arr"),
    ("src", "dst"),
    ("first", "second"),
    ("sender", "receiver"),
    ("upstream", "downstream"),
];

/// Last words of the names of keys, the surest first; from [`STRONG_NAMES`] on they may be anything.
const KEY_NAMES: [&str; 8] = ["code", "id", "number", "key", "no", "nr", "name", "title"];
const STRONG_NAMES: usize = 6;
/// So many of another table's values must be among those of a column that is its key.
const NAMED_ELSEWHERE: f64 = 0.9;

fn last_token(table: &TableProfile, column: usize) -> String {
    name_tokens(&table.columns[column].name).pop().unwrap_or_default()
}

/// A proposed node type.
#[derive(Debug)]
pub(crate) struct Entity {
    pub label: String,
    pub table: usize,
    /// `None`: every row is a node, and nothing tells two of them apart.
    pub key: Option<usize>,
    /// The key's other columns, where one alone does not name a row.
    pub more_key: Vec<usize>,
    /// Rows that have no value of the key, or one that another has too.
    pub breaches: u64,
    /// What the key's property is called, where not as its column.
    pub key_name: Option<String>,
    pub columns: Vec<usize>,
    /// It stands in another table's rows too, which know only its key.
    pub elsewhere: bool,
    /// Its table turned out to be one of edges.
    pub gone: bool,
    pub notes: Vec<String>,
}

impl Entity {
    /// Of the rows of a table, known by a key of one column.
    pub fn new(
        label: String, table: usize, key: Option<usize>, columns: Vec<usize>, notes: Vec<String>,
    ) -> Self {
        Entity {
            label,
            table,
            key,
            more_key: vec![],
            breaches: 0,
            key_name: None,
            columns,
            elsewhere: false,
            gone: false,
            notes,
        }
    }
}

/// One end of a proposed edge type.
#[derive(Clone, Debug)]
pub(crate) struct End {
    pub entities: Vec<usize>,
    /// One for each column of the entities' key.
    pub columns: Vec<usize>,
}

/// A proposed edge type.
#[derive(Debug)]
pub(crate) struct Relation {
    pub label: String,
    pub table: usize,
    pub from: End,
    pub to: End,
    pub columns: Vec<usize>,
    pub key: Option<usize>,
    pub optional: bool,
    /// The rows make the node they refer to where it is missing.
    pub makes: Option<usize>,
    pub notes: Vec<String>,
}

#[derive(Debug, Default)]
pub(crate) struct Structure {
    pub entities: Vec<Entity>,
    pub relations: Vec<Relation>,
    /// What was noticed and not done.
    pub remarks: Vec<String>,
    /// Texts that repeat and could be nodes: written as comments, to be taken up or not.
    pub alternatives: Vec<Alternative>,
}

/// What a column's values say about the keys they are among.
pub(super) struct Found {
    pub entities: Vec<usize>,
    pub share: f64,
    pub note: String,
}

pub(super) struct Finder<'t> {
    pub tables: &'t [TableProfile],
    pub made: Structure,
}

pub(crate) fn structure(tables: &[TableProfile]) -> Structure {
    let mut finder = Finder { tables, made: Structure::default() };
    finder.keyed_tables();
    finder.borrowed_keys();
    let edge_tables = finder.edge_tables();
    finder.composite_keys(&edge_tables);
    for table in 0..tables.len() {
        if !edge_tables.contains(&table) {
            finder.hidden_entities(table);
        }
    }
    for table in 0..tables.len() {
        if !edge_tables.contains(&table) {
            finder.rows(table);
        }
    }
    let mut made = finder.made;
    // Without those that are gone.
    let mut place = 0;
    let places: Vec<usize> = made
        .entities
        .iter()
        .map(|e| {
            place += !e.gone as usize;
            place.saturating_sub(1)
        })
        .collect();
    made.entities.retain(|e| !e.gone);
    for relation in &mut made.relations {
        for end in [&mut relation.from, &mut relation.to] {
            end.entities.iter_mut().for_each(|e| *e = places[*e]);
        }
        relation.makes = relation.makes.map(|e| places[e]);
    }
    common_keys(tables, &mut made);
    made
}

/// Node types that one column refers to need one name for their keys.
fn common_keys(tables: &[TableProfile], made: &mut Structure) {
    let groups: Vec<Vec<usize>> = made
        .relations
        .iter()
        .flat_map(|r| [&r.from, &r.to])
        .filter(|end| end.entities.len() > 1)
        .map(|end| end.entities.clone())
        .collect();
    for group in groups {
        let names: Vec<String> = group
            .iter()
            .map(|&e| &made.entities[e])
            .map(|e| {
                e.key_name
                    .clone()
                    .or(e.key.map(|k| property(&tables[e.table].columns[k].name)))
                    .unwrap_or_default()
            })
            .collect();
        let general = ["code", "id", "key", "number", "name"];
        let name = general.iter().find(|g| names.iter().any(|n| n == *g)).map_or("code", |g| g).to_string();
        for (&entity, old) in group.iter().zip(&names).filter(|(_, old)| **old != name) {
            let e = &mut made.entities[entity];
            let taken = e.columns.iter().any(|&c| property(&tables[e.table].columns[c].name) == name);
            if !taken {
                e.notes.push(format!(
                    "its key {old} is called {name}, as that of the others which one column refers to"
                ));
                e.key_name = Some(name.clone());
            }
        }
    }
}

impl Finder<'_> {
    pub(super) fn column(&self, table: usize, column: usize) -> &ColumnProfile {
        &self.tables[table].columns[column]
    }

    pub(super) fn key_column(&self, entity: usize) -> Option<&ColumnProfile> {
        let entity = &self.made.entities[entity];
        entity.key.map(|key| self.column(entity.table, key))
    }

    /// The columns of a table that are an entity's key there.
    pub(super) fn own_end(&self, entity: usize) -> Option<End> {
        let own = &self.made.entities[entity];
        let mut columns = vec![own.key?];
        columns.extend(&own.more_key);
        Some(End { entities: vec![entity], columns })
    }

    /// The key's column where it is only one.
    pub(super) fn single_key(&self, entity: usize) -> Option<usize> {
        let own = &self.made.entities[entity];
        own.key.filter(|_| own.more_key.is_empty())
    }

    pub(super) fn entity_of(&self, table: usize) -> Option<usize> {
        let whole = |e: &Entity| {
            let names_rows = !e.more_key.is_empty()
                || e.breaches > 0
                || e.key.is_none_or(|k| self.column(table, k).is_unique());
            !e.gone && e.table == table && names_rows
        };
        self.made.entities.iter().position(whole)
    }

    /// Whether a column's name says that it names things.
    pub(super) fn is_called_a_key(&self, table: usize, column: usize) -> bool {
        KEY_NAMES[..STRONG_NAMES].contains(&last_token(&self.tables[table], column).as_str())
    }

    pub(super) fn free_label(&self, wanted: String, table: usize) -> String {
        if self.made.entities.iter().all(|e| e.gone || e.label != wanted) {
            return wanted;
        }
        format!("{wanted}Of{}", label(&self.tables[table].stem))
    }

    /// Tables with a column that names each of their rows.
    fn keyed_tables(&mut self) {
        for (place, table) in self.tables.iter().enumerate() {
            let unique: Vec<usize> = (0..table.columns.len())
                .filter(|&c| table.columns[c].is_unique() && table.columns[c].can_identify())
                .collect();
            let rank = |c: &usize| {
                let known =
                    KEY_NAMES.iter().position(|n| *n == last_token(table, *c)).unwrap_or(KEY_NAMES.len());
                // What other tables have under its name says more than a name that may be anything.
                let kind = match known < STRONG_NAMES {
                    true => 0,
                    false => 2 - self.is_named_elsewhere(place, *c) as usize,
                };
                (kind, known, *c)
            };
            let declared = table.declared.as_ref().map(|d| &d.primary_key).filter(|key| !key.is_empty());
            let primary = match declared.map(Vec::as_slice) {
                Some([one]) => table.place_of(one),
                // Of several columns: looked at once the other tables' keys are known.
                Some(_) => continue,
                None => None,
            };
            let best = unique.iter().copied().min_by_key(rank);
            let Some(key) = primary.or_else(|| self.nearly_key(place, best)).or(best) else { continue };
            let column = &table.columns[key];
            let (name, breaches) = (&column.name, column.breaches());
            let why = match (primary, breaches) {
                (Some(_), _) => "its primary key".to_string(),
                (None, 0) => "unique and never empty".to_string(),
                (None, n) => format!(
                    "its key but for {n}, which {} or one that another row has: a load rejects them",
                    if n == 1 { "has no value" } else { "have no value" }
                ),
            };
            let mut notes = vec![format!("{}: {} rows; {name} is {why}", table.short(), table.rows)];
            if primary.is_none() && breaches > 0 {
                let of = table.rows;
                self.made.remarks.push(format!(
                    "{}: {breaches} of {of} rows have no {name}, or one that another row has; {name} is taken for the key all the same, and a load rejects what breaks it",
                    table.short()
                ));
            }
            let others: Vec<&str> =
                unique.iter().filter(|c| **c != key).map(|c| table.columns[*c].name.as_str()).collect();
            if !others.is_empty() {
                notes.push(format!("could be the key as well: {}", others.join(", ")));
            }
            let label = self.free_label(label(&table.stem), place);
            let columns = (0..table.columns.len()).filter(|c| *c != key).collect();
            let breaches = if primary.is_none() { breaches } else { 0 };
            let entity = Entity::new(label, place, Some(key), columns, notes);
            self.made.entities.push(Entity { breaches, ..entity });
        }
    }

    /// A column that names every row of a table but a few, and says by its name, or by what other tables have under that name,
    /// that it is the key; `best` is the one that names them all.
    fn nearly_key(&self, place: usize, best: Option<usize>) -> Option<usize> {
        let table = &self.tables[place];
        let by_name = |c: usize| self.is_called_a_key(place, c);
        if best.is_some_and(|best| by_name(best) || self.is_named_elsewhere(place, best)) {
            return None;
        }
        (0..table.columns.len())
            .filter(|&c| !table.columns[c].is_unique() && table.columns[c].names_nearly_all())
            .filter(|&c| self.is_named_elsewhere(place, c) || (best.is_none() && by_name(c)))
            .min_by_key(|&c| (!by_name(c), table.columns[c].breaches(), c))
    }

    /// Whether another table has a column of this name that repeats values, most of which are this one's.
    fn is_named_elsewhere(&self, place: usize, column: usize) -> bool {
        let own = self.column(place, column);
        let others = self.tables.iter().enumerate().filter(|(other, _)| *other != place);
        others.flat_map(|(_, table)| &table.columns).any(|other| {
            let known = other.values.iter().filter(|value| own.values.contains(*value)).count() as f64;
            other.name.eq_ignore_ascii_case(&own.name)
                && other.kind == own.kind
                && other.filled() > other.distinct()
                && known >= NAMED_ELSEWHERE * other.distinct() as f64
        })
    }

    /// Tables whose only key is another table's: where they refer to a third as well, they connect the two.
    fn borrowed_keys(&mut self) {
        for table in 0..self.tables.len() {
            let Some(own) = self.entity_of(table) else { continue };
            let Some(key) = self.single_key(own) else { continue };
            let others = (0..self.tables[table].columns.len()).filter(|&c| c != key);
            if self.refers(table, key, Some(own)).is_some()
                && others.filter(|&c| self.refers(table, c, Some(own)).is_some()).count() == 1
            {
                self.made.entities[own].gone = true;
            }
        }
    }

    /// Tables whose rows are edges: a column for where each begins and one for where it ends.
    fn edge_tables(&mut self) -> BTreeSet<usize> {
        let mut found = BTreeSet::new();
        for table in 0..self.tables.len() {
            let own = self.entity_of(table);
            let ends = pairs(&self.tables[table]).into_iter().find_map(|(from, to)| {
                let start = self.refers_as(table, from, own, true)?;
                Some(((from, start), (to, self.refers_as(table, to, own, true)?)))
            });
            let Some((from, to)) = ends else { continue };
            let key = own.and_then(|e| self.made.entities[e].key);
            if let Some(own) = own {
                self.made.entities[own].gone = true;
            }
            self.edge_table(table, from, to, key);
            found.insert(table);
        }
        found
    }

    fn edge_table(&mut self, table: usize, from: (usize, Found), to: (usize, Found), key: Option<usize>) {
        let profile = &self.tables[table];
        let columns = (0..profile.columns.len()).filter(|c| *c != from.0 && *c != to.0).collect();
        let mut notes =
            vec![format!("{}: {} rows, each from one node to another", profile.short(), profile.rows)];
        let others: Vec<usize> = (0..profile.columns.len())
            .filter(|&c| c != from.0 && c != to.0 && Some(c) != key && self.refers(table, c, None).is_some())
            .collect();
        notes.extend(self.third_note(table, &others));
        notes.extend([from.1.note, to.1.note]);
        self.made.relations.push(Relation {
            label: edge_label(&singular(&profile.stem)),
            table,
            from: End { entities: from.1.entities, columns: vec![from.0] },
            to: End { entities: to.1.entities, columns: vec![to.0] },
            columns,
            key,
            optional: false,
            makes: None,
            notes,
        });
    }

    /// What is said of columns of an edge that refer to nodes beside its ends.
    fn third_note(&self, table: usize, columns: &[usize]) -> Option<String> {
        let names: Vec<&str> = columns.iter().map(|&c| self.column(table, c).name.as_str()).collect();
        (!names.is_empty()).then(|| {
            let names = names.join(", ");
            format!(
                "refers to a third, kept as a property: {names}; make the rows a node type if that matters"
            )
        })
    }

    /// The references of the rows of a table.
    fn rows(&mut self, table: usize) {
        let profile = &self.tables[table];
        let hidden: Vec<usize> = (self.made.entities.iter())
            .filter(|e| !e.gone && e.table == table && e.more_key.is_empty())
            .filter_map(|e| e.key)
            .collect();
        let mut references = self.composite_references(table);
        let composite: Vec<usize> = references.iter().flat_map(|(columns, _)| columns.clone()).collect();
        references.extend(
            (0..profile.columns.len())
                .filter(|c| !hidden.contains(c) && !composite.contains(c))
                .filter_map(|c| self.refers(table, c, None).map(|found| (vec![c], found))),
        );
        let top = self.made.entities.iter().position(|e| e.table == table && !e.gone);
        match top {
            Some(top) => self.row_entity(table, top, references),
            None => self.row_relation(table, references),
        }
    }

    /// Rows that are about an entity: each reference is an edge from it.
    fn row_entity(&mut self, table: usize, top: usize, references: Vec<(Vec<usize>, Found)>) {
        let profile = &self.tables[table];
        let composite = !self.made.entities[top].more_key.is_empty();
        let nearly = self.made.entities[top].breaches > 0;
        let unique = composite || nearly || self.key_column(top).is_some_and(ColumnProfile::is_unique);
        let Some(from) = self.own_end(top) else { return };
        // With rows that repeat the entity, what is left says something of the row's edge.
        let mut rest: Vec<usize> = vec![];
        if !unique {
            let taken: Vec<usize> = self
                .made
                .entities
                .iter()
                .filter(|e| e.table == table)
                .flat_map(|e| e.columns.iter().copied().chain(e.key))
                .chain(references.iter().flat_map(|r| r.0.clone()))
                .collect();
            rest = (0..profile.columns.len()).filter(|c| !taken.contains(c)).collect();
        }
        for (columns, found) in references {
            self.made.entities[top].columns.retain(|c| !columns.contains(c));
            let own = &profile.columns[columns[0]];
            let nullable = columns.iter().any(|&c| profile.columns[c].nulls > 0);
            let target = found.entities[0];
            // A node type that was found inside another table may be missing there.
            let nearly = self.made.entities[target].breaches > 0;
            let hidden = !nearly && self.key_column(target).is_some_and(|k| !k.is_unique());
            let makes = (hidden && found.share < 1.0).then_some(target);
            let mut notes = vec![found.note];
            if let Some(target) = makes {
                self.made.entities[target].elsewhere = true;
                notes.push("the rows make the ones that are missing".into());
            } else if found.share < 1.0 {
                notes.push("the rows whose value is not among them will be rejects".into());
            }
            self.made.relations.push(Relation {
                label: edge_label(&own.name),
                table,
                from: from.clone(),
                to: End { entities: found.entities, columns },
                columns: std::mem::take(&mut rest),
                key: None,
                optional: nullable,
                makes,
                notes,
            });
        }
        if !rest.is_empty() {
            let names: Vec<&str> = rest.iter().map(|&c| profile.columns[c].name.as_str()).collect();
            self.made.remarks.push(format!(
                "{}: nothing takes the columns {}",
                profile.short(),
                names.join(", ")
            ));
        }
    }

    /// Rows without an entity of their own: an edge between what two columns refer to, or a node a row.
    fn row_relation(&mut self, table: usize, mut references: Vec<(Vec<usize>, Found)>) {
        let profile = &self.tables[table];
        if references.len() >= 2 {
            // Two columns that refer to one node type say more of a row than two that refer to different ones.
            let alike = references.iter().enumerate().find_map(|(place, (_, first))| {
                let second =
                    references[place + 1..].iter().position(|(_, r)| r.entities == first.entities)?;
                Some((place, place + 1 + second))
            });
            if let Some((first, second)) = alike {
                references.swap(0, first);
                references.swap(1, second);
            }
            let others: Vec<usize> =
                references[2..].iter().flat_map(|(columns, _)| columns.clone()).collect();
            let mut notes =
                vec![format!("{}: a row names two nodes and has no key of its own", profile.short())];
            notes.extend(self.third_note(table, &others));
            if references[0].1.entities == references[1].1.entities {
                notes.push("both ends are of one kind: if the direction means nothing, write it with ~ here and undirected = true in the mapping".into());
            }
            let (to, end) = references.remove(1);
            let (from, start) = references.remove(0);
            notes.extend([start.note, end.note]);
            self.made.relations.push(Relation {
                label: edge_label(&profile.stem),
                table,
                columns: (0..profile.columns.len())
                    .filter(|c| !from.contains(c) && !to.contains(c))
                    .collect(),
                key: None,
                optional: from.iter().chain(&to).any(|&c| profile.columns[c].nulls > 0),
                from: End { entities: start.entities, columns: from },
                to: End { entities: end.entities, columns: to },
                makes: None,
                notes,
            });
            return;
        }
        let mut notes = vec![format!(
            "{}: {} rows and no column that names them: each row becomes a node, and loading it twice makes each twice",
            profile.short(),
            profile.rows
        )];
        if let Some((_, found)) = references.first() {
            notes.push(format!("{}; an edge needs a key on this side first", found.note));
        }
        let label = self.free_label(label(&profile.stem), table);
        let columns = (0..profile.columns.len()).collect();
        self.made.entities.push(Entity::new(label, table, None, columns, notes));
    }
}

/// Whether each value of `x` comes with one value of `y` only, in the sample, and no row has a value of `y`
/// without one of `x`: such a row would lose it. A value that is the same in all rows is decided by nothing.
pub(super) fn decides(profile: &TableProfile, x: usize, y: usize) -> bool {
    if profile.columns[y].filled() > profile.columns[x].filled() || profile.columns[y].distinct() < 2 {
        return false;
    }
    let mut seen: HashMap<u32, u32> = HashMap::new();
    let mut pairs = profile.sample[x].iter().zip(&profile.sample[y]);
    pairs.all(|(a, b)| match *a {
        0 => *b == 0,
        a => *seen.entry(a).or_insert(*b) == *b,
    })
}

/// Pairs of columns whose names say where an edge begins and where it ends. Those whose names differ in nothing but that
/// come first: `start_station` and `end_station` before `start_time` and `end_station`.
fn pairs(profile: &TableProfile) -> Vec<(usize, usize)> {
    let tokens: Vec<Vec<String>> = profile.columns.iter().map(|c| name_tokens(&c.name)).collect();
    let with = |word: &str| -> Vec<usize> {
        (0..tokens.len()).filter(|&c| tokens[c].iter().any(|t| t == word)).collect()
    };
    let without = |column: usize, word: &str| -> Vec<&String> {
        tokens[column].iter().filter(|t| *t != word).collect()
    };
    let mut found = vec![];
    for (first, second) in PAIRS {
        let ends = with(second);
        for from in with(first) {
            found.extend(ends.iter().filter(|&&to| to != from).map(|&to| {
                let alike = without(from, first) == without(to, second);
                (!alike, from, to)
            }));
        }
    }
    found.sort_by_key(|(unlike, ..)| *unlike);
    found.into_iter().map(|(_, from, to)| (from, to)).collect()
}

/// A column of an entity whose texts could be nodes of their own.
#[derive(Debug)]
pub(crate) struct Alternative {
    pub entity: usize,
    pub column: usize,
    pub label: String,
    /// How many different texts in how many rows.
    pub evidence: String,
}
