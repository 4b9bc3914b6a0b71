//! Maps key values to nodes: existing ones and those created by the load.

use std::ops::Range;

use graphodrome_graph::{Column, Dense, Element, LabelExpression, Snapshot, Value, WholeNumbers, hash_key};
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};

use crate::load::plan::{KeySpace, TablePlan};
use crate::load::rows::TableRead;

/// A new node: where its row is.
#[derive(Clone, Copy, Debug)]
pub(crate) struct NewNode {
    pub table: u32,
    pub rule: u32,
    pub chunk: u32,
    pub row: u32,
    /// Place in [`crate::load::resolved::Resolved::label_sets`].
    pub labels: u32,
}

/// Values to nodes for one key space.
pub(crate) struct Index {
    pub space: KeySpace,
    state: DefaultHashBuilder,
    /// (hash, node): the values are compared where they lie.
    table: HashTable<(u64, Dense)>,
    /// Ids lie nowhere: rows that are one node have several.
    ids: HashTable<(Value, Dense)>,
    /// One whole number is the whole key: looked up without hashing rows.
    whole: Option<Whole>,
    /// A declared key of the graph there already: its number, and for each of its properties the place
    /// among the space's.
    declared: Option<(usize, Vec<usize>)>,
}

/// Nodes by a whole number: a plain list where the numbers lie close together, as made-up ids do.
struct Whole {
    least: i64,
    nodes: Vec<Dense>,
    others: HashMap<i64, Dense>,
}

const NO_NODE: Dense = Dense::MAX;

impl Whole {
    /// For rows whose only key column this is, in all rules of the space; `None` where it is no INT64.
    fn new(columns: &[&Column]) -> Option<Whole> {
        let (mut least, mut greatest, mut rows) = (i64::MAX, i64::MIN, 0u64);
        for column in columns {
            let Column::Int(values) = column else { return None };
            rows += values.len() as u64;
            values.for_each(|value| {
                least = least.min(value);
                greatest = greatest.max(value);
            });
        }
        let span = greatest.checked_sub(least).and_then(|s| u64::try_from(s).ok());
        Some(match span {
            Some(span) if span < 4 * rows + 1024 => {
                Whole { least, nodes: vec![NO_NODE; span as usize + 1], others: HashMap::new() }
            }
            _ => Whole { least: 0, nodes: vec![], others: HashMap::with_capacity(rows as usize) },
        })
    }

    fn place(&self, value: i64) -> Option<usize> {
        let place = value.checked_sub(self.least).and_then(|p| usize::try_from(p).ok())?;
        (place < self.nodes.len()).then_some(place)
    }

    fn get(&self, value: i64) -> Option<Dense> {
        match self.place(value) {
            Some(place) => Some(self.nodes[place]).filter(|n| *n != NO_NODE),
            None => self.others.get(&value).copied(),
        }
    }

    fn insert(&mut self, value: i64, node: Dense) {
        match self.place(value) {
            Some(place) => self.nodes[place] = node,
            None => {
                self.others.insert(value, node);
            }
        }
    }
}

/// Rows of new nodes, to compare keys with.
pub(crate) struct NewRows<'t> {
    pub tables: &'t [TableRead],
    pub plans: &'t [TablePlan],
    pub nodes: &'t [NewNode],
    /// New nodes are numbered from here on.
    pub existing: Dense,
}

impl<'t> NewRows<'t> {
    pub fn get(&self, node: Dense) -> Option<&'t NewNode> {
        self.nodes.get(node.checked_sub(self.existing)? as usize)
    }

    /// The column and the row in which a new node's property lies.
    pub fn column(&self, node: Dense, property: &str) -> Option<(&'t Column, usize)> {
        self.column_at(self.get(node)?, property)
    }

    pub fn column_at(&self, new: &NewNode, property: &str) -> Option<(&'t Column, usize)> {
        let plan = &self.plans[new.table as usize].nodes[new.rule as usize];
        let place = plan.properties.iter().position(|p| *p.name == *property)?;
        let chunk = &self.tables[new.table as usize].nodes[new.rule as usize].chunks[new.chunk as usize];
        Some((&chunk.columns[place], new.row as usize))
    }
}

