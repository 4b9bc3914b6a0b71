//! The groups of rows: each key gets a code for each value, and codes together a group. A key that reads one node and
//! nothing else is evaluated once for each node.

use hashbrown::HashMap;

use graphodrome_graph::{Dense, Unit, Value};

use crate::batch::{Batch, NO_ELEMENT, Vector, value_bytes};
use crate::columnar::{self};
use crate::counters::Counters;
use crate::evaluate::Evaluator;
use crate::expression::{Expr, Kind};
use crate::numbers::Cells;
use crate::of_text::{TextColumns, TextPlace};
use crate::outcome::Outcome;
use crate::plain_texts::{PlainTexts, TextOfKey};
use crate::row::Row;

const UNKNOWN: u32 = u32::MAX;

/// One of so many nodes must have come before codes are kept in an array.
const SPARSE: usize = 64;

/// For so many texts codes are kept in an array from the first row on.
const FEW_TEXTS: usize = 4096;

/// The codes of nodes, by their numbers.
enum NodeCodes {
    Few(HashMap<Dense, u32>),
    Many(Vec<u32>),
}

/// A key.
struct Key {
    /// The slot of the only node that it reads, where that is so.
    node: Option<usize>,
    /// Whether it is that node itself.
    is_node: bool,
    of_nodes: NodeCodes,
    /// The codes of texts, by the table of the column that they are in and their codes there.
    of_texts: Vec<Vec<u32>>,
    /// Rows whose text was asked for.
    text_rows: usize,
    /// A whole number, which most are that are grouped by many.
    numbers: HashMap<i64, u32>,
    /// Dates by their days.
    days: HashMap<i32, u32>,
    /// Multiples of units that came before. Values of different units may be equal, and then have one code.
    units: HashMap<(Unit, i64), u32>,
    values: HashMap<Value, u32>,
    /// Where equal values that are written differently are told apart, those that may be.
    written: Option<HashMap<String, u32>>,
    codes: u32,
    /// Nodes that the key was evaluated for, each with the properties that were read.
    reads: Vec<(Dense, u32)>,
}

pub(crate) struct Groups {
    keys: Vec<Key>,
    /// Groups by the codes of the first two keys, by those and the third, and so on.
    pairs: Vec<HashMap<(u32, u32), u32>>,
    node_bound: usize,
    len: usize,
    /// Bytes taken since they were asked for last.
    bytes: usize,
}

/// The INT64 that a number equals.
pub(crate) fn whole_number(value: &Value) -> Option<i64> {
    match value {
        Value::Int(i) => Some(*i),
        Value::Float(f) if f.trunc() == *f && f.abs() <= 9_223_372_036_854_775_808.0 => {
            // Beyond the range a cast saturates, to a number that is another one.
            let whole = *f as i64;
            (Value::Int(whole) == *value).then_some(whole)
        }
        Value::Decimal(d) => d.to_whole(),
        _ => None,
    }
}

impl Key {
    /// The code of a value: 1 and 1.0 have one.
    fn of_value(&mut self, value: Value, bytes: &mut usize) -> u32 {
        let next = self.codes;
        if let (Value::Node(node), true) = (&value, self.is_node)
            && let Some(code) = self.of_node(*node, bytes)
        {
            return code;
        }
        if let (Value::Date(_), Some(day)) = (&value, value.days()) {
            return self.of_day(day, bytes);
        }
        let plain = matches!(value, Value::Int(_) | Value::Text(_) | Value::Bool(_) | Value::Null);
        let plain = plain || matches!(value, Value::Node(_) | Value::Edge(_));
        if let (Some(written), false) = (&mut self.written, plain) {
            let text = format!("{value:?}");
            *bytes += text.len() + 32;
            let code = *written.entry(text).or_insert(next);
            self.codes += u32::from(code == next);
            return code;
        }
        let code = match whole_number(&value) {
            Some(whole) => *self.numbers.entry(whole).or_insert(next),
            None => match self.values.get(&value) {
                Some(code) => *code,
                None => {
                    *bytes += value_bytes(&value) + size_of::<Value>();
                    self.values.insert(value, next);
                    next
                }
            },
        };
        if code == next {
            self.codes += 1;
            *bytes += 24;
        }
        code
    }

    /// The code of a node that is the key itself; `None` beyond the bound.
    fn of_node(&mut self, node: Dense, bytes: &mut usize) -> Option<u32> {
        let known = match &mut self.of_nodes {
            NodeCodes::Many(many) => many.get_mut(node as usize),
            NodeCodes::Few(few) => {
                *bytes += if few.contains_key(&node) { 0 } else { 16 };
                Some(few.entry(node).or_insert(UNKNOWN))
            }
        };
        let code = known?;
        if *code == UNKNOWN {
            *code = self.codes;
            self.codes += 1;
        }
        Some(*code)
    }

