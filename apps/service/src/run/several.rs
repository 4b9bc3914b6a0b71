//! Queries over several graphs, or several versions of one: each linear query reads one of them, and values pass
//! from one to the next. Elements do not: their ids mean other elements in another graph.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use axum::response::Response;
use graphodrome_engine::{Batch, Code, MemoryShare, prepare_by, value_bytes};
use graphodrome_formats::ResultFormat;
use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::ast::{
    At, Clause, Composite, Expression, ExpressionKind, Linear, Name, Page, Part, Query, Return, ReturnItem,
    same_moment,
};
use graphodrome_language::{Diagnostic, Span};
use graphodrome_store::GraphHandle;

use super::{QueryRequest, Run, Session, Terms, graph_named, past, terms_in, time_is_up, values_only};
use crate::problem::Problem;
use crate::running::RunningKind;
use crate::state::App;

/// The parameter that carries rows on, and the variable that goes through them. No text has such names.
const ROWS: &str = "#rows";
const ROW: &str = "#row";

/// What a linear query is about.
type Home = Option<(Name, Option<At>)>;

fn same_home(a: &Home, b: &Home) -> bool {
    match (a, b) {
        (Some((a, at)), Some((b, bt))) => a.text == b.text && same_moment(at.as_ref(), bt.as_ref()),
        (a, b) => a.is_none() && b.is_none(),
    }
}

/// What each linear query is about, in their order: where one does not say it, what the one before is about.
fn homes(query: &Query) -> Vec<Home> {
    let mut last: Home = None;
    let linears = query.parts.iter().flat_map(|part| {
        std::iter::once(&part.composite.first).chain(part.composite.others.iter().map(|(_, linear)| linear))
    });
    linears
        .map(|linear| {
            if let Some(graph) = &linear.graph {
                last = Some((graph.clone(), linear.at.clone()));
            }
            last.clone()
        })
        .collect()
}

/// Whether its linear queries are about several graphs or versions. `usual` is the graph of those that say nothing before
/// any has said something; without one the first that says something speaks for them.
pub(super) fn is_of_several(query: &Query, usual: Option<&str>) -> bool {
    let homes = homes(query);
    let first = match (usual, homes.first()) {
        (Some(usual), Some(None)) => Some((Name { text: usual.into(), span: Span::default() }, None)),
        _ => homes.iter().flatten().next().cloned(),
    };
    homes.iter().any(|home| home.is_some() && !same_home(home, &first))
}

/// Rows that go on, as a list of records for a parameter.
#[derive(Clone)]
struct Rows {
    columns: Vec<Column>,
    value: Value,
    bytes: u64,
    /// They are accounted for as long as somebody has them.
    share: Arc<MemoryShare>,
}

#[derive(Clone)]
struct Column {
    /// What it is called in the records.
    field: Arc<str>,
    /// What it is called from here on.
    name: Arc<str>,
}

impl Rows {
    /// Only these columns, called so from here on.
    fn renamed(self, yields: &[(Name, Name)]) -> Result<Rows, Diagnostic> {
        let column = |(name, alias): &(Name, Name)| {
            let found = self.columns.iter().find(|column| column.name == name.text);
            let column = found
                .ok_or_else(|| Diagnostic::unknown(name.span, format!("there is no column {}", name.text)))?;
            Ok(Column { field: column.field.clone(), name: alias.text.clone() })
        };
        Ok(Rows { columns: yields.iter().map(column).collect::<Result<_, _>>()?, ..self })
    }
}

fn variable(name: &str, span: Span) -> Expression {
    Expression { kind: ExpressionKind::Variable(name.into()), span }
}

/// Clauses that go through rows which a parameter carries.
fn through(parameter: &str, columns: &[Column], span: Span) -> Vec<Clause> {
    let name = |text: &str| Name { text: text.into(), span };
    let list = Expression { kind: ExpressionKind::Parameter(parameter.into()), span };
    let field = |column: &Column| {
        let row = Box::new(variable(ROW, span));
        let value = ExpressionKind::Property(row, name(&column.field));
        (name(&column.name), Expression { kind: value, span })
    };
    let each = Clause::For { variable: name(ROW), list, counter: None };
    if columns.is_empty() {
        return vec![each];
    }
    vec![each, Clause::Let(columns.iter().map(field).collect())]
}

