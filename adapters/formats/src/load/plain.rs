//! The usual CSV: rows without quotes, cut where the delimiters are, and their fields read straight into
//! typed columns. A row that does not fit is taken back and read again the thorough way, which knows
//! what is wrong with it.

use graphodrome_graph::{ColumnBuilder, Value, ValueType, parse_text, parse_whole};

use crate::load::fields::{Fields, Row};
use crate::load::plan::{Input, TablePlan};
use crate::load::read::{BuildingRule, ChunkRead, Counting};
use crate::load::{LoadError, Progress};

/// The chunk as text, where it has no quote, no line end but `\n` and `\r\n`, and is UTF-8.
pub(super) fn plain_text(bytes: &[u8], quote: u8) -> Option<&str> {
    let lone_return = |at: usize| bytes.get(at + 1) != Some(&b'\n');
    if memchr::memchr(quote, bytes).is_some() || memchr::memchr_iter(b'\r', bytes).any(lone_return) {
        return None;
    }
    std::str::from_utf8(bytes).ok()
}

pub(super) enum Kind<'p> {
    Whole,
    Text,
    Other(&'p ValueType),
}

pub(super) enum Place {
    Property(usize),
    From(usize),
    To(usize),
}

/// Where a field goes.
pub(super) struct Target<'p> {
    pub column: usize,
    rule: usize,
    place: Place,
    pub kind: Kind<'p>,
    pub nullable: bool,
}

impl Target<'_> {
    pub fn builder<'b>(&self, rules: &'b mut [BuildingRule]) -> &'b mut ColumnBuilder {
        let rule = &mut rules[self.rule];
        match self.place {
            Place::Property(i) => &mut rule.columns[i],
            Place::From(i) => &mut rule.from[i],
            Place::To(i) => &mut rule.to[i],
        }
    }

    /// False where the field is not what it should be.
    #[inline]
    fn push(&self, text: &str, rules: &mut [BuildingRule]) -> bool {
        let builder = self.builder(rules);
        if text.is_empty() {
            if self.nullable {
                builder.push_null();
            }
            return self.nullable;
        }
        match self.kind {
            Kind::Whole => match parse_whole(text) {
                Some(number) => builder.push_int(number),
                None => return false,
            },
            Kind::Text => {
                if memchr::memchr(0, text.as_bytes()).is_some() {
                    return false;
                }
                builder.push_text(text);
            }
            Kind::Other(wanted) => match parse_text(wanted, text) {
                Ok(Value::Float(number)) => builder.push_float(number),
                Ok(Value::Date(date)) => builder.push_date(date),
                Ok(value) => builder.push(value),
                Err(_) => return false,
            },
        }
        true
    }
}