    fn of_text(&mut self, text: &str, bytes: &mut usize) -> u32 {
        match self.values.get(&TextOfKey(text)) {
            Some(code) => *code,
            None => self.of_value(Value::text(text), bytes),
        }
    }

    fn of_day(&mut self, day: i32, bytes: &mut usize) -> u32 {
        let next = self.codes;
        let code = *self.days.entry(day).or_insert(next);
        if code == next {
            self.codes += 1;
            *bytes += 24;
        }
        code
    }

    fn of_unit(&mut self, number: i64, unit: Unit, bytes: &mut usize) -> u32 {
        if let Some(code) = self.units.get(&(unit, number)) {
            return *code;
        }
        let code = self.of_value(unit.value(number), bytes);
        self.units.insert((unit, number), code);
        *bytes += 32;
        code
    }

    fn of_number(&mut self, number: i64, bytes: &mut usize) -> u32 {
        let next = self.codes;
        let code = *self.numbers.entry(number).or_insert(next);
        if code == next {
            self.codes += 1;
            *bytes += 24;
        }
        code
    }
}

impl Groups {
    /// `node_bound` is one more than the greatest node number.
    pub fn new(keys: &[Expr], batch: &Batch, known_nodes: bool, node_bound: u32) -> Groups {
        let key = |expression: &Expr| {
            let mut slots = vec![];
            expression.slots(&mut slots);
            slots.dedup();
            let node = match slots[..] {
                [slot] if known_nodes && matches!(batch.columns.get(slot), Some(Vector::Nodes(_))) => {
                    Some(slot)
                }
                _ => None,
            };
            Key {
                node,
                is_node: node.is_some() && matches!(expression.kind, Kind::Slot(_)),
                of_nodes: NodeCodes::Few(HashMap::new()),
                of_texts: vec![],
                text_rows: 0,
                numbers: HashMap::new(),
                days: HashMap::new(),
                units: HashMap::new(),
                values: HashMap::new(),
                written: None,
                codes: 0,
                reads: vec![],
            }
        };
        Groups {
            keys: keys.iter().map(key).collect(),
            pairs: (1..keys.len()).map(|_| HashMap::new()).collect(),
            node_bound: node_bound as usize,
            len: 0,
            bytes: 0,
        }
    }

    /// The same with equal values that are written differently, as 1 and 1.0, in groups of their own.
    pub fn told_apart_as_written(mut self) -> Groups {
        self.keys.iter_mut().for_each(|key| key.written = Some(HashMap::new()));
        self
    }

    /// The properties that were read for each key once a node, by the nodes.
    pub fn reads(&self) -> impl Iterator<Item = &[(Dense, u32)]> {
        self.keys.iter().map(|key| &key.reads[..])
    }

    /// Bytes taken since this was asked last.
    pub fn new_bytes(&mut self) -> usize {
        std::mem::take(&mut self.bytes)
    }

    /// The groups of rows, in their order; a new group gets the next number.
    pub fn of(
        &mut self, expressions: &[Expr], batch: &Batch, rows: &[u32], evaluator: &mut Evaluator<'_>,
    ) -> Outcome<Vec<u32>> {
        let mut groups: Vec<u32> = vec![];
        for (place, expression) in expressions.iter().enumerate() {
            let codes = self.codes(place, expression, batch, rows, evaluator)?;
            if place == 0 {
                groups = codes;
                continue;
            }
            let pairs = &mut self.pairs[place - 1];
            for (group, code) in groups.iter_mut().zip(codes) {
                let next = pairs.len() as u32;
                *group = *pairs.entry((*group, code)).or_insert(next);
            }
        }
        let after = match self.pairs.last() {
            Some(pairs) => pairs.len(),
            None => self.keys.first().map_or(1, |key| key.codes as usize),
        };
        self.bytes += 24 * (after - self.len) * self.pairs.len();
        self.len = after;
        Ok(groups)
    }

    /// The codes of a key that reads one text: found once for each text. `None` where it reads something else.
    fn text_codes(
        &mut self, place: usize, expression: &Expr, batch: &Batch, rows: &[u32],
        evaluator: &mut Evaluator<'_>,
    ) -> Outcome<Option<Vec<u32>>> {
        let scope = evaluator.scope;
        let Some(only) = expression.only_property() else { return Ok(None) };
        let Some(Vector::Nodes(ids) | Vector::Edges(ids)) = batch.columns.get(only.slot) else {
            return Ok(None);
        };
        let Some(columns) = TextColumns::of(only.element, only.reader, scope) else { return Ok(None) };
        let (key, bytes) = (&mut self.keys[place], &mut self.bytes);
        key.text_rows += rows.len();
        let most = (0..columns.tables()).map(|table| columns.places(table)).max().unwrap_or(0);
        if most > FEW_TEXTS && most > SPARSE * key.text_rows {
            return Ok(None);
        }
        key.of_texts.resize_with(columns.tables(), Vec::new);
        let mut codes = Vec::with_capacity(rows.len());
        for &row in rows {
            let at = Row { batch, row: row as usize, locals: &[] };
            let Some(TextPlace { table, code }) = columns.place(ids[row as usize], scope) else {
                codes.push(key.of_value(evaluator.value(expression, at)?, bytes));
                continue;
            };
            evaluator.counters.properties_read += 1;
            let known = &mut key.of_texts[table];
            if known.is_empty() {
                known.resize(columns.places(table), UNKNOWN);
                *bytes += 4 * known.len();
            }
            let mut known = known[code as usize];
            if known == UNKNOWN {
                let counters = &mut Counters::default();
                let value = Evaluator { scope, counters }.value(expression, at)?;
                known = key.of_value(value, bytes);
                key.of_texts[table][code as usize] = known;
            }
            codes.push(known);
        }
        Ok(Some(codes))
    }

