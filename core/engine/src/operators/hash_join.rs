//! HashJoin: rows of both sides whose key values are equal. The side with fewer rows is kept in a hash table.

use std::sync::Arc;

use hashbrown::HashMap;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::of_text::{TextColumns, TextPlace};
use crate::operators::drain;
use crate::outcome::{Outcome, located};
use crate::plan::{Counting, Input, Operator, OperatorPlan};
use crate::row::Row;
use crate::scope::Scope;

#[derive(Clone, Debug)]
pub(crate) struct HashJoin {
    pub left_keys: Vec<Expr>,
    pub right_keys: Vec<Expr>,
    /// Which side is kept in the hash table.
    pub kept: JoinSide,
    pub counting: Option<Counting>,
    pub shown: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum JoinSide {
    Left,
    Right,
}

impl JoinSide {
    /// As a plan calls the input.
    pub fn input(self) -> &'static str {
        match self {
            JoinSide::Left => "the first",
            JoinSide::Right => "the second",
        }
    }
}

impl HashJoin {
    fn kept_keys(&self) -> &[Expr] {
        match self.kept {
            JoinSide::Left => &self.left_keys,
            JoinSide::Right => &self.right_keys,
        }
    }

    /// Of the side whose rows look for their matches.
    fn asking_keys(&self) -> &[Expr] {
        match self.kept {
            JoinSide::Left => &self.right_keys,
            JoinSide::Right => &self.left_keys,
        }
    }
}

impl OperatorPlan for HashJoin {
    fn name(&self) -> &'static str {
        "HashJoin"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let kept = self.kept.input();
        let mut details = vec![("on", self.shown.clone()), ("hashed", format!("hash table of {kept} input"))];
        if self.counting.is_some() {
            details.push(("rows", "counted, not made".into()));
        }
        details
    }

    fn counting(&self) -> Option<Counting> {
        self.counting
    }

    fn counted(&self, counting: Counting) -> Option<Arc<dyn OperatorPlan>> {
        // What is counted is how many go with a row of the first side.
        let counts = self.kept == JoinSide::Right;
        counts
            .then(|| Arc::new(HashJoin { counting: Some(counting), ..self.clone() }) as Arc<dyn OperatorPlan>)
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let (right, left) = (inputs.remove(1), inputs.remove(0));
        let (kept_input, input) = match self.kept {
            JoinSide::Left => (left, right),
            JoinSide::Right => (right, left),
        };
        Box::new(HashJoinRun { spec: self, input, kept_input, kept: None, of_texts: vec![] })
    }
}

/// The side that is kept, by its keys.
struct JoinTable {
    rows: Batch,
    keys: Vec<Vec<Value>>,
    by_key: HashMap<Vec<Value>, Vec<u32>>,
    /// Whether the values of each key can all be compared with each other; with which, the first says.
    kinds: Vec<Kinds>,
}

pub(super) enum Kinds {
    None,
    One(Value),
    Several,
}

impl Kinds {
    pub fn see(&mut self, value: &Value) {
        match self {
            Kinds::None => *self = Kinds::One(value.clone()),
            Kinds::One(first) if first.kind_order(value).is_eq() => {}
            _ => *self = Kinds::Several,
        }
    }

    /// Whether `value` can be compared with all of them.
    pub fn take(&self, value: &Value) -> bool {
        match self {
            Kinds::None => true,
            // Lists and records may hold what cannot be compared.
            Kinds::One(first) => {
                first.kind_order(value).is_eq() && !matches!(value, Value::List(_) | Value::Record(_))
            }
            Kinds::Several => false,
        }
    }
}

struct HashJoinRun {
    spec: Arc<HashJoin>,
    /// The side whose rows look for their matches.
    input: Input,
    kept_input: Input,
    kept: Option<JoinTable>,
    of_texts: TextMatches,
}

/// The kept rows that match a text, by its table and code there; `None` where it has not come yet.
type TextMatches = Vec<Vec<Option<Box<[u32]>>>>;

/// The values of a row's keys; `None` where one of them is equal to nothing, itself included.
fn key(
    expressions: &[Expr], batch: &Batch, row: usize, context: &mut Context,
) -> Outcome<Option<Vec<Value>>> {
    let counters = &mut context.metrics[context.current].counters;
    let mut evaluator = Evaluator { scope: &context.scope, counters };
    let mut values = Vec::with_capacity(expressions.len());
    for expression in expressions {
        let value = evaluator.value(expression, Row { batch, row, locals: &[] })?;
        if value.is_null() {
            return Ok(None);
        }
        values.push(value);
    }
    Ok(Some(values))
}

impl JoinTable {
    fn of(rows: Batch, expressions: &[Expr], context: &mut Context) -> Outcome<JoinTable> {
        let mut table = JoinTable { keys: vec![], by_key: HashMap::new(), kinds: vec![], rows };
        table.kinds.resize_with(expressions.len(), || Kinds::None);
        for row in 0..table.rows.len {
            context.work(1)?;
            let values = key(expressions, &table.rows, row, context)?.unwrap_or_default();
            table.kinds.iter_mut().zip(&values).for_each(|(kinds, value)| kinds.see(value));
            if !values.is_empty() && values.iter().all(Value::equals_itself) {
                table.by_key.entry(values.clone()).or_default().push(row as u32);
            }
            table.keys.push(values);
        }
        Ok(table)
    }