/// A query of one linear query, after the rows that go on into it.
fn alone(linear: &Linear, before: Option<&Rows>) -> Query {
    let mut linear = Linear { graph: None, at: None, ..linear.clone() };
    if let Some(rows) = before {
        linear.clauses.splice(0..0, through(ROWS, &rows.columns, linear.span));
    }
    let span = linear.span;
    Query { parts: vec![Part { yields: None, composite: Composite { first: linear, others: vec![] } }], span }
}

/// The conjunction of results that parameters carry.
fn joined(composite: &Composite, tables: &[Rows]) -> Query {
    let linear = |place: usize, of: &Linear| {
        let span = of.span;
        let columns = &tables[place].columns;
        let mut clauses = through(&format!("{ROWS}{place}"), columns, span);
        let item = |column: &Column| ReturnItem {
            expression: variable(&column.name, span),
            name: column.name.clone(),
            named: true,
        };
        clauses.push(Clause::Return(Return {
            distinct: false,
            items: columns.iter().map(item).collect(),
            group_by: None,
            having: None,
            page: Page::default(),
            span,
        }));
        Linear { graph: None, at: None, clauses, span }
    };
    let others = composite.others.iter().enumerate();
    let others = others.map(|(i, (conjunction, of))| (*conjunction, linear(i + 1, of))).collect();
    let span = composite.first.span;
    let composite = Composite { first: linear(0, &composite.first), others };
    Query { parts: vec![Part { yields: None, composite }], span }
}

/// Whether it is an element, or holds one.
fn holds_element(value: &Value) -> bool {
    match value {
        Value::Node(_) | Value::Edge(_) | Value::Path(_) => true,
        Value::List(items) => items.iter().any(holds_element),
        Value::Record(fields) => fields.iter().any(|(_, value)| holds_element(value)),
        _ => false,
    }
}

/// One query over several graphs.
struct Several<'a> {
    app: &'a Arc<App>,
    request: &'a QueryRequest,
    session: &'a mut Session,
    text: String,
    arrived: Instant,
    /// The newest states of all graphs, of one moment, by the graphs' ids.
    newest: HashMap<i64, Arc<Snapshot>>,
}

