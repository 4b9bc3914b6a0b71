//! The part of a graph that a measure looks at: as its arguments `nodes`, `edges` and `weight` say, patterns as
//! they stand in a MATCH, or as a view of the graph does.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_algorithms::{Reading, Subgraph};
use graphodrome_graph::{Code, Dense, Direction, LabelExpression, Snapshot, Value, ViewDefinition};
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, Known, Severity, Span, check_query, nearest, parse};

use crate::Parameters;
use crate::batch::Vector;
use crate::context::Context;
use crate::execution::{known_names, prepare};
use crate::outcome::{CHECK_EVERY, Outcome};
use crate::procedures::Given;

/// What a part is asked for by: the same for the same part of the same version.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct PartRequest {
    nodes: Option<Arc<str>>,
    edges: Option<Arc<str>>,
    weight: Option<Arc<str>>,
    /// Whether it has a name, and so is asked for again.
    pub named: bool,
}

impl PartRequest {
    /// `weights`: the name of the argument that names the property, where there is one.
    pub fn of(given: &Given, weights: &str, snapshot: &Snapshot, span: Span) -> Outcome<PartRequest> {
        let text = |name| given.text(name).map(Arc::from);
        let own =
            PartRequest { nodes: text("nodes"), edges: text("edges"), weight: text(weights), named: false };
        let Some(name) = given.text("view") else { return Ok(own) };
        let Some(view) = snapshot.views.iter().find(|view| *view.name == *name) else {
            let near = nearest(name, snapshot.views.iter().map(|view| &*view.name));
            let hint = match near {
                Some(near) => format!("did you mean {near}?"),
                None if snapshot.views.is_empty() => "the graph has none: CREATE GRAPH VIEW makes one".into(),
                None => {
                    let names: Vec<&str> = snapshot.views.iter().map(|view| &*view.name).collect();
                    format!("there is {}", names.join(", "))
                }
            };
            return Err(Diagnostic::unknown(span, format!("there is no view {name}")).hint(hint));
        };
        if own.nodes.is_some() || own.edges.is_some() {
            let text = format!("the view {name} says which nodes and edges are looked at");
            return Err(
                Diagnostic::error(Code::DATA, span, text).hint("give either a view, or nodes and edges")
            );
        }
        // A measure that takes no weight is not changed by one: edges without it are in it.
        let weight = own.weight.or_else(|| view.weight.clone().filter(|_| given.takes(weights)));
        Ok(PartRequest { nodes: view.nodes.clone(), edges: view.edges.clone(), weight, named: true })
    }

    /// Reads the patterns: names, types and conditions, as those of any query.
    fn patterns(
        &self, snapshot: &Snapshot, span: Span, warnings: &mut Vec<Diagnostic>,
    ) -> Outcome<(Option<Chosen>, Option<Chosen>)> {
        let nodes = self.nodes.as_deref().map(|text| node_pattern(text, span)).transpose()?;
        let edges = self.edges.as_deref().map(|text| edge_pattern(text, span)).transpose()?;
        let known = known_names(snapshot);
        for pattern in nodes.iter().chain(&edges) {
            pattern.check(&known, span, warnings)?;
        }
        if let Some(property) = &self.weight
            && !known.edge_properties.contains(property)
        {
            let near = nearest(property, known.edge_properties.iter().map(|p| &**p));
            let problem = Diagnostic::unknown(span, format!("there is no property {property} on any edge"));
            return Err(problem.maybe_hint(near.map(|near| format!("did you mean {near}?"))));
        }
        Ok((nodes, edges))
    }
}

/// Checks what a view names; the warnings, or what is wrong. `span` is where it stands.
pub fn check_view(
    snapshot: &Snapshot, view: &ViewDefinition, span: Span,
) -> Result<Vec<Diagnostic>, Diagnostic> {
    let ViewDefinition { nodes, edges, weight, .. } = view.clone();
    let mut warnings = vec![];
    PartRequest { nodes, edges, weight, named: true }.patterns(snapshot, span, &mut warnings)?;
    Ok(warnings)
}

pub(crate) struct Part {
    pub graph: Subgraph,
    /// The subgraph's own number by the graph's; [`OUTSIDE`] for others.
    numbers: Vec<u32>,
    /// Edges that have no weight, and so are not in it.
    pub without_weight: u64,
    pub bytes: usize,
}

