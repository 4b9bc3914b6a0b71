//! Compiles the inside of a quantified path to a search program and, for a single repeated edge, to a step.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind, expression_variables, term_variables};

use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::plan::Schema;
use crate::planner::elements::*;
use crate::planner::pattern_graph::equalities;
use crate::planner::state::Planner;
use crate::search::{Mark, OutputKind, Program, State, Step, alike};

/// Unrolled bounds may make a program large; this many states are more than any sensible pattern has.
const MAX_STATES: usize = 100_000;

pub(super) struct ProgramBuilder<'b, 'p> {
    planner: &'b Planner<'p>,
    /// The input's variables, then the program's own.
    schema: Schema,
    width: usize,
    states: Vec<State>,
    marked: bool,
    /// The parts that are open, the whole first.
    scopes: Vec<PartScope>,
}

/// A part of the pattern: what its variables are for the conditions that stand directly in it.
struct PartScope {
    kinds: Vec<(Arc<str>, VariableKind)>,
    /// Some condition reads a list of what a quantifier in it binds.
    lists: bool,
}

/// A condition, with the lists that are to be made before it is tested.
struct Tested {
    condition: Expr,
    lists: Vec<Mark>,
}

/// A whole search: the program, its variables in the order of their locals, and the step if it is one.
pub(super) struct Compiled {
    pub program: Program,
    pub locals: Vec<(Arc<str>, OutputKind)>,
    pub schema: Schema,
}

