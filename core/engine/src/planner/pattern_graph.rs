//! A pattern taken apart: its nodes, its steps and its conditions.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::{Direction, LabelExpression};
use graphodrome_language::ast::*;
use graphodrome_language::{Span, VariableKind, expression_variables, term_expressions};

use crate::alternatives::with_lists;
use crate::planner::state::has_subquery;

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
    /// Variables bound elsewhere in the pattern that a search's own conditions read: it cannot be taken
    /// before they are there.
    pub needs: BTreeSet<Arc<str>>,
    /// The number of its MATCH among those planned together.
    pub clause: usize,
    /// Only whether there is an edge or a path is asked: one is enough between two nodes.
    pub once: bool,
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
    pub variables: Vec<SearchVariable>,
    /// One match may be found in several ways, and counts once.
    pub ambiguous: bool,
    /// Nobody asks for its paths, nor how many there are: an estimate counts ends.
    pub ends_only: bool,
}

/// A variable that a search binds.
#[derive(Clone, Debug)]
pub(super) struct SearchVariable {
    pub inside: Arc<str>,
    /// Another name where the inside one stands elsewhere in the pattern too: both must be the same.
    pub outside: Arc<str>,
    /// As it is seen from outside.
    pub kind: VariableKind,
}

#[derive(Clone, Debug)]
pub(super) struct Condition {
    pub expression: Expression,
    pub variables: BTreeSet<Arc<str>>,
    pub done: bool,
    pub has_subquery: bool,
}

impl Condition {
    /// Whether an operator of the pattern may still take it. One with a subquery is tested at the pattern's
    /// end, where its subquery has been run.
    pub fn waits(&self) -> bool {
        !self.done && !self.has_subquery
    }
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
    /// Of the MATCH whose pattern is taken apart now.
    pub repeatable: bool,
    /// Whether elements may repeat, for each MATCH.
    pub repeatables: Vec<bool>,
    /// Steps whose edges a condition says to be different.
    pub different: Vec<(usize, usize)>,
    /// Paths of which only the length is read.
    pub lengths: BTreeSet<Arc<str>>,
    /// Alternatives become lists.
    pub lists: bool,
}

pub(super) fn variable(name: &Arc<str>, span: Span) -> Expression {
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

/// Two variables that a condition says to be different: `e <> f`, and each two of `ALL_DIFFERENT(e, f, g)`.
pub(super) fn said_different<'e>(condition: &'e Expression) -> Option<Vec<(&'e Arc<str>, &'e Arc<str>)>> {
    fn variable_of(e: &Expression) -> Option<&Arc<str>> {
        match &e.kind {
            ExpressionKind::Variable(name) => Some(name),
            _ => None,
        }
    }
    match &condition.kind {
        ExpressionKind::Binary(BinaryOperator::NotEqual, a, b) => {
            Some(vec![(variable_of(a)?, variable_of(b)?)])
        }
        ExpressionKind::Call { function, arguments }
            if function.text.eq_ignore_ascii_case("ALL_DIFFERENT") =>
        {
            let all: Vec<&Arc<str>> = arguments.iter().map(variable_of).collect::<Option<_>>()?;
            let after =
                |(i, a): (usize, &&'e Arc<str>)| all[i + 1..].iter().map(|b| (*a, *b)).collect::<Vec<_>>();
            Some(all.iter().enumerate().flat_map(after).collect())
        }
        _ => None,
    }
}

impl PatternGraph {
    /// Whether elements may repeat in the MATCH of a step.
    pub fn is_repeatable(&self, step: usize) -> bool {
        self.repeatables[self.steps[step].clause]
    }

    /// Whether no edge may be in both steps.
    pub fn apart(&self, a: usize, b: usize) -> bool {
        let (one, other) = (self.steps[a].clause, self.steps[b].clause);
        one == other && !self.repeatables[one] || self.different.iter().any(|d| *d == (a, b) || *d == (b, a))
    }

    /// Takes the conditions that only say of edges of the pattern that they are different.
    pub(super) fn take_different(&mut self) {
        let steps = &self.steps;
        let step = |name: &Arc<str>| {
            let is_it = |s: &PatternStep| matches!(&s.kind, StepKind::Edge { name: own, .. } if own == name);
            steps.iter().position(is_it)
        };
        let mut found = vec![];
        self.conditions.retain(|condition| {
            let Some(pairs) = said_different(&condition.expression) else { return true };
            let of_steps =
                |(a, b): &(&Arc<str>, &Arc<str>)| Some((step(a)?, step(b)?)).filter(|(a, b)| a != b);
            match pairs.iter().map(of_steps).collect::<Option<Vec<_>>>() {
                Some(pairs) => found.extend(pairs),
                None => return true,
            }
            false
        });
        self.different = found;
    }

    /// Leaves out paths that neither the pattern reads nor what comes after it.
    pub(super) fn forget_paths(&mut self, needed: &BTreeSet<Arc<str>>) {
        let (conditions, steps) = (&self.conditions, &self.steps);
        self.paths.retain(|path| {
            needed.contains("*")
                || needed.contains(&path.name)
                || conditions.iter().any(|condition| condition.variables.contains(&path.name))
                || steps.iter().any(|step| step.needs.contains(&path.name))
        });
    }

    /// The number of the MATCH whose pattern is taken apart now.
    pub(super) fn clause(&self) -> usize {
        self.repeatables.len().saturating_sub(1)
    }

    pub fn add_condition(&mut self, expression: Expression) {
        let listed = if self.lists { with_lists(&expression) } else { None };
        let expression = listed.unwrap_or(expression);
        let variables = expression_variables(&expression);
        let has_subquery = has_subquery(&expression);
        self.conditions.push(Condition { expression, variables, done: false, has_subquery });
    }

    /// Notes for each search which variables of the pattern around it its conditions read.
    pub(super) fn note_needs(&mut self) {
        let mut bound: BTreeSet<Arc<str>> = self.nodes.iter().map(|n| n.name.clone()).collect();
        bound.extend(self.paths.iter().map(|p| p.name.clone()));
        for step in &self.steps {
            match &step.kind {
                StepKind::Edge { name, .. } => {
                    bound.insert(name.clone());
                }
                StepKind::Search(search) => {
                    bound.extend(search.variables.iter().map(|v| v.outside.clone()));
                }
            }
        }
        for step in &mut self.steps {
            let StepKind::Search(search) = &step.kind else { continue };
            let own: BTreeSet<&Arc<str>> = search.variables.iter().map(|v| &v.inside).collect();
            let term = PathTerm { elements: search.elements.clone() };
            let mut read = BTreeSet::new();
            term_expressions(&term, &mut |e| read.extend(expression_variables(e)));
            read.extend(search.weight.iter().flat_map(expression_variables));
            read.retain(|name| bound.contains(name) && !own.contains(name));
            step.needs = read;
        }
    }

    pub(super) fn node(&mut self, name: Arc<str>, labels: Option<LabelExpression>) -> usize {
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