    fn codes(
        &mut self, place: usize, expression: &Expr, batch: &Batch, rows: &[u32],
        evaluator: &mut Evaluator<'_>,
    ) -> Outcome<Vec<u32>> {
        let scope = evaluator.scope;
        let texts = PlainTexts::of_property(expression, scope);
        let text = |id: Dense| texts.as_ref().and_then(|texts| texts.get(id, scope));
        let (key, bytes) = (&mut self.keys[place], &mut self.bytes);
        let mut codes = Vec::with_capacity(rows.len());
        let at = |row: u32| Row { batch, row: row as usize, locals: &[] };
        if let Some(slot) = key.node
            && let Some(Vector::Nodes(nodes)) = batch.columns.get(slot)
        {
            if let NodeCodes::Few(few) = &key.of_nodes
                && few.len() * SPARSE > self.node_bound
            {
                let mut many = vec![UNKNOWN; self.node_bound];
                few.iter().for_each(|(node, code)| many[*node as usize] = *code);
                *bytes += 4 * many.len();
                key.of_nodes = NodeCodes::Many(many);
            }
            for &row in rows {
                let node = nodes[row as usize];
                let known = match &key.of_nodes {
                    NodeCodes::Many(many) => many.get(node as usize).copied().unwrap_or(UNKNOWN),
                    NodeCodes::Few(few) => few.get(&node).copied().unwrap_or(UNKNOWN),
                };
                if known != UNKNOWN {
                    codes.push(known);
                    continue;
                }
                if key.is_node && node != NO_ELEMENT {
                    codes.push(key.of_value(Value::Node(node), bytes));
                    continue;
                }
                let before = evaluator.counters.properties_read;
                let code = match text(node) {
                    Some(text) => {
                        evaluator.counters.properties_read += 1;
                        key.of_text(text, bytes)
                    }
                    None => key.of_value(evaluator.value(expression, at(row))?, bytes),
                };
                key.reads.push((node, (evaluator.counters.properties_read - before) as u32));
                *bytes += 8;
                match &mut key.of_nodes {
                    _ if node == NO_ELEMENT => {}
                    NodeCodes::Many(many) => {
                        if let Some(place) = many.get_mut(node as usize) {
                            *place = code;
                        }
                    }
                    NodeCodes::Few(few) => {
                        few.insert(node, code);
                        *bytes += 16;
                    }
                }
                codes.push(code);
            }
            return Ok(codes);
        }
        if let Some(codes) = self.text_codes(place, expression, batch, rows, evaluator)? {
            return Ok(codes);
        }
        let (key, bytes) = (&mut self.keys[place], &mut self.bytes);
        let found = columnar::column(expression, batch, evaluator.scope);
        if let Some(found) = found.filter(|found| !matches!(found.numbers.cells, Cells::Floats(_))) {
            evaluator.counters.properties_read += found.reads;
            for &row in rows {
                let row = row as usize;
                codes.push(match &found.numbers.cells {
                    _ if found.numbers.is_null(row) => key.of_value(Value::Null, bytes),
                    Cells::Ints(ints) => key.of_number(ints[row], bytes),
                    Cells::Days(days) => key.of_day(days[row], bytes),
                    Cells::Units(numbers, unit) => key.of_unit(numbers[row], *unit, bytes),
                    Cells::Floats(floats) => key.of_value(Value::Float(floats[row]), bytes),
                });
            }
            return Ok(codes);
        }
        let ids = expression.only_property().and_then(|only| batch.columns.get(only.slot));
        for &row in rows {
            let of_text = match ids {
                Some(Vector::Nodes(ids) | Vector::Edges(ids)) => text(ids[row as usize]),
                _ => None,
            };
            codes.push(match of_text {
                Some(text) => {
                    evaluator.counters.properties_read += 1;
                    key.of_text(text, bytes)
                }
                None => key.of_value(evaluator.value(expression, at(row))?, bytes),
            });
        }
        Ok(codes)
    }
}