fn hash_row(state: &DefaultHashBuilder, columns: &[&Column], row: usize) -> u64 {
    columns.iter().fold(0u64, |hash, column| {
        let part = match column {
            Column::Int(a) => hash_key(state, &Value::Int(a.value(row))),
            column => match column.text(row) {
                Some(text) => hash_text(state, text),
                None => hash_key(state, &column.value(row)),
            },
        };
        mix(hash, part)
    })
}

fn mix(hash: u64, part: u64) -> u64 {
    hash.rotate_left(23).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ part
}

fn hash_text(state: &DefaultHashBuilder, text: &str) -> u64 {
    use std::hash::BuildHasher;
    state.hash_one(text)
}

fn hash_value(state: &DefaultHashBuilder, value: &Value) -> u64 {
    match value {
        Value::Text(text) => hash_text(state, text),
        value => hash_key(state, value),
    }
}

fn same(a: &Column, row: usize, b: &Column, other: usize) -> bool {
    match (a, b) {
        (Column::Int(x), Column::Int(y)) => x.value(row) == y.value(other),
        _ => match (a.text(row), b.text(other)) {
            (Some(x), Some(y)) => x == y,
            _ => a.value(row) == b.value(other),
        },
    }
}

fn same_value(column: &Column, row: usize, value: &Value) -> bool {
    match (column.text(row), value) {
        (Some(text), Value::Text(known)) => *text == **known,
        _ => column.value(row) == *value,
    }
}

impl Index {
    pub fn new(space: KeySpace, snapshot: &Snapshot) -> Index {
        let declared = snapshot
            .keys
            .iter()
            .position(|k| {
                let mut properties = k.properties.clone();
                properties.sort();
                k.element == Element::Node && k.label == space.label && properties == space.properties
            })
            .map(|key| {
                let order = snapshot.keys[key].properties.iter();
                (key, order.filter_map(|p| space.properties.iter().position(|s| s == p)).collect())
            });
        let mut index = Index {
            space,
            state: DefaultHashBuilder::default(),
            table: HashTable::new(),
            ids: HashTable::new(),
            whole: None,
            declared,
        };
        if index.declared.is_none() && !index.space.is_ids() {
            index.add_existing(snapshot);
        }
        index
    }

    /// Without a declared key the nodes there already are gone through once.
    fn add_existing(&mut self, snapshot: &Snapshot) {
        let test = snapshot.node_test(Some(&LabelExpression::Name(self.space.label.clone())));
        let ranges = snapshot.base_ranges(&test).into_iter().flatten();
        let base = ranges.filter(|&node| snapshot.node_is_base(node)).collect::<Vec<_>>();
        let readers: Vec<_> = self.space.properties.iter().map(|p| snapshot.node_reader(p)).collect();
        for node in base.into_iter().chain(snapshot.overlay_nodes(&test)) {
            let values: Vec<Value> = readers.iter().map(|r| snapshot.read_node(node, r)).collect();
            if !values.iter().any(Value::is_null) {
                let hash = values.iter().fold(0u64, |hash, v| mix(hash, hash_value(&self.state, v)));
                self.table.insert_unique(hash, (hash, node), |entry| entry.0);
            }
        }
    }

    /// Makes room for the keys that these columns hold, where a key is one whole number and the table
    /// holds nothing yet.
    pub fn expect(&mut self, columns: &[&Column]) {
        if self.space.properties.len() == 1
            && self.table.is_empty()
            && !columns.is_empty()
            && !self.space.is_ids()
        {
            self.whole = Whole::new(columns);
        }
    }