const OUTSIDE: u32 = u32::MAX;

impl Part {
    pub fn number(&self, node: Dense) -> Option<u32> {
        self.numbers.get(node as usize).copied().filter(|n| *n != OUTSIDE)
    }

    pub fn read(request: &PartRequest, span: Span, context: &mut Context) -> Outcome<Part> {
        let snapshot = context.scope.snapshot.clone();
        let (nodes, edges) = request.patterns(&snapshot, span, &mut context.warnings)?;
        let numbers_bytes = snapshot.node_bound() as usize * 4;
        context.reserve(numbers_bytes)?;
        let (chosen, numbers) = chosen_nodes(nodes, &snapshot, span, context)?;
        let direction = edges.as_ref().map_or(Direction::OutOrUndirected, |e| e.direction);
        let labels = edges.as_ref().and_then(|e| e.labels.clone());
        let wanted = match edges {
            Some(pattern) if pattern.has_condition => {
                let bound = snapshot.edge_bound();
                Some(found(pattern.query, request.edges.as_deref(), (&snapshot, bound), span, context)?)
            }
            _ => None,
        };
        let test = snapshot.edge_test(labels.as_ref());
        let mut part =
            Part { graph: Subgraph::new(chosen), numbers, without_weight: 0, bytes: numbers_bytes };
        let reader = request.weight.as_ref().map(|property| (property, snapshot.edge_reader(property)));
        let mut problem = None;
        let mut since_check = 0;
        snapshot.for_each_edge(&test, |edge, (source, target), directed| {
            since_check += 1;
            if since_check == CHECK_EVERY {
                since_check = 0;
                // Its rows are among what is held before they are made.
                let bytes = Subgraph::bytes(0, CHECK_EVERY as usize);
                part.bytes += bytes;
                if let Err(error) = context.check().and_then(|()| context.hold(bytes)) {
                    problem = Some(error);
                    return ControlFlow::Break(());
                }
            }
            let Some(reading) = reading(direction, directed) else { return ControlFlow::Continue(()) };
            let (Some(source), Some(target)) = (part.number(source), part.number(target)) else {
                return ControlFlow::Continue(());
            };
            if wanted.as_ref().is_some_and(|w| !w.contains(edge)) {
                return ControlFlow::Continue(());
            }
            let weight = match &reader {
                None => None,
                Some((property, reader)) => {
                    match weight_of(&snapshot.read_edge(edge, reader), property, edge, &snapshot, span) {
                        Ok(Some(weight)) => Some(weight),
                        Ok(None) => {
                            part.without_weight += 1;
                            return ControlFlow::Continue(());
                        }
                        Err(error) => {
                            problem = Some(error);
                            return ControlFlow::Break(());
                        }
                    }
                }
            };
            part.graph.push(edge, (source, target), reading, weight);
            ControlFlow::Continue(())
        });
        if let Some(problem) = problem {
            return Err(problem);
        }
        // What was held on the way was for edges looked at: from here on for those that are in it.
        context.release(part.bytes - numbers_bytes);
        let bytes = Subgraph::bytes(part.graph.node_count(), part.graph.edge_count());
        part.bytes = numbers_bytes + bytes;
        context.reserve(bytes)?;
        Ok(part)
    }
}

/// How an edge is read by a pattern of this direction; `None` where the pattern does not take it.
fn reading(direction: Direction, directed: bool) -> Option<Reading> {
    if !directed {
        return direction.takes_undirected().then_some(Reading::BothWays);
    }
    match (direction.takes_out(), direction.takes_in()) {
        (true, true) => Some(Reading::BothWays),
        (true, false) => Some(Reading::Along),
        (false, true) => Some(Reading::Against),
        (false, false) => None,
    }
}

