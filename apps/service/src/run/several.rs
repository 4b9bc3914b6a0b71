//! Queries over several graphs, or several versions of one: each linear query is about one of them, and values go on from
//! one to the next. Elements do not: what they are called by in one graph is another element, or none, in the next.

use std::sync::Arc;
use std::time::Instant;

use axum::response::Response;
use graphodrome_engine::{Code, Parameters, prepare_by, value_bytes};
use graphodrome_formats::ResultFormat;
use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::ast::{
    At, Clause, Composite, Expression, ExpressionKind, Linear, Name, Page, Part, Query, Return, ReturnItem,
    same_moment,
};
use graphodrome_language::{Diagnostic, Span};
use graphodrome_store::GraphHandle;

use super::{QueryRequest, Run, Session, Terms, graph_named, past, terms, time_is_up, values_only};
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

/// Rows that go on.
struct Rows {
    columns: Vec<Arc<str>>,
    rows: Vec<Vec<Value>>,
}

impl Rows {
    /// As a parameter: a list of records.
    fn value(self) -> Value {
        let columns = self.columns;
        let record = |row: Vec<Value>| Value::Record(columns.iter().cloned().zip(row).collect());
        Value::List(self.rows.into_iter().map(record).collect())
    }

    /// Only these columns, called so from here on.
    fn renamed(
        self, yields: &[(Name, Name)], failed: impl Fn(Diagnostic) -> Problem,
    ) -> Result<Rows, Problem> {
        let place = |name: &Name| {
            let found = self.columns.iter().position(|column| *column == name.text);
            found.ok_or_else(|| Diagnostic::unknown(name.span, format!("there is no column {}", name.text)))
        };
        let places: Vec<usize> =
            yields.iter().map(|(name, _)| place(name)).collect::<Result<_, _>>().map_err(failed)?;
        let taken = |row: Vec<Value>| places.iter().map(|place| row[*place].clone()).collect();
        Ok(Rows {
            columns: yields.iter().map(|(_, alias)| alias.text.clone()).collect(),
            rows: self.rows.into_iter().map(taken).collect(),
        })
    }
}

fn variable(name: &str, span: Span) -> Expression {
    Expression { kind: ExpressionKind::Variable(name.into()), span }
}

/// Clauses that go through rows which a parameter carries.
fn through(parameter: &str, columns: &[Arc<str>], span: Span) -> Vec<Clause> {
    let name = |text: &str| Name { text: text.into(), span };
    let list = Expression { kind: ExpressionKind::Parameter(parameter.into()), span };
    let field = |column: &Arc<str>| {
        let row = Box::new(variable(ROW, span));
        (name(column), Expression { kind: ExpressionKind::Property(row, name(column)), span })
    };
    let each = Clause::For { variable: name(ROW), list, counter: None };
    if columns.is_empty() {
        return vec![each];
    }
    vec![each, Clause::Let(columns.iter().map(field).collect())]
}

/// A query of one linear query, after the rows that go on into it.
fn alone(linear: &Linear, before: Option<&[Arc<str>]>) -> Query {
    let mut linear = Linear { graph: None, at: None, ..linear.clone() };
    if let Some(columns) = before {
        linear.clauses.splice(0..0, through(ROWS, columns, linear.span));
    }
    let span = linear.span;
    Query { parts: vec![Part { yields: None, composite: Composite { first: linear, others: vec![] } }], span }
}