impl Several<'_> {
    /// What is left of the query's time, with the parameters of request and session.
    fn terms(&self) -> Result<Terms, Problem> {
        let mut terms = terms_in(self.app, self.request, self.session)?;
        if let Some(time) = terms.limits.time {
            let left = time.checked_sub(self.arrived.elapsed()).filter(|left| !left.is_zero());
            terms.limits.time = Some(left.ok_or_else(|| time_is_up(time))?);
        }
        Ok(terms)
    }

    async fn home(&mut self, home: &Home) -> Result<(Arc<GraphHandle>, Arc<Snapshot>), Problem> {
        let graph = graph_named(self.app, home.as_ref().map(|(name, _)| name), self.request, self.session)?;
        // The moment alone matters of a query that names the graph so; where the text names none, the request says it.
        let naming = Linear {
            graph: home.as_ref().map(|(name, _)| name.clone()),
            at: home.as_ref().and_then(|(_, at)| at.clone()),
            clauses: vec![],
            span: home.as_ref().map(|(name, _)| name.span).unwrap_or_default(),
        };
        let state = past::state(self.app, &graph, &Query::of(naming), self.request, &self.terms()?).await?;
        let snapshot = match (state, &mut self.session.transaction) {
            (Some(state), _) => state,
            (None, Some(open)) => open.snapshot(&self.app.catalog, &graph)?,
            (None, None) => self.newest.get(&graph.id).cloned().unwrap_or_else(|| graph.snapshot()),
        };
        Ok((graph, snapshot))
    }

    /// All rows of a query that is about one graph, or about none, beside those that are carried already.
    async fn rows(
        &mut self, query: Query, home: Option<&Home>, carried: &[(String, Rows)],
    ) -> Result<Rows, Problem> {
        let (name, snapshot) = match home {
            Some(home) => {
                let (graph, snapshot) = self.home(home).await?;
                (graph.name.clone(), snapshot)
            }
            None => (String::new(), Arc::new(Snapshot::empty(None).map_err(Problem::from_graph)?)),
        };
        let mut terms = self.terms()?;
        let most = terms.limits.memory_bytes;
        terms.carries(carried);
        let Terms { rules, parameters, limits, .. } = terms;
        let slot = self.app.slot(limits.time.unwrap_or(self.app.limits.query_time)).await?;
        let entry = self.app.running.enter(RunningKind::Query, &name, &self.request.text);
        let limits = entry.runs(limits);
        let (text, pool) = (self.text.clone(), self.app.memory.clone());
        let work = move || -> Result<Rows, Problem> {
            let _slot = slot;
            let failed = |d: Diagnostic| Problem::from_diagnostic(d, &text);
            let left = limits.memory_bytes;
            let prepared = prepare_by(&query, &text, &snapshot, &parameters, rules)
                .map_err(|e| Problem::from_query(&e, &text))?;
            let columns = prepared.columns.as_deref().unwrap_or_default();
            let names: Vec<Arc<str>> = columns.iter().map(|column| Arc::from(column.name.as_str())).collect();
            let mut execution = prepared.run(snapshot.clone(), &parameters, limits);
            let mut gathered =
                Gathered { rows: vec![], bytes: 0, most, left, share: pool.share(), span: query.span };
            while let Some(batch) = execution.next_batch().map_err(failed)? {
                gathered.take(&batch, &names).map_err(failed)?;
            }
            let Gathered { rows, bytes, share, .. } = gathered;
            let columns = names.into_iter().map(|name| Column { field: name.clone(), name }).collect();
            Ok(Rows { columns, value: Value::List(rows.into()), bytes, share: Arc::new(share) })
        };
        let rows = tokio::task::spawn_blocking(work).await??;
        entry.finish();
        Ok(rows)
    }

    /// The results of linear queries that are joined, as parameters.
    async fn tables(
        &mut self, composite: &Composite, homes: &[Home], before: Option<&Rows>,
    ) -> Result<Vec<Rows>, Problem> {
        let linears = std::iter::once(&composite.first).chain(composite.others.iter().map(|(_, l)| l));
        let mut carried = carried_on(before);
        let given = carried.len();
        for (place, (linear, home)) in linears.zip(homes).enumerate() {
            let rows = self.rows(alone(linear, before), Some(home), &carried).await?;
            carried.push((format!("{ROWS}{place}"), rows));
        }
        Ok(carried.into_iter().skip(given).map(|(_, rows)| rows).collect())
    }
}

/// Rows as they come, within what the query may still hold.
struct Gathered {
    rows: Vec<Value>,
    bytes: u64,
    /// What the query may hold altogether, and what is left of it beside the rows that are carried already.
    most: u64,
    left: u64,
    share: MemoryShare,
    span: Span,
}

impl Gathered {
    fn take(&mut self, batch: &Batch, names: &[Arc<str>]) -> Result<(), Diagnostic> {
        let mut bytes = 0;
        for row in 0..batch.len {
            let fields = names.iter().cloned().zip(batch.columns.iter().map(|column| column.get(row)));
            let record = Value::Record(fields.collect());
            if holds_element(&record) {
                let text = "an element of one graph cannot go on into another";
                let error = Diagnostic::error(graphodrome_graph::Code::WRONG_TYPE, self.span, text);
                return Err(error.hint("return what is wanted of it: its key, or other properties"));
            }
            bytes += value_bytes(&record) as u64;
            self.rows.push(record);
        }
        self.bytes += bytes;
        self.share.grow(bytes)?;
        if self.bytes > self.left {
            let text = format!("the rows that go on need more than the query's {} MiB", self.most >> 20);
            let error = Diagnostic::error(graphodrome_graph::Code(Code::MEMORY_LIMIT), self.span, text);
            return Err(error.hint("return fewer rows or columns before NEXT"));
        }
        Ok(())
    }
}

