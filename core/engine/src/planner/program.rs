//! Compiling the inside of a quantified path to a search program and, where it is one repeated edge,
//! to a step.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind, expression_variables, term_variables};

use crate::context::Outcome;
use crate::expression::Expr;
use crate::plan::Schema;
use crate::planner::Planner;
use crate::planner::pattern::equalities;
use crate::search::{Memory, Program, State, Step};

/// Unrolled bounds may make a program large; this many states are more than any sensible pattern has.
const MAX_STATES: usize = 100_000;

pub(super) struct ProgramBuilder<'b, 'p> {
    planner: &'b Planner<'p>,
    /// The input's variables, then the program's own.
    schema: Schema,
    width: usize,
    states: Vec<State>,
    memory: Memory,
}

/// A whole search: the program, its variables in the order of their locals, and the step if it is one.
pub(super) struct Compiled {
    pub program: Program,
    pub locals: Vec<(Arc<str>, bool)>,
    pub schema: Schema,
}

/// The elements in the order in which they are met from the right end.
pub(super) fn reversed(elements: &[PathElement]) -> Vec<PathElement> {
    elements
        .iter()
        .rev()
        .map(|element| match element {
            PathElement::Node(node) => PathElement::Node(node.clone()),
            PathElement::Edge(edge, q) => {
                PathElement::Edge(EdgePattern { direction: edge.direction.reversed(), ..edge.clone() }, *q)
            }
            PathElement::Group(group) => {
                let term = PathTerm { elements: reversed(&group.term.elements) };
                PathElement::Group(Box::new(PathGroup { term, ..(**group).clone() }))
            }
        })
        .collect()
}

impl<'p> Planner<'p> {
    pub(super) fn search_program(&self, elements: &[PathElement], input: &Schema) -> Outcome<Compiled> {
        let mut schema = input.clone();
        let mut locals = vec![];
        let term = PathTerm { elements: elements.to_vec() };
        for (name, kind) in term_variables(&term) {
            let is_node = matches!(kind, VariableKind::Node | VariableKind::NodeGroup);
            if !locals.iter().any(|(known, _): &(Arc<str>, bool)| *known == name.text) {
                schema.push(name.text.clone(), if is_node { VariableKind::Node } else { VariableKind::Edge });
                locals.push((name.text.clone(), is_node));
            }
        }
        let mut builder = ProgramBuilder {
            planner: self,
            schema,
            width: input.len(),
            states: vec![State::Accept],
            memory: Memory::None,
        };
        let entry = builder.term(elements, 0, &BTreeSet::new())?;
        // A search begins at state 0.
        let last = builder.states.len();
        builder.states.push(State::Fork(entry, entry));
        builder.states.swap(0, last);
        let moved = |state: usize| {
            if state == 0 {
                last
            } else if state == last {
                0
            } else {
                state
            }
        };
        for state in &mut builder.states {
            match state {
                State::Node { next, .. } | State::Edge { next, .. } | State::End { next, .. } => {
                    *next = moved(*next)
                }
                State::Fork(a, b) => {
                    *a = moved(*a);
                    *b = moved(*b);
                }
                State::Accept => {}
            }
        }
        // The first fork has one way only.
        if let State::Fork(a, _) = builder.states[0] {
            builder.states[0] = State::End { conditions: vec![], next: a };
        }
        let count = builder.schema.len() - input.len();
        let program = Program { states: builder.states, locals: count, memory: builder.memory };
        Ok(Compiled { program, locals, schema: builder.schema })
    }

    /// The step of a search that repeats one edge, with its bounds.
    pub(super) fn search_as_step(
        &self, elements: &[PathElement], locals: &[(Arc<str>, bool)], input: &Schema,
    ) -> Outcome<Option<(Step, u32, Option<u32>)>> {
        let blank = |n: &NodePattern| n.filter == ElementFilter::default();
        let (edge, before, after, condition, quantifier) = match elements {
            [PathElement::Edge(edge, Some(q))] => (edge, None, None, None, q),
            [PathElement::Group(group)] => match (&group.term.elements[..], &group.quantifier) {
                ([PathElement::Node(x), PathElement::Edge(edge, None), PathElement::Node(y)], Some(q)) => {
                    (edge, Some(x), Some(y), group.condition.as_ref(), q)
                }
                _ => return Ok(None),
            },
            _ => return Ok(None),
        };
        let name_of = |filter: Option<&ElementFilter>, other: &str| -> Arc<str> {
            filter.and_then(|f| f.variable.as_ref()).map_or_else(|| other.into(), |n| n.text.clone())
        };
        let names = [
            name_of(before.map(|n| &n.filter), "#before"),
            name_of(Some(&edge.filter), "#edge"),
            name_of(after.map(|n| &n.filter), "#after"),
        ];
        if names[0] == names[2] {
            return Ok(None);
        }
        let mut schema = input.clone();
        schema.push(names[0].clone(), VariableKind::Node);
        schema.push(names[1].clone(), VariableKind::Edge);
        schema.push(names[2].clone(), VariableKind::Node);
        let mut conditions = vec![];
        for (filter, name) in [
            (before.map(|n| &n.filter), &names[0]),
            (Some(&edge.filter), &names[1]),
            (after.map(|n| &n.filter), &names[2]),
        ] {
            for expression in filter.map(|f| equalities(name, f)).unwrap_or_default() {
                conditions.push(self.compile(&expression, &schema)?);
            }
        }
        for conjunct in condition.iter().flat_map(|c| c.conjuncts()) {
            conditions.push(self.compile(conjunct, &schema)?);
        }
        let test = |node: Option<&NodePattern>| {
            node.filter(|n| !blank(n))
                .and_then(|n| n.filter.labels.as_ref())
                .map(|(labels, _)| self.scope.node_test(Some(labels)))
        };
        let place = |name: &Arc<str>| locals.iter().position(|(known, _)| known == name);
        let step = Step {
            test: self.scope.edge_test(edge.filter.labels.as_ref().map(|l| &l.0)),
            direction: edge.direction,
            before: test(before),
            after: test(after),
            conditions,
            locals: [place(&names[0]), place(&names[1]), place(&names[2])],
        };
        Ok(Some((step, quantifier.min, quantifier.max)))
    }
}

