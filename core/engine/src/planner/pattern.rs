//! A graph pattern taken apart: nodes, steps between them, and conditions that wait for their
//! variables.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::{Direction, LabelExpression};
use graphodrome_language::ast::*;
use graphodrome_language::{Span, VariableKind, expression_variables, term_variables};

use crate::context::Outcome;
use crate::planner::{Planner, has_exists, unsupported};

#[derive(Clone, Debug)]
pub(super) struct PatternNode {
    pub name: Arc<str>,
    pub labels: Option<LabelExpression>,
}

#[derive(Clone, Debug)]
pub(super) struct PatternStep {
    pub from: usize,
    pub to: usize,
    pub kind: StepKind,
    /// How the user wrote it, for display.
    pub shown: String,
}

#[derive(Clone, Debug)]
pub(super) enum StepKind {
    Edge { name: Arc<str>, direction: Direction, labels: Option<LabelExpression> },
    Search(Box<SearchStep>),
}

#[derive(Clone, Debug)]
pub(super) struct SearchStep {
    /// What lies between the two nodes.
    pub elements: Vec<PathElement>,
    pub search: PathSearch,
    pub weight: Option<Expression>,
    pub mode: PathMode,
    /// Name of the path column.
    pub path: Arc<str>,
    /// Variables inside, as they are seen outside.
    pub variables: Vec<(Arc<str>, VariableKind)>,
}

#[derive(Clone, Debug)]
pub(super) struct Condition {
    pub expression: Expression,
    pub variables: BTreeSet<Arc<str>>,
    pub done: bool,
    pub has_exists: bool,
}

/// A path variable and the pieces of its path, as names of columns.
#[derive(Clone, Debug)]
pub(super) struct NamedPath {
    pub name: Arc<str>,
    pub pieces: Vec<PathPiece>,
}

#[derive(Clone, Debug)]
pub(super) enum PathPiece {
    Node(usize),
    Step(usize),
}

#[derive(Clone, Debug, Default)]
pub(super) struct PatternGraph {
    pub nodes: Vec<PatternNode>,
    pub steps: Vec<PatternStep>,
    pub conditions: Vec<Condition>,
    pub paths: Vec<NamedPath>,
    pub repeatable: bool,
}

fn variable(name: &Arc<str>, span: Span) -> Expression {
    Expression { kind: ExpressionKind::Variable(name.clone()), span }
}

/// `name.property = value` for each pair of a filter.
pub(super) fn equalities(name: &Arc<str>, filter: &ElementFilter) -> Vec<Expression> {
    filter
        .properties
        .iter()
        .map(|(property, value)| {
            let owner = variable(name, property.span);
            let left = Expression {
                kind: ExpressionKind::Property(Box::new(owner), property.clone()),
                span: property.span,
            };
            let span = property.span.to(value.span);
            let kind = ExpressionKind::Binary(BinaryOperator::Equal, Box::new(left), Box::new(value.clone()));
            Expression { kind, span }
        })
        .chain(filter.condition.iter().flat_map(|c| c.conjuncts()).cloned())
        .collect()
}

impl PatternGraph {
    pub fn add_condition(&mut self, expression: Expression) {
        let variables = expression_variables(&expression);
        let has_exists = has_exists(&expression);
        self.conditions.push(Condition { expression, variables, done: false, has_exists });
    }

    fn node(&mut self, name: Arc<str>, labels: Option<LabelExpression>) -> usize {
        let known = self.nodes.iter().position(|n| n.name == name);
        match known {
            Some(i) => {
                if let Some(labels) = labels {
                    let both = match self.nodes[i].labels.take() {
                        Some(before) if before != labels => {
                            LabelExpression::And(Box::new(before), Box::new(labels))
                        }
                        _ => labels,
                    };
                    self.nodes[i].labels = Some(both);
                }
                i
            }
            None => {
                self.nodes.push(PatternNode { name, labels });
                self.nodes.len() - 1
            }
        }
    }
}