/// Where all fields of a table go; `None` where its rules ask for more than reading fields.
pub(super) fn targets(plan: &TablePlan) -> Option<Vec<Target<'_>>> {
    if !matches!(&plan.null[..], [one] if one.is_empty()) {
        return None;
    }
    let kind = |value_type| match value_type {
        &ValueType::Int(64) => Kind::Whole,
        ValueType::Text { min: 0, max: None } => Kind::Text,
        // What has no type is a text here; in a columnar file it has its own.
        ValueType::Any if !plan.is_columnar() => Kind::Text,
        other => Kind::Other(other),
    };
    let nodes_plain = plan.nodes.iter().all(|n| n.label_from.is_none() && n.filter.is_none());
    let edges_plain = plan.edges.iter().all(|e| e.label_from.is_none() && e.filter.is_none());
    if plan.filter.is_some() || !nodes_plain || !edges_plain {
        return None;
    }
    let mut targets = vec![];
    for (rule, node) in plan.nodes.iter().enumerate().filter(|(_, n)| n.created_by.is_none()) {
        for (i, property) in node.properties.iter().enumerate() {
            let in_key = node.key.as_ref().is_some_and(|(_, places)| places.contains(&i));
            let nullable = !property.not_null && !in_key && !property.is_id();
            let (column, place) = (property.input.plain_column()?, Place::Property(i));
            targets.push(Target { column, rule, place, kind: kind(&property.value_type), nullable });
        }
    }
    for (place, edge) in plan.edges.iter().enumerate() {
        let rule = plan.nodes.len() + place;
        for (i, (input, value_type)) in edge.from.columns.iter().enumerate() {
            let (column, kind, place) = (input.plain_column()?, kind(value_type), Place::From(i));
            targets.push(Target { column, rule, place, kind, nullable: false });
        }
        for (i, (input, value_type)) in edge.to.columns.iter().enumerate() {
            let (column, kind, place) = (input.plain_column()?, kind(value_type), Place::To(i));
            targets.push(Target { column, rule, place, kind, nullable: false });
        }
        for (i, property) in edge.properties.iter().enumerate() {
            let (column, place) = (property.input.plain_column()?, Place::Property(i));
            let nullable = !property.not_null;
            targets.push(Target { column, rule, place, kind: kind(&property.value_type), nullable });
        }
    }
    let created = plan.nodes.iter().filter(|n| n.created_by.is_none());
    let mut properties =
        created.flat_map(|n| &n.properties).chain(plan.edges.iter().flat_map(|e| &e.properties));
    let simple = properties.all(|p| p.default.is_none() && p.date_order.is_none());
    simple.then_some(targets)
}

impl Input {
    /// The column whose text is the value.
    fn plain_column(&self) -> Option<usize> {
        match self {
            Input::Column(column) => Some(*column),
            _ => None,
        }
    }
}

impl ChunkRead {
    pub(super) fn read_plain(
        &mut self, plan: &TablePlan, text: &str, start: usize, progress: &Progress,
    ) -> Result<(), LoadError> {
        let targets = targets(plan);
        let one_for_all = plan.nodes.iter().all(|n| n.created_by.is_none());
        let bytes = text.as_bytes();
        let mut fields: Vec<&str> = Vec::with_capacity(plan.columns.len());
        let mut at = 0;
        let mut counting = Counting::new(progress);
        while at < bytes.len() {
            let offset = (start + at) as u64;
            fields.clear();
            loop {
                let ends = |&byte: &u8| byte == plan.delimiter || byte == b'\n';
                let end = bytes[at..].iter().position(ends).map_or(bytes.len(), |length| at + length);
                fields.push(&text[at..end]);
                at = end + 1;
                if end == bytes.len() || bytes[end] == b'\n' {
                    break;
                }
            }
            if let Some(field) = fields.last_mut() {
                *field = field.strip_suffix('\r').unwrap_or(field);
            }
            if fields == [""] {
                continue;
            }
            self.rows += 1;
            counting.at(self.rows)?;
            if fields.len() != plan.columns.len() {
                self.reject_fields(plan, offset, fields.len());
                continue;
            }
            if let Some(targets) = &targets {
                if targets.iter().all(|target| target.push(fields[target.column], &mut self.rules)) {
                    if one_for_all {
                        self.rules.iter_mut().for_each(|rule| rule.offsets.push(offset));
                    } else {
                        self.of_rows(plan).for_each(|rule| rule.offsets.push(offset));
                    }
                    continue;
                }
                self.rules.iter_mut().for_each(BuildingRule::take_back);
            }
            let field = |column: usize| match fields.get(column) {
                Some(text) if !plan.null.iter().any(|null| null == text) => Fields::Text(text),
                _ => Fields::Null,
            };
            let raw = |column: usize| fields.get(column).map(|text| text.to_string());
            self.row(plan, offset, &Row { field: &field, raw: &raw, null: &plan.null });
        }
        counting.end(self.rows);
        Ok(())
    }
}

impl BuildingRule {
    /// Forgets the fields of a row that was not finished.
    fn take_back(&mut self) {
        let rows = self.offsets.len();
        let columns = self.columns.iter_mut().chain(&mut self.from).chain(&mut self.to);
        columns.for_each(|column| column.truncate(rows));
    }
}