fn weight_of(
    value: &Value, property: &str, edge: Dense, snapshot: &Snapshot, span: Span,
) -> Outcome<Option<f64>> {
    if value.is_null() {
        return Ok(None);
    }
    match value.as_f64() {
        Some(weight) if weight.is_finite() && weight >= 0.0 => Ok(Some(weight)),
        _ => {
            let labels = snapshot.edge_labels(edge).join("&");
            let text = format!(
                "the weight {property} of the edge {labels} e{} is {} {}",
                snapshot.edge_id(edge),
                value.type_name(),
                value.excerpt()
            );
            let hint = format!(
                "a weight is a number from 0 on; leave others out: edges: '-[e:{labels} WHERE e.{property} >= 0]->'"
            );
            Err(Diagnostic::error(Code::DATA, span, text).hint(hint))
        }
    }
}

fn chosen_nodes(
    pattern: Option<Chosen>, snapshot: &Arc<Snapshot>, span: Span, context: &mut Context,
) -> Outcome<(Vec<Dense>, Vec<u32>)> {
    let mut numbers = vec![OUTSIDE; snapshot.node_bound() as usize];
    let labels = pattern.as_ref().and_then(|p| p.labels.clone());
    let test = snapshot.node_test(labels.as_ref());
    let mut chosen: Vec<Dense> = match pattern {
        Some(pattern) if pattern.has_condition => {
            let text = pattern.text.clone();
            found(pattern.query, Some(&text), (snapshot, snapshot.node_bound()), span, context)?
                .iter()
                .collect()
        }
        _ => {
            let base = snapshot.base_ranges(&test).into_iter().flatten();
            let base = base.filter(|node| snapshot.node_is_base(*node));
            base.chain(snapshot.overlay_nodes(&test)).collect()
        }
    };
    chosen.sort_unstable();
    for (own, node) in chosen.iter().enumerate() {
        numbers[*node as usize] = own as u32;
    }
    Ok((chosen, numbers))
}

/// An element pattern that was given as text.
struct Chosen {
    text: String,
    /// `MATCH` of it that returns the element alone.
    query: Query,
    labels: Option<LabelExpression>,
    has_condition: bool,
    direction: Direction,
}

impl Chosen {
    /// Names, types and conditions, as those of any query.
    fn check(&self, known: &Known, span: Span, warnings: &mut Vec<Diagnostic>) -> Outcome<()> {
        for said in check_query(&self.query, known, Some(&[])) {
            let placed = Diagnostic { span, message: format!("'{}': {}", self.text, said.message), ..said };
            match placed.severity {
                Severity::Error => return Err(placed),
                Severity::Warning => warnings.push(placed),
            }
        }
        Ok(())
    }
}

const ELEMENT: &str = "element";

fn node_pattern(text: &str, span: Span) -> Outcome<Chosen> {
    let wrong = || {
        unreadable("nodes", text, None, span)
            .hint("a node pattern, as in nodes: '(n:Site WHERE n.population > 1000)'")
    };
    let (mut query, place) = parsed(&format!("MATCH {text} RETURN 1"), "nodes", text, span)?;
    let term = &mut matched(&mut query).ok_or_else(wrong)?.term;
    let [PathElement::Node(node)] = &mut term.elements[..] else { return Err(wrong()) };
    let filter = node.filter.clone();
    let name = named(&mut node.filter, place);
    returning(&mut query, name);
    Ok(chosen(text, query, filter, Direction::Any))
}

fn edge_pattern(text: &str, span: Span) -> Outcome<Chosen> {
    let wrong = || {
        unreadable("edges", text, None, span)
            .hint("an edge pattern, as in edges: '-[e:PIPE WHERE e.length_m > 10]->'; ~ for undirected edges")
    };
    let (mut query, place) = parsed(&format!("MATCH (){text}() RETURN 1"), "edges", text, span)?;
    let term = &mut matched(&mut query).ok_or_else(wrong)?.term;
    let [PathElement::Node(_), PathElement::Edge(edge, None), PathElement::Node(_)] = &mut term.elements[..]
    else {
        return Err(wrong());
    };
    let (filter, direction) = (edge.filter.clone(), edge.direction);
    let name = named(&mut edge.filter, place);
    returning(&mut query, name);
    Ok(chosen(text, query, filter, direction))
}

fn chosen(text: &str, query: Query, filter: ElementFilter, direction: Direction) -> Chosen {
    Chosen {
        text: text.into(),
        query,
        has_condition: filter.condition.is_some() || !filter.properties.is_empty(),
        labels: filter.labels.map(|(expression, _)| expression),
        direction,
    }
}

