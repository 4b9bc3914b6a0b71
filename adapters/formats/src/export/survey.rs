//! Survey of an export: label sets, their properties and the types of their values, read from columns where
//! possible.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use graphodrome_graph::{Column, Decimal, LabelSet, MAX_DIGITS, Snapshot, Value, ValueKind, ValueType};

use crate::export::form::TableForm;
use crate::export::{Ask, ExportError, Selection};

/// What the values of one property are.
#[derive(Clone, Debug, Default)]
pub(crate) struct Seen {
    pub kinds: BTreeSet<ValueKind>,
    /// Kinds of the items of lists.
    pub items: BTreeSet<ValueKind>,
    /// Digits after the point, of decimals.
    pub scale: u32,
    /// Digits before the point, of decimals.
    whole: u32,
    pub control_characters: bool,
    /// Words for null that are values here.
    taken: BTreeSet<&'static str>,
}

/// Words that may stand for null in a table of text, in the order in which they are tried.
const NULL_WORDS: [&str; 4] = ["", "\\N", "\\NULL", "#null#"];

impl Seen {
    fn see(&mut self, value: &Value) {
        let Some(kind) = ValueKind::of(value) else { return };
        self.kinds.insert(kind);
        match value {
            Value::Text(text) => self.see_text(text),
            Value::Decimal(d) => self.see_decimal(d),
            Value::List(items) => {
                for item in items.iter() {
                    self.items.extend(ValueKind::of(item));
                    if let Value::Decimal(d) = item {
                        self.see_decimal(d);
                    }
                }
            }
            _ => {}
        }
    }

    fn see_decimal(&mut self, d: &Decimal) {
        self.scale = self.scale.max(d.scale());
        self.whole = self.whole.max(d.digits().saturating_sub(d.scale()));
    }

    /// Whether one DECIMAL type holds all decimals.
    pub fn one_decimal_type(&self) -> bool {
        self.whole + self.scale <= MAX_DIGITS
    }

    fn see_text(&mut self, text: &str) {
        if let Some(word) = NULL_WORDS.iter().find(|word| ***word == *text) {
            self.taken.insert(word);
        }
        let is_control = |b: u8| b < 0x20 && !matches!(b, b'\t' | b'\n' | b'\r');
        self.control_characters |= text.bytes().any(is_control);
    }

    fn see_column(&mut self, column: &Column) {
        if !column.has_values() {
            return;
        }
        let kind = match column {
            Column::Bool(_) => ValueKind::Bool,
            Column::Int(_) => ValueKind::Int,
            Column::Float(_) => ValueKind::Float,
            Column::Date(_) => ValueKind::Date,
            Column::Text(_) | Column::Coded(..) => {
                (0..column.len()).filter_map(|row| column.text(row)).for_each(|text| self.see_text(text));
                ValueKind::Text
            }
            Column::Units(..) => {
                return (0..column.len()).for_each(|row| self.see(&column.value(row)));
            }
            Column::Other(values) => return values.iter().for_each(|value| self.see(value)),
        };
        self.kinds.insert(kind);
    }

    fn merge(&mut self, other: &Seen) {
        self.kinds.extend(&other.kinds);
        self.items.extend(&other.items);
        self.taken.extend(&other.taken);
        self.scale = self.scale.max(other.scale);
        self.whole = self.whole.max(other.whole);
        self.control_characters |= other.control_characters;
    }

    /// The one kind that all values have.
    pub fn only(&self) -> Option<ValueKind> {
        let mut kinds = self.kinds.iter();
        kinds.next().filter(|_| kinds.next().is_none()).copied()
    }

    /// The type that a mapping gives the property; `None` where it is a text's, or no one type fits.
    pub fn value_type(&self) -> Option<ValueType> {
        Some(match self.only()? {
            ValueKind::Bool => ValueType::Bool,
            ValueKind::Int => ValueType::Int(64),
            ValueKind::Float => ValueType::Float(64),
            ValueKind::Decimal if !self.one_decimal_type() => return None,
            ValueKind::Decimal => ValueType::Decimal { precision: MAX_DIGITS as u8, scale: self.scale as u8 },
            ValueKind::Text | ValueKind::Node | ValueKind::Edge | ValueKind::Path => return None,
            ValueKind::Bytes => ValueType::Bytes { min: 0, max: None },
            ValueKind::Date => ValueType::Date,
            ValueKind::LocalTime => ValueType::LocalTime,
            ValueKind::ZonedTime => ValueType::ZonedTime,
            ValueKind::LocalDateTime => ValueType::LocalDateTime,
            ValueKind::ZonedDateTime => ValueType::ZonedDateTime,
            ValueKind::Duration => ValueType::Duration,
            ValueKind::List => {
                let mut items = self.items.iter();
                let one = items.next().filter(|_| items.next().is_none()).copied();
                let kinds = one.into_iter().collect();
                let of_items = Seen { kinds, scale: self.scale, whole: self.whole, ..Seen::default() };
                let item = match one {
                    Some(ValueKind::Text) => ValueType::TEXT,
                    Some(_) => of_items.value_type().unwrap_or(ValueType::Any),
                    None => ValueType::Any,
                };
                ValueType::List(Box::new(item))
            }
            ValueKind::Record => ValueType::Record,
        })
    }
}

pub(crate) type Properties = BTreeMap<Arc<str>, Seen>;

#[derive(Debug, Default)]
pub(crate) struct Survey {
    pub nodes: BTreeMap<LabelSet, Properties>,
    /// By labels and whether they are directed.
    pub edges: BTreeMap<(LabelSet, bool), Properties>,
}