impl Planner<'_> {
    pub(super) fn pattern_graph(&mut self, pattern: &GraphPattern) -> Outcome<PatternGraph> {
        let mut graph = PatternGraph { repeatable: pattern.repeatable, ..PatternGraph::default() };
        let mut edge_names: BTreeSet<Arc<str>> = BTreeSet::new();
        for path in &pattern.paths {
            self.path_pattern(path, &mut graph, &mut edge_names)?;
        }
        if let Some(condition) = &pattern.condition {
            for conjunct in condition.conjuncts() {
                graph.add_condition(conjunct.clone());
            }
        }
        Ok(graph)
    }

    fn path_pattern(
        &mut self, path: &PathPattern, graph: &mut PatternGraph, edge_names: &mut BTreeSet<Arc<str>>,
    ) -> Outcome<()> {
        let mut elements = inlined(&path.term.elements, graph)?;
        self.close_ends(&mut elements);
        // Walks, or trails within one MATCH, need no search of their own.
        let own_mode = match path.mode {
            None | Some(PathMode::Walk) => None,
            Some(PathMode::Trail) if !graph.repeatable => None,
            Some(mode) => Some(mode),
        };
        let whole = path.search != PathSearch::All || own_mode.is_some();
        let mut pieces = vec![];
        if whole && elements.len() > 1 {
            let last = elements.len() - 1;
            let (PathElement::Node(first), PathElement::Node(end)) = (&elements[0], &elements[last]) else {
                return Err(unsupported(path.span, "a search that does not begin and end with a node"));
            };
            let from = self.pattern_node(first, graph);
            let to = self.pattern_node(end, graph);
            let inner = elements[1..last].to_vec();
            let step = self.search_step(from, to, inner, path, own_mode.unwrap_or(PathMode::Walk), graph);
            pieces = vec![PathPiece::Node(from), PathPiece::Step(step), PathPiece::Node(to)];
        } else {
            let mut current: Option<usize> = None;
            let mut waiting: Vec<PathElement> = vec![];
            for element in elements {
                match element {
                    PathElement::Node(node) => {
                        let at = self.pattern_node(&node, graph);
                        if let (Some(from), false) = (current, waiting.is_empty()) {
                            let between = std::mem::take(&mut waiting);
                            let step = self.between(from, at, between, path, graph, edge_names)?;
                            pieces.push(PathPiece::Step(step));
                        }
                        pieces.push(PathPiece::Node(at));
                        current = Some(at);
                    }
                    other => waiting.push(other),
                }
            }
        }
        if let Some(name) = &path.variable {
            graph.paths.push(NamedPath { name: name.text.clone(), pieces });
        }
        Ok(())
    }

    /// A path's first and last element are nodes, and nodes stand between groups.
    fn close_ends(&mut self, elements: &mut Vec<PathElement>) {
        let anonymous =
            || PathElement::Node(NodePattern { filter: ElementFilter::default(), span: Span::default() });
        if !matches!(elements.first(), Some(PathElement::Node(_))) {
            elements.insert(0, anonymous());
        }
        if !matches!(elements.last(), Some(PathElement::Node(_))) {
            elements.push(anonymous());
        }
        let mut i = 1;
        while i < elements.len() {
            if !matches!(elements[i - 1], PathElement::Node(_))
                && !matches!(elements[i], PathElement::Node(_))
            {
                elements.insert(i, anonymous());
            }
            i += 1;
        }
    }

    fn pattern_node(&mut self, node: &NodePattern, graph: &mut PatternGraph) -> usize {
        let name = match &node.filter.variable {
            Some(name) => name.text.clone(),
            None => self.hidden("node"),
        };
        let at = graph.node(name.clone(), node.filter.labels.as_ref().map(|l| l.0.clone()));
        for condition in equalities(&name, &node.filter) {
            graph.add_condition(condition);
        }
        at
    }

    fn between(
        &mut self, from: usize, to: usize, elements: Vec<PathElement>, path: &PathPattern,
        graph: &mut PatternGraph, edge_names: &mut BTreeSet<Arc<str>>,
    ) -> Outcome<usize> {
        if let [PathElement::Edge(edge, None)] = &elements[..] {
            let own = match &edge.filter.variable {
                Some(name) => name.text.clone(),
                None => self.hidden("edge"),
            };
            // A name that is bound already is compared with a new one.
            let mut name = own.clone();
            if !edge_names.insert(own.clone()) {
                name = self.hidden("edge");
                graph.add_condition(same(&own, &name));
            }
            for condition in equalities(&name, &edge.filter) {
                graph.add_condition(condition);
            }
            let kind = StepKind::Edge {
                name,
                direction: edge.direction,
                labels: edge.filter.labels.as_ref().map(|l| l.0.clone()),
            };
            let shown = show_edge(edge, None);
            graph.steps.push(PatternStep { from, to, kind, shown });
            return Ok(graph.steps.len() - 1);
        }
        let mode = if graph.repeatable { PathMode::Walk } else { PathMode::Trail };
        Ok(self.search_step(from, to, elements, path, mode, graph))
    }

    fn search_step(
        &mut self, from: usize, to: usize, elements: Vec<PathElement>, path: &PathPattern, mode: PathMode,
        graph: &mut PatternGraph,
    ) -> usize {
        let term = PathTerm { elements: elements.clone() };
        let variables = term_variables(&term).into_iter().map(|(n, k)| (n.text, k)).collect();
        let shown = show_elements(&elements);
        let step = SearchStep {
            elements,
            search: path.search,
            weight: path.weight.clone(),
            mode,
            path: self.hidden("path"),
            variables,
        };
        graph.steps.push(PatternStep { from, to, kind: StepKind::Search(Box::new(step)), shown });
        graph.steps.len() - 1
    }
}