/// What is within a linear query is about the same graph as it is.
fn refuse_within(query: &Query, homes: &[Home], text: &str) -> Result<(), Problem> {
    for (linear, home) in query.linears().zip(homes) {
        let within = Query::of(Linear { graph: None, at: None, ..linear.clone() });
        for (name, at) in within.graphs() {
            if !same_home(&Some((name.clone(), at.cloned())), home) {
                let error =
                    Diagnostic::syntax(name.span, "a query within another one is about the same graph")
                        .hint("ask the other graph first, and go on from its rows with NEXT");
                return Err(Problem::from_diagnostic(error, text));
            }
        }
    }
    Ok(())
}

fn carried_on(before: Option<&Rows>) -> Vec<(String, Rows)> {
    before.iter().map(|rows| (ROWS.to_string(), (*rows).clone())).collect()
}

impl Terms {
    /// Has the query run with rows that are carried into it.
    fn carries(&mut self, carried: &[(String, Rows)]) {
        let bytes = carried.iter().map(|(_, rows)| rows.bytes).sum();
        self.limits.memory_bytes = self.limits.memory_bytes.saturating_sub(bytes);
        self.limits.shares = carried.iter().map(|(_, rows)| rows.share.clone()).collect();
        self.parameters.extend(carried.iter().map(|(name, rows)| (name.clone(), rows.value.clone())));
    }
}

/// Runs the parts in turn, each over its own graph, and answers with the last one's result.
pub(super) async fn run(
    app: &Arc<App>, query: Query, (text, request): (&str, &QueryRequest), session: &mut Session,
    format: ResultFormat, last: bool,
) -> Result<Response, Problem> {
    let refused = |text: &str, hint: &str| Err(Problem::bad_request(text).hint(hint));
    if query.changes() {
        return refused(
            "a query over several graphs only reads",
            "change each graph with a query of its own; START TRANSACTION makes the changes one",
        );
    }
    refuse_within(&query, &homes(&query), text)?;
    let newest = app.catalog.snapshots().into_iter().map(|(graph, snapshot)| (graph.id, snapshot)).collect();
    let (text_of, arrived) = (text.to_string(), Instant::now());
    let mut several = Several { app, request, session, text: text_of, arrived, newest };
    let homes = homes(&query);
    let mut homes = &homes[..];
    let mut before: Option<Rows> = None;
    let count = query.parts.len();
    for (place, part) in query.parts.iter().enumerate() {
        let Part { yields, composite } = part;
        if let Some(yields) = yields
            && let Some(rows) = before.take()
        {
            before = Some(rows.renamed(yields).map_err(|d| Problem::from_diagnostic(d, text))?);
        }
        let (own, rest) = homes.split_at(1 + composite.others.len());
        homes = rest;
        let is_last = place + 1 == count;
        let carried = carried_on(before.as_ref());
        if composite.others.is_empty() {
            let query = alone(&composite.first, before.as_ref());
            if is_last {
                let (graph, snapshot) = several.home(&own[0]).await?;
                let mut terms = several.terms()?;
                terms.carries(&carried);
                let run = Run::new(app, graph, text.to_string(), request.truncate, terms);
                return Run { query: Some(query), ..run }.of_the_past(Some(snapshot), format, last).await;
            }
            before = Some(several.rows(query, Some(&own[0]), &carried).await?);
            continue;
        }
        let tables = several.tables(composite, own, before.as_ref()).await?;
        let query = joined(composite, &tables);
        let named = tables.into_iter().enumerate().map(|(place, rows)| (format!("{ROWS}{place}"), rows));
        let carried: Vec<(String, Rows)> = named.collect();
        if is_last {
            let mut terms = several.terms()?;
            terms.carries(&carried);
            return values_only(app, query, text, request, terms, format).await;
        }
        before = Some(several.rows(query, None, &carried).await?);
    }
    Err(Problem::bad_request("the query has no part"))
}