    /// Adds each kept row that matches to `found`: by hashing where the values can be compared with all
    /// of them, and pair by pair where they cannot, so that what is an error without hashing is one.
    fn each_match(
        &self, values: &[Value], spec: &HashJoin, found: &mut Vec<u32>, context: &mut Context,
    ) -> Outcome<()> {
        if self.kinds.iter().zip(values).all(|(kinds, value)| kinds.take(value)) {
            context.work(1)?;
            if values.iter().all(Value::equals_itself) {
                found.extend(self.by_key.get(values).into_iter().flatten());
            }
            return Ok(());
        }
        'rows: for (row, other) in self.keys.iter().enumerate() {
            context.work(1)?;
            if other.is_empty() {
                continue;
            }
            for ((a, b), place) in values.iter().zip(other).zip(spec.asking_keys()) {
                if a.equals(b).map_err(|e| located(e, place.span))? != Some(true) {
                    continue 'rows;
                }
            }
            found.push(row as u32);
        }
        Ok(())
    }
}

/// The texts that the only key of the asking side is read from.
struct Texts<'a> {
    columns: TextColumns<'a>,
    ids: &'a [u32],
}

impl<'a> Texts<'a> {
    fn of(keys: &[Expr], batch: &'a Batch, scope: &'a Scope) -> Option<Texts<'a>> {
        let [key] = keys else { return None };
        let only = key.only_property()?;
        let Some(Vector::Nodes(ids) | Vector::Edges(ids)) = batch.columns.get(only.slot) else { return None };
        Some(Texts { columns: TextColumns::of(only.element, only.reader, scope)?, ids })
    }
}

/// What is known of the text at a place.
fn text_matches<'m>(
    known: &'m mut TextMatches, texts: &Texts<'_>, place: TextPlace, context: &mut Context,
) -> Outcome<&'m mut Option<Box<[u32]>>> {
    known.resize_with(texts.columns.tables(), Vec::new);
    let of_table = &mut known[place.table];
    if of_table.is_empty() {
        let places = texts.columns.places(place.table);
        context.reserve(places * size_of::<Option<Box<[u32]>>>())?;
        of_table.resize_with(places, || None);
    }
    Ok(&mut of_table[place.code as usize])
}

impl Operator for HashJoinRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.kept.is_none() {
            let Some(rows) = drain(&mut self.kept_input, context)? else { return Ok(None) };
            context.reserve(128 * rows.len)?;
            self.kept = Some(JoinTable::of(rows, self.spec.kept_keys(), context)?);
        }
        let Some(table) = &self.kept else { return Ok(None) };
        let spec = self.spec.clone();
        while let Some(batch) = self.input.next(context)? {
            let (mut asking, mut matching) = (vec![], vec![]);
            let mut counts = spec.counting.map(|_| Vec::with_capacity(batch.len));
            let scope = context.scope.clone();
            let texts = Texts::of(spec.asking_keys(), &batch, &scope);
            for row in 0..batch.len {
                context.metrics[context.current].counters.index_probes += 1;
                if let Some(texts) = &texts
                    && let Some(place) = texts.columns.place(texts.ids[row], &scope)
                {
                    let known = text_matches(&mut self.of_texts, texts, place, context)?;
                    if known.is_none() {
                        let mut found = vec![];
                        if let Some(values) = key(spec.asking_keys(), &batch, row, context)? {
                            table.each_match(&values, &spec, &mut found, context)?;
                        }
                        context.reserve(4 * found.len())?;
                        *known = Some(found.into());
                    } else {
                        context.metrics[context.current].counters.properties_read += 1;
                        context.work(1)?;
                    }
                    match &mut counts {
                        Some(counts) => counts.push(known.as_ref().map_or(0, |known| known.len() as u64)),
                        None => matching.extend(known.iter().flatten()),
                    }
                    asking.resize(matching.len(), row as u32);
                    continue;
                }
                if let Some(values) = key(spec.asking_keys(), &batch, row, context)? {
                    table.each_match(&values, &spec, &mut matching, context)?;
                }
                if let Some(counts) = &mut counts {
                    counts.push(matching.len() as u64);
                    matching.clear();
                }
                asking.resize(matching.len(), row as u32);
            }
            if let (Some(counting), Some(counts)) = (spec.counting, counts) {
                return Ok(Some(counting.batch(batch, counts, context)));
            }
            if !asking.is_empty() {
                let (mut out, mut other) = (batch.gather(&asking), table.rows.gather(&matching));
                if spec.kept == JoinSide::Left {
                    std::mem::swap(&mut out, &mut other);
                }
                out.columns.extend(other.columns);
                return Ok(Some(out));
            }
        }
        Ok(None)
    }
}