impl<'p> Planner<'p> {
    /// `turned`: the elements are in the order from the right end.
    pub(super) fn search_program(
        &self, elements: &[PathElement], input: &Schema, turned: bool, ambiguous: bool,
    ) -> Outcome<Compiled> {
        let mut schema = input.clone();
        let mut locals = vec![];
        let term = PathTerm { elements: elements.to_vec() };
        for (name, kind) in term_variables(&term) {
            let output = match kind.single() {
                VariableKind::Node => OutputKind::Node,
                VariableKind::Edge => OutputKind::Edge,
                _ => OutputKind::Path,
            };
            if !locals.iter().any(|(known, _): &(Arc<str>, OutputKind)| *known == name.text) {
                schema.push(name.text.clone(), kind.single());
                locals.push((name.text.clone(), output));
            }
        }
        let named = locals.len();
        let mut builder = ProgramBuilder {
            planner: self,
            schema,
            width: input.len(),
            states: vec![State::Accept],
            marked: false,
            scopes: vec![],
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
                State::Node { next, .. }
                | State::Edge { next, .. }
                | State::Mark { next, .. }
                | State::End { next, .. } => *next = moved(*next),
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
        let width = builder.width;
        let reads = |state: &State| -> Vec<usize> {
            let conditions = match state {
                State::Node { conditions, .. }
                | State::Edge { conditions, .. }
                | State::End { conditions, .. } => conditions,
                _ => return vec![],
            };
            let mut slots = vec![];
            conditions.iter().for_each(|c| c.slots(&mut slots));
            slots.into_iter().filter_map(|slot: usize| slot.checked_sub(width)).collect()
        };
        let alike = alike(&builder.states, &reads);
        let program = Program {
            states: builder.states,
            locals: count,
            named,
            alike,
            ambiguous,
            marked: builder.marked,
            reversed: turned,
        };
        Ok(Compiled { program, locals, schema: builder.schema })
    }

    /// The step of a search that repeats one edge, with its bounds.
    pub(super) fn search_as_step(
        &self, elements: &[PathElement], locals: &[(Arc<str>, OutputKind)], input: &Schema,
    ) -> Outcome<Option<(Step, u32, Option<u32>)>> {
        let blank = |n: &NodePattern| n.filter == ElementFilter::default();
        let (edge, before, after, condition, quantifier) = match elements {
            [PathElement::Edge(edge, Some(q))] => (edge, None, None, None, q),
            [PathElement::Group(group)] if group.variable.is_none() && group.mode.is_none() => {
                match (&group.term.elements[..], &group.quantifier) {
                    (
                        [PathElement::Node(x), PathElement::Edge(edge, None), PathElement::Node(y)],
                        Some(q),
                    ) => (edge, Some(x), Some(y), group.condition.as_ref(), q),
                    _ => return Ok(None),
                }
            }
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

    /// States for the elements, going on to `next`; returns where they begin. `before` has the
    /// names bound on the way to here.
    fn term(&mut self, elements: &[PathElement], next: usize, before: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        self.part(elements, &[], next, before)
    }

    /// A part with conditions on what it bound.
    fn part(
        &mut self, elements: &[PathElement], conditions: &[&Expression], next: usize,
        before: &BTreeSet<Arc<str>>,
    ) -> Outcome<usize> {
        let term = PathTerm { elements: elements.to_vec() };
        let kinds: Vec<_> = term_variables(&term).into_iter().map(|(n, kind)| (n.text, kind)).collect();
        let groups: BTreeSet<Arc<str>> =
            kinds.iter().filter(|(_, kind)| kind.is_group()).map(|(name, _)| name.clone()).collect();
        let lists = reads_any(conditions, &groups) || reads_lists(elements, &groups);
        self.scopes.push(PartScope { kinds, lists });
        let begin = self.part_within(elements, conditions, next, before);
        self.scopes.pop();
        begin
    }

    fn part_within(
        &mut self, elements: &[PathElement], conditions: &[&Expression], next: usize,
        before: &BTreeSet<Arc<str>>,
    ) -> Outcome<usize> {
        let mut next = next;
        let lists = self.scopes.last().is_some_and(|scope| scope.lists);
        if lists {
            next = self.mark(Mark::ListsEnd, next)?;
        }
        let mut tested = vec![];
        for condition in conditions {
            tested.push(self.condition(condition)?);
        }
        next = self.test_at_end(tested, next)?;
        next = self.elements(elements, next, before)?;
        if lists {
            next = self.mark(Mark::ListsBegin, next)?;
        }
        Ok(next)
    }

    /// Tests conditions where a part ends.
    fn test_at_end(&mut self, tested: Vec<Tested>, next: usize) -> Outcome<usize> {
        if tested.is_empty() {
            return Ok(next);
        }
        let (conditions, lists) = split(tested);
        let end = self.push(State::End { conditions, next })?;
        self.make_lists(lists, end)
    }

    fn make_lists(&mut self, lists: Vec<Mark>, next: usize) -> Outcome<usize> {
        lists.into_iter().try_fold(next, |next, list| self.mark(list, next))
    }

    fn elements(
        &mut self, elements: &[PathElement], next: usize, before: &BTreeSet<Arc<str>>,
    ) -> Outcome<usize> {
        // What is bound where each element begins; lists of what a quantifier binds too.
        let mut known = vec![before.clone()];
        for element in elements {
            let mut names = known[known.len() - 1].clone();
            let term = PathTerm { elements: vec![element.clone()] };
            names.extend(term_variables(&term).into_iter().map(|(n, _)| n.text));
            known.push(names);
        }
        let all = &known[elements.len()];
        let mut next = next;
        // A condition on what is bound further on waits for the end.
        let mut late = vec![];
        let mut own: Vec<PathElement> = elements.to_vec();
        for (element, before) in own.iter_mut().zip(&known) {
            let filter = match element {
                PathElement::Node(node) => &mut node.filter,
                PathElement::Edge(edge, None) => &mut edge.filter,
                _ => continue,
            };
            let waits = |e: &Expression| {
                let name = filter.variable.as_ref().map(|n| &n.text);
                expression_variables(e)
                    .iter()
                    .any(|v| !before.contains(v) && all.contains(v) && Some(v) != name)
            };
            let condition = filter.condition.clone();
            let properties = std::mem::take(&mut filter.properties);
            let (later, now): (Vec<_>, Vec<_>) = properties.into_iter().partition(|(_, e)| waits(e));
            let waiting = condition.as_ref().is_some_and(waits);
            if waiting || !later.is_empty() {
                let name = filter.variable.clone().unwrap_or_else(|| Name {
                    text: format!("#late{}", late.len()).into(),
                    span: Default::default(),
                });
                if filter.variable.is_none() {
                    let kind = if matches!(element, PathElement::Node(_)) {
                        VariableKind::Node
                    } else {
                        VariableKind::Edge
                    };
                    self.schema.push(name.text.clone(), kind);
                }
                let filter = match element {
                    PathElement::Node(node) => &mut node.filter,
                    PathElement::Edge(edge, _) => &mut edge.filter,
                    _ => continue,
                };
                let waited = ElementFilter {
                    variable: Some(name.clone()),
                    labels: None,
                    properties: later,
                    condition: if waiting { filter.condition.take() } else { None },
                };
                filter.variable = Some(name.clone());
                filter.properties = now;
                late.extend(equalities(&name.text, &waited));
            } else {
                let filter = match element {
                    PathElement::Node(node) => &mut node.filter,
                    PathElement::Edge(edge, _) => &mut edge.filter,
                    _ => continue,
                };
                filter.properties = now;
            }
        }
        let mut tested = vec![];
        for condition in &late {
            tested.push(self.condition(condition)?);
        }
        next = self.test_at_end(tested, next)?;
        for (element, before) in own.iter().zip(&known).rev() {
            next = match element {
                PathElement::Node(node) => self.node(node, next, before)?,
                PathElement::Edge(edge, None) => self.edge(edge, next, before)?,
                PathElement::Edge(edge, Some(q)) => {
                    let alone = [PathElement::Edge(edge.clone(), None)];
                    self.repeat(q, next, |b, next| b.term(&alone, next, &BTreeSet::new()))?
                }
                PathElement::Group(group) => {
                    match &group.quantifier {
                        // Under `?` a variable stays single and may have been bound before.
                        Some(q) if q.optional => {
                            self.repeat(q, next, |b, next| b.group(group, next, before))?
                        }
                        Some(q) => self.repeat(q, next, |b, next| b.group(group, next, &BTreeSet::new()))?,
                        None => self.group(group, next, before)?,
                    }
                }
                PathElement::Alternatives(alternatives) => self.alternatives(alternatives, next, before)?,
            };
        }
        Ok(next)
    }

    fn alternatives(
        &mut self, alternatives: &Alternatives, next: usize, before: &BTreeSet<Arc<str>>,
    ) -> Outcome<usize> {
        let mut entry = None;
        for (i, branch) in alternatives.branches.iter().enumerate().rev() {
            let mut begin = self.term(&branch.elements, next, before)?;
            if alternatives.multiset {
                begin = self.push(State::Mark { mark: Mark::Branch(i as u32), next: begin })?;
            }
            entry = Some(match entry {
                None => begin,
                Some(others) => self.push(State::Fork(begin, others))?,
            });
        }
        Ok(entry.unwrap_or(next))
    }

    fn group(&mut self, group: &PathGroup, next: usize, before: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        let mut next = next;
        let conditions: Vec<&Expression> = group.condition.iter().flat_map(|c| c.conjuncts()).collect();
        let mode = group.mode.filter(|m| *m != PathMode::Walk);
        if mode.is_some() {
            next = self.mark(Mark::ModeEnds, next)?;
        }
        let path =
            group.variable.as_ref().and_then(|n| self.schema.slot(&n.text)).map(|slot| slot - self.width);
        if let Some(local) = path {
            next = self.mark(Mark::PathEnds { local }, next)?;
        }
        let mut entry = self.part(&group.term.elements, &conditions, next, before)?;
        if path.is_some() {
            entry = self.mark(Mark::PathBegins, entry)?;
        }
        if let Some(mode) = mode {
            entry = self.mark(Mark::ModeBegins(mode), entry)?;
        }
        Ok(entry)
    }

    fn mark(&mut self, mark: Mark, next: usize) -> Outcome<usize> {
        self.marked = true;
        self.push(State::Mark { mark, next })
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

    /// Whether the name was bound before, so that the element must be the same one.
    fn again(&self, filter: &ElementFilter, before: &BTreeSet<Arc<str>>) -> bool {
        filter.variable.as_ref().is_some_and(|n| before.contains(&n.text))
    }

    fn node(&mut self, node: &NodePattern, next: usize, before: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        if node.filter == ElementFilter::default() {
            return Ok(next);
        }
        let again = self.again(&node.filter, before);
        let (local, tested) = self.filter(&node.filter, VariableKind::Node)?;
        let (conditions, lists) = split(tested);
        let test = self.planner.scope.node_test(node.filter.labels.as_ref().map(|l| &l.0));
        let state = self.push(State::Node { test, local, again, conditions, next })?;
        self.make_lists(lists, state)
    }

    fn edge(&mut self, edge: &EdgePattern, next: usize, before: &BTreeSet<Arc<str>>) -> Outcome<usize> {
        let again = self.again(&edge.filter, before);
        let (local, tested) = self.filter(&edge.filter, VariableKind::Edge)?;
        let (conditions, lists) = split(tested);
        let test = self.planner.scope.edge_test(edge.filter.labels.as_ref().map(|l| &l.0));
        let direction = edge.direction;
        let state = self.push(State::Edge { test, direction, local, again, conditions, next })?;
        self.make_lists(lists, state)
    }

    fn filter(
        &mut self, filter: &ElementFilter, kind: VariableKind,
    ) -> Outcome<(Option<usize>, Vec<Tested>)> {
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
            conditions.push(self.condition(&expression)?);
        }
        Ok((local, conditions))
    }

    /// A condition of the innermost part that is open. What a quantifier within a part binds is a list for
    /// the part's conditions: such lists get locals of their own.
    fn condition(&mut self, e: &Expression) -> Outcome<Tested> {
        let mut lists = vec![];
        let mut schema = self.schema.clone();
        for name in expression_variables(e) {
            let open = self.scopes.iter().rev().enumerate();
            let mut declared = open.filter_map(|(out, scope)| {
                let (_, kind) = scope.kinds.iter().find(|(known, _)| *known == name)?;
                Some((out, *kind))
            });
            let Some((parts_out, kind)) = declared.next().filter(|(_, kind)| kind.is_group()) else {
                continue;
            };
            let Some(single) = self.schema.slot(&name) else { continue };
            let inner = &self.scopes[self.scopes.len() - parts_out..];
            let out = inner.iter().filter(|scope| scope.lists).count();
            let into = self.schema.push(format!("#list{}", self.schema.len()), kind);
            schema.push("#list", kind);
            schema.rename(single, "#single");
            schema.rename(into, &name);
            lists.push(Mark::List { local: single - self.width, out, into: into - self.width });
        }
        let condition = self.planner.compile(e, &schema)?;
        Ok(Tested { condition, lists })
    }
}

fn split(tested: Vec<Tested>) -> (Vec<Expr>, Vec<Mark>) {
    let (conditions, lists): (Vec<Expr>, Vec<Vec<Mark>>) =
        tested.into_iter().map(|t| (t.condition, t.lists)).unzip();
    (conditions, lists.concat())
}