/// The conjunction of results that parameters carry.
fn joined(composite: &Composite, tables: &[Vec<Arc<str>>]) -> Query {
    let linear = |place: usize, of: &Linear| {
        let span = of.span;
        let mut clauses = through(&format!("{ROWS}{place}"), &tables[place], span);
        let item = |column: &Arc<str>| ReturnItem {
            expression: variable(column, span),
            name: column.clone(),
            named: true,
        };
        clauses.push(Clause::Return(Return {
            distinct: false,
            items: tables[place].iter().map(item).collect(),
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
    session: &'a Session,
    text: String,
    arrived: Instant,
}

impl Several<'_> {
    /// What is left of the query's time, with the parameters of request and session.
    fn terms(&self) -> Result<Terms, Problem> {
        let mut terms = terms(self.app, self.request)?;
        for (name, value) in &self.session.parameters {
            terms.parameters.entry(name.clone()).or_insert_with(|| value.clone());
        }
        terms.limits.zone = self.session.zone;
        if let Some(time) = terms.limits.time {
            let left = time.checked_sub(self.arrived.elapsed()).filter(|left| !left.is_zero());
            terms.limits.time = Some(left.ok_or_else(|| time_is_up(time))?);
        }
        Ok(terms)
    }

    async fn home(&self, home: &Home) -> Result<(Arc<GraphHandle>, Arc<Snapshot>), Problem> {
        let graph = graph_named(self.app, home.as_ref().map(|(name, _)| name), self.request, self.session)?;
        let Some((name, at)) = home else {
            let snapshot = graph.snapshot();
            return Ok((graph, snapshot));
        };
        // The moment alone matters of a query that names the graph so.
        let naming = Linear { graph: Some(name.clone()), at: at.clone(), clauses: vec![], span: name.span };
        let state = past::state(self.app, &graph, &Query::of(naming), self.request, &self.terms()?).await?;
        let snapshot = state.unwrap_or_else(|| graph.snapshot());
        Ok((graph, snapshot))
    }

    /// All rows of a query that is about one graph, or about none.
    async fn rows(&self, query: Query, home: Option<&Home>, more: Parameters) -> Result<Rows, Problem> {
        let (name, snapshot) = match home {
            Some(home) => {
                let (graph, snapshot) = self.home(home).await?;
                self.app.check_granted(&graph.name, &self.text)?;
                (graph.name.clone(), snapshot)
            }
            None => (String::new(), Arc::new(Snapshot::empty(None).map_err(Problem::from_graph)?)),
        };
        let Terms { rules, mut parameters, limits, .. } = self.terms()?;
        parameters.extend(more);
        let slot = self.app.slot(limits.time.unwrap_or(self.app.limits.query_time)).await?;
        let entry = self.app.running.enter(RunningKind::Query, &name, &self.request.text);
        let limits = entry.runs(limits);
        let text = self.text.clone();
        let work = move || -> Result<Rows, Problem> {
            let _slot = slot;
            let failed = |d: Diagnostic| Problem::from_diagnostic(d, &text);
            let most = limits.memory_bytes;
            let prepared = prepare_by(&query, &text, &snapshot, &parameters, rules)
                .map_err(|e| Problem::from_query(&e, &text))?;
            let columns = prepared.columns.as_deref().unwrap_or_default();
            let columns = columns.iter().map(|column| Arc::from(column.name.as_str())).collect();
            let mut execution = prepared.run(snapshot.clone(), &parameters, limits);
            let (mut rows, mut bytes) = (vec![], 0u64);
            while let Some(batch) = execution.next_batch().map_err(failed)? {
                for row in 0..batch.len {
                    let row: Vec<Value> = batch.columns.iter().map(|column| column.get(row)).collect();
                    if row.iter().any(holds_element) {
                        let text = "an element of one graph cannot go on into another";
                        let error = Diagnostic::error(graphodrome_graph::Code::WRONG_TYPE, query.span, text);
                        return Err(failed(
                            error.hint("return what is wanted of it: its key, or other properties"),
                        ));
                    }
                    bytes += row.iter().map(|value| value_bytes(value) as u64).sum::<u64>();
                    rows.push(row);
                }
                if bytes > most {
                    let text = format!("the rows that go on need more than the query's {} MiB", most >> 20);
                    let error =
                        Diagnostic::error(graphodrome_graph::Code(Code::MEMORY_LIMIT), query.span, text);
                    return Err(failed(error.hint("return fewer rows or columns before NEXT")));
                }
            }
            Ok(Rows { columns, rows })
        };
        let rows = tokio::task::spawn_blocking(work).await??;
        entry.finish();
        Ok(rows)
    }

    /// The results of linear queries that are joined, as parameters, with their columns.
    async fn tables(
        &self, composite: &Composite, homes: &[Home], before: &Option<(Vec<Arc<str>>, Value)>,
    ) -> Result<(Parameters, Vec<Vec<Arc<str>>>), Problem> {
        let linears = std::iter::once(&composite.first).chain(composite.others.iter().map(|(_, l)| l));
        let (mut carried, mut columns) = (Parameters::new(), vec![]);
        for (place, (linear, home)) in linears.zip(homes).enumerate() {
            let query = alone(linear, before.as_ref().map(|(columns, _)| &columns[..]));
            let rows = self.rows(query, Some(home), carried_on(before)).await?;
            columns.push(rows.columns.clone());
            carried.insert(format!("{ROWS}{place}"), rows.value());
        }
        Ok((carried, columns))
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

fn carried_on(before: &Option<(Vec<Arc<str>>, Value)>) -> Parameters {
    before.iter().map(|(_, rows)| (ROWS.to_string(), rows.clone())).collect()
}

/// Runs the parts in turn, each over its own graph, and answers with the last one's result.
pub(super) async fn run(
    app: &Arc<App>, query: Query, text: &str, request: &QueryRequest, session: &Session,
    format: ResultFormat, last: bool,
) -> Result<Response, Problem> {
    let refused = |text: &str, hint: &str| Err(Problem::bad_request(text).hint(hint));
    if query.changes() {
        return refused(
            "a query over several graphs only reads",
            "change each graph with a query of its own",
        );
    }
    if session.transaction.is_some() {
        return refused("a transaction is about one graph", "COMMIT it first");
    }
    refuse_within(&query, &homes(&query), text)?;
    let several = Several { app, request, session, text: text.to_string(), arrived: Instant::now() };
    let homes = homes(&query);
    let mut homes = &homes[..];
    let mut before: Option<(Vec<Arc<str>>, Value)> = None;
    let count = query.parts.len();
    for (place, part) in query.parts.iter().enumerate() {
        let Part { yields, composite } = part;
        if let Some(yields) = yields
            && let Some((columns, value)) = before.take()
        {
            let failed = |d: Diagnostic| Problem::from_diagnostic(d, text);
            let rows = match value {
                Value::List(rows) => rows.iter().map(fields_of).collect(),
                _ => vec![],
            };
            let rows = Rows { columns, rows }.renamed(yields, failed)?;
            before = Some((rows.columns.clone(), rows.value()));
        }
        let (own, rest) = homes.split_at(1 + composite.others.len());
        homes = rest;
        let columns = before.as_ref().map(|(columns, _)| columns.clone());
        let is_last = place + 1 == count;
        if composite.others.is_empty() {
            let query = alone(&composite.first, columns.as_deref());
            if is_last {
                let (graph, snapshot) = several.home(&own[0]).await?;
                let mut terms = several.terms()?;
                terms.parameters.extend(carried_on(&before));
                let run = Run::new(app, graph, text.to_string(), request.truncate, terms);
                return Run { query: Some(query), ..run }.of_the_past(Some(snapshot), format, last).await;
            }
            let rows = several.rows(query, Some(&own[0]), carried_on(&before)).await?;
            before = Some((rows.columns.clone(), rows.value()));
            continue;
        }
        let (carried, columns) = several.tables(composite, own, &before).await?;
        let query = joined(composite, &columns);
        if is_last {
            return values_only(app, query, text, request, session, format, carried).await;
        }
        let rows = several.rows(query, None, carried).await?;
        before = Some((rows.columns.clone(), rows.value()));
    }
    Err(Problem::bad_request("the query has no part"))
}

fn fields_of(record: &Value) -> Vec<Value> {
    match record {
        Value::Record(fields) => fields.iter().map(|(_, value)| value.clone()).collect(),
        _ => vec![],
    }
}