    /// Notes nodes numbered from `first` on for the rows of a range whose key is a number that no other has, up to
    /// the first of which that is not known to be so; says for how many rows it did.
    pub fn insert_new(
        &mut self, columns: &[&Column], rows: Range<usize>, first: Dense, snapshot: &Snapshot,
    ) -> usize {
        let (Some(whole), [Column::Int(values)]) = (&mut self.whole, columns) else { return 0 };
        if self.space.is_ids() || values.null_count() > 0 || snapshot.node_count() > 0 {
            return 0;
        }
        let numbers = values.numbers();
        let count = rows.len();
        for (place, row) in rows.enumerate() {
            match whole.place(numbers.value(row)).map(|place| &mut whole.nodes[place]) {
                Some(node) if *node == NO_NODE => *node = first + place as Dense,
                _ => return place,
            }
        }
        count
    }

    pub fn insert(&mut self, columns: &[&Column], row: usize, node: Dense) {
        if self.space.is_ids() {
            let Some(column) = columns.first() else { return };
            let value = column.value(row);
            let state = &self.state;
            self.ids.insert_unique(hash_value(state, &value), (value, node), |(v, _)| hash_value(state, v));
            return;
        }
        match (&mut self.whole, columns) {
            (Some(whole), [Column::Int(values)]) => whole.insert(values.value(row), node),
            _ => {
                let hash = hash_row(&self.state, columns, row);
                self.table.insert_unique(hash, (hash, node), |entry| entry.0);
            }
        }
    }

    /// The node whose key is in row `row` of `columns`.
    pub fn find(
        &self, columns: &[&Column], row: usize, new: &NewRows<'_>, snapshot: &Snapshot,
    ) -> Option<Dense> {
        if self.space.is_ids() {
            let column = columns.first()?;
            let hash = match column.text(row) {
                Some(text) => hash_text(&self.state, text),
                None => hash_value(&self.state, &column.value(row)),
            };
            return self.ids.find(hash, |(value, _)| same_value(column, row, value)).map(|(_, node)| *node);
        }
        if let Some((key, order)) = &self.declared
            && snapshot.node_count() > 0
        {
            let values: Vec<Value> = order.iter().map(|&place| columns[place].value(row)).collect();
            if let Some(node) = snapshot.seek(*key, &values) {
                return Some(node);
            }
        }
        if let (Some(whole), [Column::Int(values)]) = (&self.whole, columns) {
            return whole.get(values.value(row));
        }
        let hash = hash_row(&self.state, columns, row);
        let equal = |&(entry_hash, node): &(u64, Dense)| {
            entry_hash == hash
                && self.space.properties.iter().zip(columns).all(|(property, column)| {
                    if node >= new.existing {
                        new.column(node, property).is_some_and(|(c, r)| same(column, row, c, r))
                    } else {
                        let known = snapshot.read_node(node, &snapshot.node_reader(property));
                        same_value(column, row, &known)
                    }
                })
        };
        self.table.find(hash, equal).map(|(_, node)| *node)
    }
}

/// References whose key is one whole number, out of a list.
pub(crate) struct Direct<'i> {
    least: i64,
    nodes: &'i [Dense],
    values: WholeNumbers<'i>,
}

impl Direct<'_> {
    #[inline]
    pub fn get(&self, row: usize) -> Option<Dense> {
        let place = self.values.value(row).wrapping_sub(self.least) as u64;
        self.nodes.get(usize::try_from(place).ok()?).copied().filter(|node| *node != NO_NODE)
    }
}

/// `None` where a key is more than a number, or nodes that are there already may have it.
pub(crate) fn direct<'i>(
    indexes: &[&'i Index], columns: &[&'i Column], snapshot: &Snapshot,
) -> Option<Direct<'i>> {
    let ([index], [Column::Int(values)]) = (indexes, columns) else { return None };
    let Whole { least, nodes, .. } = index.whole.as_ref()?;
    let usable = values.null_count() == 0 && (index.declared.is_none() || snapshot.node_count() == 0);
    usable.then(|| Direct { least: *least, nodes, values: values.numbers() })
}

/// A new edge: its ends (existing nodes by number, new ones from `existing` on) and its row.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct NewEdge {
    pub from: Dense,
    pub to: Dense,
    pub chunk: u32,
    pub row: u32,
}
