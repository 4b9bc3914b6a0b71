//! Clauses, results and queries out of queries: each from all rows of the one before.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::pattern_variables;

use super::expressions::fold;
use super::{Datum, Graph, Matcher, Row, Trouble};

type Result<T> = std::result::Result<T, Trouble>;

/// The columns of one row, in order.
pub type Columns = Vec<(Arc<str>, Datum)>;

/// An answer as text, and whether its order is settled.
pub struct Answered {
    pub rows: Vec<Vec<String>>,
    pub ordered: bool,
}

/// What a query says of a graph. `steps` bounds the edges that are tried.
pub fn answer(graph: &Graph, query: &Query, longest: usize, steps: u64) -> Result<Answered> {
    let matcher = Matcher::new(graph, longest, steps);
    let rows = matcher.query(query, vec![Row::new()]);
    if let Some(trouble) = *matcher.failed.borrow() {
        return Err(trouble);
    }
    let rows: Vec<Vec<String>> =
        rows?.iter().map(|row| row.iter().map(|(_, d)| d.text(graph)).collect()).collect();
    Ok(Answered { rows, ordered: !matcher.mixed_order.get() })
}

impl Matcher<'_> {
    /// The rows of a query that goes on from these.
    pub(super) fn query(&self, query: &Query, mut rows: Vec<Row>) -> Result<Vec<Columns>> {
        let mut found = vec![];
        for part in &query.parts {
            if let Some(yields) = &part.yields {
                let taken = |row: &Row| -> Row {
                    yields.iter().map(|(name, to)| (to.text.clone(), row[&name.text].clone())).collect()
                };
                rows = rows.iter().map(taken).collect();
            }
            found = self.composite(&part.composite, &rows)?;
            rows = found.iter().map(|columns| columns.iter().cloned().collect()).collect();
        }
        Ok(found)
    }

    fn composite(&self, composite: &Composite, rows: &[Row]) -> Result<Vec<Columns>> {
        let mut left = self.linear(&composite.first, rows.to_vec())?;
        for (conjunction, linear) in &composite.others {
            let right = || self.linear(linear, rows.to_vec());
            left = match conjunction {
                Conjunction::Otherwise if left.is_empty() => right()?,
                Conjunction::Otherwise => left,
                Conjunction::Union { all } => {
                    left.extend(right()?);
                    if *all { left } else { distinct(left) }
                }
                Conjunction::Except { all } => without(left, right()?, *all),
                Conjunction::Intersect { all } => {
                    let right = right()?;
                    let only_left = without(left.clone(), right, *all);
                    // Of a multiset what is in both is what is left when the rest is taken away.
                    without(left, only_left, *all)
                }
            };
        }
        Ok(left)
    }

    fn linear(&self, linear: &Linear, mut rows: Vec<Row>) -> Result<Vec<Columns>> {
        for clause in &linear.clauses {
            rows = match clause {
                Clause::Return(result) => return self.result(result, rows),
                Clause::Match { optional, pattern, .. } => self.matching(pattern, *optional, rows)?,
                Clause::Filter(condition) => {
                    let mut kept = vec![];
                    for row in rows {
                        if self.truth(condition, &row)? == Some(true) {
                            kept.push(row);
                        }
                    }
                    kept
                }
                Clause::Let(items) => {
                    for row in &mut rows {
                        for (name, e) in items {
                            let value = self.value(e, row)?;
                            row.insert(name.text.clone(), value);
                        }
                    }
                    rows
                }
                Clause::For { variable, list, counter: None } => {
                    let mut all = vec![];
                    for row in rows {
                        let items = match self.value(list, &row)? {
                            Datum::List(items) => items,
                            _ => vec![],
                        };
                        for item in items {
                            let mut row = row.clone();
                            row.insert(variable.text.clone(), item);
                            all.push(row);
                        }
                    }
                    all
                }
                Clause::Call { optional, imports, query, .. } => {
                    self.called(query, imports.as_deref(), *optional, rows)?
                }
                Clause::Page(page) => self.paged(page, rows.into_iter().map(|r| (r.clone(), r)).collect())?,
                other => panic!("{other:?}"),
            };
        }
        // An EXISTS of a pattern alone.
        Ok(rows.into_iter().map(|row| row.into_iter().collect()).collect())
    }

    fn matching(&self, pattern: &GraphPattern, optional: bool, rows: Vec<Row>) -> Result<Vec<Row>> {
        let variables = pattern_variables(pattern);
        let groups = variables.iter().filter(|(_, kind)| kind.is_group());
        self.groups.borrow_mut().extend(groups.map(|(name, _)| name.text.clone()));
        let mut all = vec![];
        for row in rows {
            // A variable that is null already matches nothing.
            let lost = variables.iter().any(|(name, _)| row.get(&name.text) == Some(&Datum::Null));
            let mut found = if lost { vec![] } else { self.matches(pattern, &row) };
            if let Some(trouble) = *self.failed.borrow() {
                return Err(trouble);
            }
            if found.is_empty() && optional {
                let mut row = row;
                for (name, _) in &variables {
                    row.entry(name.text.clone()).or_insert(Datum::Null);
                }
                found.push(row);
            }
            all.extend(found);
        }
        Ok(all)
    }

    fn called(
        &self, query: &Query, imports: Option<&[Name]>, optional: bool, rows: Vec<Row>,
    ) -> Result<Vec<Row>> {
        let mut all = vec![];
        for row in rows {
            let seen = |name: &Arc<str>| imports.is_none_or(|names| names.iter().any(|n| n.text == *name));
            let inner = row.iter().filter(|(name, _)| seen(name)).map(|(n, d)| (n.clone(), d.clone()));
            let found = self.query(query, vec![inner.collect()])?;
            if found.is_empty() && optional {
                let mut row = row.clone();
                for item in returned(query) {
                    row.insert(item, Datum::Null);
                }
                all.push(row);
            }
            for columns in found {
                let mut row = row.clone();
                row.extend(columns);
                all.push(row);
            }
        }
        Ok(all)
    }

    fn result(&self, result: &Return, rows: Vec<Row>) -> Result<Vec<Columns>> {
        assert!(!result.items.is_empty(), "RETURN * is written out");
        let over_rows = |e: &Expression| self.over_rows(e);
        let mut made: Vec<(Row, Columns)> = vec![];
        if result.group_by.is_some() || result.items.iter().any(|i| over_rows(&i.expression)) {
            let is_key = |item: &&ReturnItem| match &result.group_by {
                Some(names) => names.iter().any(|n| n.text == item.name),
                None => !over_rows(&item.expression),
            };
            let keys: Vec<&ReturnItem> = result.items.iter().filter(is_key).collect();
            let mut groups: BTreeMap<Vec<Datum>, Vec<Row>> = BTreeMap::new();
            if keys.is_empty() {
                groups.insert(vec![], vec![]);
            }
            for row in rows {
                let key = keys.iter().map(|k| self.value(&k.expression, &row)).collect::<Result<_>>()?;
                groups.entry(key).or_default().push(row);
            }
            for group in groups.into_values() {
                let mut columns = Columns::new();
                for item in &result.items {
                    columns.push((item.name.clone(), self.grouped(&item.expression, &group)?));
                }
                made.push((Row::new(), columns));
            }
        } else {
            for row in rows {
                let mut columns = Columns::new();
                for item in &result.items {
                    columns.push((item.name.clone(), self.value(&item.expression, &row)?));
                }
                made.push((row, columns));
            }
        }
        if result.distinct {
            let columns = distinct(made.into_iter().map(|(_, columns)| columns).collect());
            made = columns.into_iter().map(|columns| (Row::new(), columns)).collect();
        }
        let keyed = made.into_iter().map(|(mut row, columns)| {
            row.extend(columns.iter().cloned());
            (row, columns)
        });
        self.paged(&result.page, keyed.collect())
    }

    /// Whether an aggregate in it is over rows, not along a group.
    fn over_rows(&self, e: &Expression) -> bool {
        match &e.kind {
            ExpressionKind::CountAll => true,
            ExpressionKind::Aggregate { argument, .. } if !self.is_along(argument) => true,
            _ => {
                let mut found = false;
                e.each_part(&mut |part| found |= self.over_rows(part));
                found
            }
        }
    }

    /// What an expression with aggregates is of a group of rows.
    fn grouped(&self, e: &Expression, group: &[Row]) -> Result<Datum> {
        let mut row = group.first().cloned().unwrap_or_default();
        let mut e = e.clone();
        self.settle(&mut e, group, &mut row)?;
        self.value(&e, &row)
    }

    /// Puts a variable that holds its result in the place of each aggregate over rows.
    fn settle(&self, e: &mut Expression, group: &[Row], row: &mut Row) -> Result<()> {
        let settled = match &e.kind {
            ExpressionKind::CountAll => Datum::whole(group.len() as i64),
            ExpressionKind::Aggregate { function, distinct, argument, .. } if !self.is_along(argument) => {
                let values = group.iter().map(|row| self.value(argument, row)).collect::<Result<_>>()?;
                fold(*function, *distinct, values)?
            }
            _ => {
                let mut done = Ok(());
                e.each_part_mut(&mut |part| {
                    let settled = self.settle(part, group, row);
                    if done.is_ok() {
                        done = settled;
                    }
                });
                return done;
            }
        };
        let name: Arc<str> = format!("#{}", row.len()).into();
        row.insert(name.clone(), settled);
        e.kind = ExpressionKind::Variable(name);
        Ok(())
    }

    /// Rows in order and cut, each with what its sort keys read.
    fn paged<T>(&self, page: &Page, mut rows: Vec<(Row, T)>) -> Result<Vec<T>> {
        for key in page.order.iter().rev() {
            let mut keyed = vec![];
            for (row, payload) in rows {
                keyed.push((self.value(&key.expression, &row)?, (row, payload)));
            }
            let comparable = |d: &Datum| matches!(d, Datum::Null | Datum::Number(_));
            if !keyed.iter().all(|(d, _)| comparable(d)) {
                self.mixed_order.set(true);
            }
            keyed.sort_by(|(a, _), (b, _)| {
                let order = match (a, b) {
                    (Datum::Null, Datum::Null) => Ordering::Equal,
                    (Datum::Null, _) => Ordering::Greater,
                    (_, Datum::Null) => Ordering::Less,
                    _ => a.cmp(b),
                };
                if key.descending { order.reverse() } else { order }
            });
            rows = keyed.into_iter().map(|(_, row)| row).collect();
        }
        let count = |e: &Option<Expression>| match e {
            None => Ok(None),
            Some(e) => Ok(self.value(e, &Row::new())?.number()?.map(|halves| (halves / 2) as usize)),
        };
        let (offset, limit) = (count(&page.offset)?, count(&page.limit)?);
        let kept = rows.into_iter().map(|(_, payload)| payload);
        Ok(kept.skip(offset.unwrap_or(0)).take(limit.unwrap_or(usize::MAX)).collect())
    }
}

/// The names of a query's columns.
fn returned(query: &Query) -> Vec<Arc<str>> {
    let last = query.parts.last().unwrap();
    let Some(Clause::Return(result)) = last.composite.first.clauses.last() else { return vec![] };
    result.items.iter().map(|item| item.name.clone()).collect()
}

fn values(columns: &Columns) -> Vec<&Datum> {
    columns.iter().map(|(_, d)| d).collect()
}

fn distinct(rows: Vec<Columns>) -> Vec<Columns> {
    let mut kept: Vec<Columns> = vec![];
    for row in rows {
        if !kept.iter().any(|before| values(before) == values(&row)) {
            kept.push(row);
        }
    }
    kept
}

/// Rows without those of the other side: each as often as it comes there, or however often.
fn without(left: Vec<Columns>, mut right: Vec<Columns>, all: bool) -> Vec<Columns> {
    if !all {
        let mut left = distinct(left);
        left.retain(|row| !right.iter().any(|other| values(other) == values(row)));
        return left;
    }
    let mut kept = vec![];
    for row in left {
        match right.iter().position(|other| values(other) == values(&row)) {
            Some(i) => drop(right.swap_remove(i)),
            None => kept.push(row),
        }
    }
    kept
}