impl ProgramBuilder<'_, '_> {
    fn push(&mut self, state: State) -> Outcome<usize> {
        if self.states.len() >= MAX_STATES {
            return Err(Diagnostic::syntax(
                Default::default(),
                format!("the repetition unrolls to more than {MAX_STATES} states"),
            )
            .hint("leave its upper bound open, or lower it"));
        }
        self.states.push(state);
        Ok(self.states.len() - 1)
    }

    /// States for the elements, going on to `next`; returns where they begin. `scope` has the names
    /// bound by the repetition they stand in.
    fn term(&mut self, elements: &[PathElement], next: usize, scope: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        let mut next = next;
        for element in elements.iter().rev() {
            next = match element {
                PathElement::Node(node) => self.node(node, next, scope)?,
                PathElement::Edge(edge, None) => self.edge(edge, next, scope)?,
                PathElement::Edge(edge, Some(q)) => {
                    self.repeat(q, next, |b, next| b.edge(edge, next, &BTreeSet::new()))?
                }
                PathElement::Group(group) => {
                    if group.mode.is_some_and(|m| !matches!(m, PathMode::Walk | PathMode::Trail)) {
                        return Err(crate::planner::unsupported(
                            group.span,
                            "a path mode on a part of a path",
                        ));
                    }
                    let names = term_variables(&group.term).into_iter().map(|(n, _)| n.text).collect();
                    match &group.quantifier {
                        Some(q) => self.repeat(q, next, |b, next| b.group(group, next, &names))?,
                        None => self.group(group, next, scope)?,
                    }
                }
            };
        }
        Ok(next)
    }

    fn group(&mut self, group: &PathGroup, next: usize, scope: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        let mut next = next;
        if let Some(condition) = &group.condition {
            let mut conditions = vec![];
            for conjunct in condition.conjuncts() {
                conditions.push(self.condition(conjunct, None, scope)?);
            }
            next = self.push(State::End { conditions, next })?;
        }
        self.term(&group.term.elements, next, scope)
    }

    fn repeat(
        &mut self, q: &Quantifier, next: usize, mut once: impl FnMut(&mut Self, usize) -> Outcome<usize>,
    ) -> Outcome<usize> {
        let mut entry = match q.max {
            None => {
                let fork = self.push(State::Fork(next, next))?;
                let again = once(self, fork)?;
                self.states[fork] = State::Fork(again, next);
                fork
            }
            Some(max) => {
                let mut entry = next;
                for _ in q.min..max {
                    let again = once(self, entry)?;
                    entry = self.push(State::Fork(again, next))?;
                }
                entry
            }
        };
        for _ in 0..q.min {
            entry = once(self, entry)?;
        }
        Ok(entry)
    }

    fn local(&self, filter: &ElementFilter) -> Option<usize> {
        let name = filter.variable.as_ref()?;
        self.schema.slot(&name.text).map(|slot| slot - self.width)
    }

    fn node(&mut self, node: &NodePattern, next: usize, scope: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        if node.filter == ElementFilter::default() {
            return Ok(next);
        }
        let (local, conditions) = self.filter(&node.filter, scope, VariableKind::Node)?;
        let test = self.planner.scope.node_test(node.filter.labels.as_ref().map(|l| &l.0));
        self.push(State::Node { test, local, conditions, next })
    }

    fn edge(&mut self, edge: &EdgePattern, next: usize, scope: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        let (local, conditions) = self.filter(&edge.filter, scope, VariableKind::Edge)?;
        let test = self.planner.scope.edge_test(edge.filter.labels.as_ref().map(|l| &l.0));
        self.push(State::Edge { test, direction: edge.direction, local, conditions, next })
    }

    fn filter(
        &mut self, filter: &ElementFilter, scope: &BTreeSet<Arc<str>>, kind: VariableKind,
    ) -> Outcome<(Option<usize>, Vec<Expr>)> {
        // An anonymous element with conditions needs a place to read it from.
        let mut local = self.local(filter);
        let has_conditions = !filter.properties.is_empty() || filter.condition.is_some();
        let name: Arc<str> = match &filter.variable {
            Some(name) => name.text.clone(),
            None if has_conditions => {
                let name: Arc<str> = format!("#inner{}", self.schema.len()).into();
                local = Some(self.schema.push(name.clone(), kind) - self.width);
                name
            }
            None => return Ok((None, vec![])),
        };
        let mut conditions = vec![];
        for expression in equalities(&name, filter) {
            conditions.push(self.condition(&expression, Some(&name), scope)?);
        }
        Ok((local, conditions))
    }

    /// Compiles a condition and notes how far back it looks.
    fn condition(&mut self, e: &Expression, own: Option<&str>, scope: &BTreeSet<Arc<str>>) -> Outcome<Expr> {
        for name in expression_variables(e) {
            let inner = self.schema.slot(&name).is_some_and(|slot| slot >= self.width);
            if !inner || own == Some(&*name) {
                continue;
            }
            let reach = if scope.contains(&name) { Memory::Repetition } else { Memory::Long };
            self.memory = self.memory.max(reach);
        }
        self.planner.compile(e, &self.schema)
    }
}