impl Survey {
    pub fn of(snapshot: &Snapshot, selection: &Selection, ask: Ask<'_>) -> Result<Survey, ExportError> {
        let mut survey = Survey::default();
        let columns = |seen: &mut Properties, columns: &[(Arc<str>, Column)]| -> Result<(), ExportError> {
            for (name, column) in columns {
                if !ask() {
                    return Err(ExportError::Cancelled);
                }
                seen.entry(name.clone()).or_default().see_column(column);
            }
            Ok(())
        };
        // A table of which nothing is selected says nothing.
        let some = |set: &Option<roaring::RoaringBitmap>, first: u32, len: usize| {
            let inside = |set: &roaring::RoaringBitmap| {
                len > 0 && set.range_cardinality(first..first + len as u32) > 0
            };
            set.as_ref().map_or(len > 0, inside)
        };
        for table in snapshot.base.nodes.iter().filter(|t| some(&selection.nodes, t.first, t.len)) {
            columns(survey.nodes.entry(table.labels.clone()).or_default(), &table.columns)?;
        }
        for table in snapshot.base.edges.iter().filter(|t| some(&selection.edges, t.first, t.len)) {
            let key = (table.labels.clone(), table.directed);
            columns(survey.edges.entry(key).or_default(), &table.columns)?;
        }
        for id in snapshot.overlay_node_numbers().into_iter().filter(|id| selection.has_node(*id)) {
            let seen = survey.nodes.entry(snapshot.node_labels(id)).or_default();
            for (name, value) in snapshot.node_properties(id).iter() {
                seen.entry(name.clone()).or_default().see(value);
            }
        }
        for id in snapshot.overlay_edge_numbers().into_iter().filter(|id| selection.has_edge(*id)) {
            let key = (snapshot.edge_labels(id), snapshot.edge_directed(id));
            let seen = survey.edges.entry(key).or_default();
            for (name, value) in snapshot.edge_properties(id).iter() {
                seen.entry(name.clone()).or_default().see(value);
            }
        }
        for seen in survey.nodes.values_mut().chain(survey.edges.values_mut()) {
            seen.retain(|_, seen| !seen.kinds.is_empty());
        }
        Ok(survey)
    }

    fn merged<'p>(properties: impl Iterator<Item = &'p Properties>) -> Properties {
        let mut all = Properties::new();
        for (name, seen) in properties.flatten() {
            all.entry(name.clone()).or_default().merge(seen);
        }
        all
    }

    /// Properties of all nodes together, by name.
    pub fn node_properties(&self) -> Properties {
        Survey::merged(self.nodes.values())
    }

    pub fn edge_properties(&self) -> Properties {
        Survey::merged(self.edges.values())
    }

    /// A word for null that no value is.
    pub fn null_word(&self) -> &'static str {
        let all = Survey::merged(self.nodes.values().chain(self.edges.values()));
        let free = |word: &&str| !all.values().any(|seen| seen.taken.contains(*word));
        NULL_WORDS.iter().copied().find(free).unwrap_or("#none#")
    }

    /// Whether labels hold what separates them in a table.
    pub fn labels_with(&self, separator: char) -> bool {
        let nodes = self.nodes.keys().flat_map(|labels| labels.iter());
        nodes.chain(self.edges.keys().flat_map(|(labels, _)| labels.iter())).any(|l| l.contains(separator))
    }

    /// Properties for which a test holds, as `nodes' a, edges' b`.
    pub fn named(&self, test: impl Fn(&Seen) -> bool) -> Option<String> {
        let of = |properties: Properties, whose: &str| {
            let found = properties.into_iter().filter(|(_, seen)| test(seen));
            found.map(|(name, _)| format!("{whose} {name}")).collect::<Vec<_>>()
        };
        let mut names = of(self.node_properties(), "nodes'");
        names.extend(of(self.edge_properties(), "edges'"));
        (!names.is_empty()).then(|| names.join(", "))
    }

    pub fn table_losses(&self, kind: TableForm) -> Vec<String> {
        let mut losses = vec![];
        match kind {
            TableForm::Csv => {
                // Each label set has a rule of its own, so that types may differ between them.
                let mut mixed = BTreeSet::new();
                for (labels, properties) in &self.nodes {
                    mixed.extend(mixed_of(labels, properties));
                }
                for ((labels, _), properties) in &self.edges {
                    mixed.extend(mixed_of(labels, properties));
                }
                if !mixed.is_empty() {
                    let names = mixed.into_iter().collect::<Vec<_>>().join(", ");
                    losses.push(format!("values of several types come back as texts: {names}"));
                }
            }
            TableForm::Parquet | TableForm::Arrow => {
                if let Some(names) = self.named(|seen| seen.only().is_none()) {
                    losses.push(format!("values of several types are written as texts: {names}"));
                }
                if let Some(names) = self.named(|s| s.only() == Some(ValueKind::ZonedDateTime)) {
                    losses
                        .push(format!("times with a zone are written in UTC, without their offset: {names}"));
                }
                let odd = [ValueKind::ZonedTime, ValueKind::Duration, ValueKind::Record];
                if let Some(names) = self.named(|s| s.only().is_some_and(|kind| odd.contains(&kind))) {
                    losses.push(format!("zoned times, durations and records are written as texts: {names}"));
                }
            }
        }
        if self.labels_with(';') {
            losses.push("labels that hold a ; are taken for several when they are loaded again".into());
        }
        if self.nodes.contains_key(&graphodrome_graph::label_set::<[&str; 0], &str>([])) {
            losses.push("nodes without a label are not loaded again: a mapping gives every node one".into());
        }
        losses
    }
}

fn mixed_of(labels: &LabelSet, properties: &Properties) -> Vec<String> {
    let labels = labels.join("&");
    let mixed = properties.iter().filter(|(_, seen)| seen.only().is_none());
    mixed.map(|(name, _)| format!("{labels}.{name}")).collect()
}