fn unreadable(argument: &str, text: &str, why: Option<&Diagnostic>, span: Span) -> Diagnostic {
    let why = why.map_or("it is not one such pattern".into(), |d| d.message.clone());
    Diagnostic::syntax(span, format!("{argument} is '{text}': {why}"))
}

fn parsed(query: &str, argument: &str, text: &str, span: Span) -> Outcome<(Query, Span)> {
    let problem = |d: Option<&Diagnostic>| {
        unreadable(argument, text, d, span).maybe_hint(d.and_then(|d| d.hint.clone()))
    };
    let statements = parse(query).map_err(|e| problem(e.0.first()))?;
    match <[Statement; 1]>::try_from(statements) {
        Ok([Statement::Query(query)]) => {
            let place = query.span;
            Ok((*Box::new(query), place))
        }
        _ => Err(problem(None)),
    }
}

/// The one path of a query that is `MATCH path RETURN 1` and nothing else.
fn matched(query: &mut Query) -> Option<&mut PathPattern> {
    let [part] = &mut query.parts[..] else { return None };
    if part.yields.is_some() || !part.composite.others.is_empty() || part.composite.first.graph.is_some() {
        return None;
    }
    let [Clause::Match { optional: false, pattern, .. }, Clause::Return(_)] =
        &mut part.composite.first.clauses[..]
    else {
        return None;
    };
    if pattern.condition.is_some() || pattern.yields.is_some() {
        return None;
    }
    let [path] = &mut pattern.paths[..] else { return None };
    let plain = path.variable.is_none() && path.mode.is_none() && path.search == PathSearch::All;
    plain.then_some(path)
}

fn named(filter: &mut ElementFilter, span: Span) -> Name {
    filter.variable.get_or_insert_with(|| Name { text: ELEMENT.into(), span }).clone()
}

fn returning(query: &mut Query, name: Name) {
    if let Some(Clause::Return(result)) = query.parts[0].composite.first.clauses.last_mut() {
        for item in &mut result.items {
            item.expression =
                Expression { kind: ExpressionKind::Variable(name.text.clone()), span: name.span };
            item.name = ELEMENT.into();
        }
    }
}

/// Elements by a bit each.
struct Elements(Vec<u64>);

impl Elements {
    fn insert(&mut self, element: Dense) {
        self.0[element as usize / 64] |= 1 << (element % 64);
    }

    fn contains(&self, element: Dense) -> bool {
        self.0[element as usize / 64] >> (element % 64) & 1 == 1
    }

    fn iter(&self) -> impl Iterator<Item = Dense> + '_ {
        self.0.iter().zip(0u32..).flat_map(|(word, place)| {
            (0..64).filter(move |bit| word >> bit & 1 == 1).map(move |bit| 64 * place + bit)
        })
    }
}

/// The elements that such a query returns, once or several times; `bound` is one more than the greatest number that one
/// can have.
fn found(
    query: Query, text: Option<&str>, (snapshot, bound): (&Arc<Snapshot>, Dense), span: Span,
    context: &mut Context,
) -> Outcome<Elements> {
    let text = text.unwrap_or_default();
    let prepared = prepare(&query, text, snapshot, &Parameters::new()).map_err(|e| {
        let first = e.0.into_iter().next().unwrap_or_else(|| Diagnostic::syntax(span, "no reason was given"));
        Diagnostic { span, message: format!("'{text}': {}", first.message), ..first }
    })?;
    let words = bound as usize / 64 + 1;
    context.reserve(words * 8)?;
    let mut elements = Elements(vec![0; words]);
    let mut execution = prepared.run_within(snapshot.clone(), context);
    while let Some(batch) = execution.next_batch().map_err(|e| Diagnostic { span, ..e })? {
        if let Some(Vector::Nodes(v) | Vector::Edges(v)) = batch.columns.first() {
            v.iter().for_each(|element| elements.insert(*element));
        } else if let Some(Vector::Values(values)) = batch.columns.first() {
            values.iter().for_each(|v| match v {
                Value::Node(n) | Value::Edge(n) => elements.insert(*n),
                _ => {}
            });
        }
    }
    Ok(elements)
}