pub(super) fn same(a: &Arc<str>, b: &Arc<str>) -> Expression {
    let span = Span::default();
    let kind = ExpressionKind::Binary(
        BinaryOperator::Equal,
        Box::new(variable(a, span)),
        Box::new(variable(b, span)),
    );
    Expression { kind, span }
}

/// The elements with parenthesised parts that are not repeated written out in place.
fn inlined(elements: &[PathElement], graph: &mut PatternGraph) -> Outcome<Vec<PathElement>> {
    let mut out: Vec<PathElement> = vec![];
    for element in elements {
        match element {
            PathElement::Group(group) if group.quantifier.is_none() => {
                if group.mode.is_some_and(|m| !matches!(m, PathMode::Walk | PathMode::Trail)) {
                    return Err(unsupported(group.span, "a path mode on a part of a path"));
                }
                for condition in group.condition.iter().flat_map(|c| c.conjuncts()) {
                    graph.add_condition(condition.clone());
                }
                for inner in inlined(&group.term.elements, graph)? {
                    join(&mut out, inner)?;
                }
            }
            other => join(&mut out, other.clone())?,
        }
    }
    Ok(out)
}

/// Appends an element; two nodes side by side are one node.
fn join(out: &mut Vec<PathElement>, element: PathElement) -> Outcome<()> {
    let (Some(PathElement::Node(before)), PathElement::Node(node)) = (out.last_mut(), &element) else {
        out.push(element);
        return Ok(());
    };
    let blank = ElementFilter::default();
    if before.filter == blank {
        *before = node.clone();
    } else if node.filter != blank {
        let same_name = before.filter.variable.as_ref().map(|n| &n.text)
            == node.filter.variable.as_ref().map(|n| &n.text);
        if !same_name && before.filter.variable.is_some() && node.filter.variable.is_some() {
            return Err(unsupported(node.span, "two names for the node where two parts of a path meet")
                .hint("leave one of the two nodes empty: ()"));
        }
        let variable = before.filter.variable.take().or(node.filter.variable.clone());
        before.filter.variable = variable;
        before.filter.properties.extend(node.filter.properties.clone());
        let labels = match (before.filter.labels.take(), node.filter.labels.clone()) {
            (Some((a, mut names)), Some((b, more))) => {
                names.extend(more);
                Some((LabelExpression::And(Box::new(a), Box::new(b)), names))
            }
            (a, b) => a.or(b),
        };
        before.filter.labels = labels;
        before.filter.condition = match (before.filter.condition.take(), node.filter.condition.clone()) {
            (Some(a), Some(b)) => {
                let span = a.span.to(b.span);
                Some(Expression {
                    kind: ExpressionKind::Binary(BinaryOperator::And, Box::new(a), Box::new(b)),
                    span,
                })
            }
            (a, b) => a.or(b),
        };
    }
    Ok(())
}

fn show_filter(filter: &ElementFilter) -> String {
    let name = filter.variable.as_ref().map_or("", |n| &n.text);
    match &filter.labels {
        Some((labels, _)) => format!("{name}:{labels}"),
        None => name.to_string(),
    }
}

fn show_edge(edge: &EdgePattern, quantifier: Option<&Quantifier>) -> String {
    let (open, close) = match edge.direction {
        Direction::Out => ("-[", "]->"),
        Direction::In => ("<-[", "]-"),
        Direction::Undirected => ("~[", "]~"),
        Direction::OutOrIn => ("<-[", "]->"),
        Direction::OutOrUndirected => ("~[", "]~>"),
        Direction::InOrUndirected => ("<~[", "]~"),
        Direction::Any => ("-[", "]-"),
    };
    format!(
        "{open}{}{close}{}",
        show_filter(&edge.filter),
        quantifier.map(show_quantifier).unwrap_or_default()
    )
}

fn show_quantifier(q: &Quantifier) -> String {
    match (q.min, q.max) {
        (0, Some(1)) if q.optional => "?".into(),
        (0, None) => "*".into(),
        (1, None) => "+".into(),
        (min, None) => format!("{{{min},}}"),
        (min, Some(max)) if min == max => format!("{{{min}}}"),
        (min, Some(max)) => format!("{{{min},{max}}}"),
    }
}

fn show_elements(elements: &[PathElement]) -> String {
    elements
        .iter()
        .map(|e| match e {
            PathElement::Node(node) => format!("({})", show_filter(&node.filter)),
            PathElement::Edge(edge, q) => show_edge(edge, q.as_ref()),
            PathElement::Group(group) => {
                let q = group.quantifier.as_ref().map(show_quantifier).unwrap_or_default();
                format!("({}){q}", show_elements(&group.term.elements))
            }
        })
        .collect()
}

pub(super) fn show_node(node: &PatternNode) -> String {
    let name = if node.name.starts_with('#') { "" } else { &*node.name };
    match &node.labels {
        Some(labels) => format!("({name}:{labels})"),
        None => format!("({name})"),
    }
}
