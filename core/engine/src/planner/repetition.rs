//! Parts of a path that are repeated so many times exactly, written out one after the other.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{Span, expression_variables, term_expressions, term_variables};

use crate::plan::Schema;
use crate::planner::clauses::replace;
use crate::planner::elements::{inlined, join};
use crate::planner::state::Planner;

/// More edges than these are repeated, not written out.
const MOST_WRITTEN_OUT: usize = 8;

/// How often each name stands in a pattern.
pub(super) type Mentions = BTreeMap<Arc<str>, usize>;

pub(super) fn mention(e: &Expression, mentions: &mut Mentions) {
    expression_variables(e).into_iter().for_each(|name| *mentions.entry(name).or_default() += 1);
}

fn mentioned_in(term: &PathTerm, mentions: &mut Mentions) {
    term_variables(term).into_iter().for_each(|(name, _)| *mentions.entry(name.text).or_default() += 1);
    term_expressions(term, &mut |e| mention(e, mentions));
}

/// The names of a whole pattern.
pub(super) fn mentions(pattern: &GraphPattern) -> Mentions {
    let mut found = Mentions::new();
    for path in &pattern.paths {
        mentioned_in(&path.term, &mut found);
        path.weight.iter().for_each(|e| mention(e, &mut found));
    }
    // Conjunct by conjunct, so that each that reads a name counts.
    pattern.condition.iter().flat_map(|e| e.conjuncts()).for_each(|e| mention(e, &mut found));
    found
}

/// What is read of a repeated part.
#[derive(Clone, Copy)]
pub(super) struct Read<'a> {
    /// Of the whole pattern, the part included.
    pub mentions: &'a Mentions,
    /// By what comes after the pattern.
    pub needed: &'a BTreeSet<Arc<str>>,
    /// What was bound before.
    pub bound: &'a Schema,
}

/// A part that is repeated, and how often.
struct RepeatedPart {
    times: usize,
    elements: Vec<PathElement>,
    condition: Option<Expression>,
}

fn repeated(element: &PathElement) -> Option<RepeatedPart> {
    let times = |q: &Quantifier| (q.max == Some(q.min) && q.min > 0).then_some(q.min as usize);
    let found = match element {
        PathElement::Edge(edge, Some(q)) => RepeatedPart {
            times: times(q)?,
            elements: vec![PathElement::Edge(edge.clone(), None)],
            condition: None,
        },
        PathElement::Group(group) if group.mode.is_none() && group.variable.is_none() => {
            let mut conditions: Vec<Expression> = group.condition.clone().into_iter().collect();
            RepeatedPart {
                times: times(group.quantifier.as_ref()?)?,
                elements: inlined(&group.term.elements, false, &mut conditions)?,
                condition: conditions.into_iter().reduce(both),
            }
        }
        _ => return None,
    };
    let simple = |e: &PathElement| matches!(e, PathElement::Node(_) | PathElement::Edge(_, None));
    let edges = found.elements.iter().filter(|e| matches!(e, PathElement::Edge(..))).count();
    let few = edges > 0 && found.times.saturating_mul(edges) <= MOST_WRITTEN_OUT;
    (few && found.elements.iter().all(simple)).then_some(found)
}

fn both(a: Expression, b: Expression) -> Expression {
    let span = a.span;
    Expression { kind: ExpressionKind::Binary(BinaryOperator::And, Box::new(a), Box::new(b)), span }
}

fn filter_of(element: &mut PathElement) -> Option<&mut ElementFilter> {
    match element {
        PathElement::Node(node) => Some(&mut node.filter),
        PathElement::Edge(edge, _) => Some(&mut edge.filter),
        _ => None,
    }
}

/// Names and all that reads them, renamed throughout; `false` where a query of its own is among what reads.
fn rename(elements: &mut [PathElement], names: &BTreeMap<Arc<str>, Arc<str>>) -> bool {
    let mut whole = true;
    for filter in elements.iter_mut().filter_map(filter_of) {
        if let Some(variable) = &mut filter.variable
            && let Some(name) = names.get(&variable.text)
        {
            variable.text = name.clone();
        }
        for e in filter.properties.iter_mut().map(|(_, e)| e).chain(&mut filter.condition) {
            whole &= renamed(e, names);
        }
    }
    whole
}

fn renamed(e: &mut Expression, names: &BTreeMap<Arc<str>, Arc<str>>) -> bool {
    replace(e, &|read| names.get(read).map(|name| ExpressionKind::Variable(name.clone())))
}

fn name_of(element: Option<&PathElement>) -> Option<Arc<str>> {
    match element {
        Some(PathElement::Node(node)) => node.filter.variable.as_ref().map(|name| name.text.clone()),
        _ => None,
    }
}

impl Planner<'_> {
    /// The elements with such parts written out, where nobody reads what they name from outside.
    pub(super) fn written_out(
        &mut self, elements: Vec<PathElement>, read: &Read<'_>, conditions: &mut Vec<Expression>,
    ) -> Vec<PathElement> {
        let mut out: Vec<PathElement> = vec![];
        // Names of the nodes at which copies end, which another may be given.
        let mut open: BTreeSet<Arc<str>> = BTreeSet::new();
        for element in elements {
            let copies = match self.copies(&element, &out, read, &mut open) {
                Some(copies) => copies,
                None => {
                    let meets = name_of(out.last()).filter(|name| open.contains(name));
                    if let (Some(before), Some(name)) = (meets, name_of(Some(&element))) {
                        // No query that a user wrote reads the name of a copy.
                        let names = BTreeMap::from([(before, name)]);
                        rename(&mut out, &names);
                        conditions.iter_mut().for_each(|e| {
                            renamed(e, &names);
                        });
                    }
                    if join(&mut out, element.clone()).is_none() {
                        out.push(element);
                    }
                    continue;
                }
            };
            for (part, condition) in copies {
                conditions.extend(condition);
                part.into_iter().for_each(|inner| {
                    join(&mut out, inner);
                });
            }
        }
        out
    }

    /// The part's copies, each with names of its own but for the node that it shares with what is before it.
    fn copies(
        &mut self, element: &PathElement, before: &[PathElement], read: &Read<'_>,
        open: &mut BTreeSet<Arc<str>>,
    ) -> Option<Vec<(Vec<PathElement>, Option<Expression>)>> {
        let RepeatedPart { times, mut elements, condition } = repeated(element)?;
        let term = PathTerm { elements: vec![element.clone()] };
        let mut own = Mentions::new();
        mentioned_in(&term, &mut own);
        let names: BTreeSet<Arc<str>> = term_variables(&term).into_iter().map(|(n, _)| n.text).collect();
        let all = read.needed.contains("*");
        let is_read = |name: &Arc<str>| {
            let elsewhere = read.mentions.get(name) != own.get(name);
            all || elsewhere || read.needed.contains(name) || read.bound.slot(name).is_some()
        };
        if names.iter().any(is_read) {
            return None;
        }
        let blank =
            || PathElement::Node(NodePattern { filter: ElementFilter::default(), span: Span::default() });
        if !matches!(elements.first(), Some(PathElement::Node(_))) {
            elements.insert(0, blank());
        }
        if !matches!(elements.last(), Some(PathElement::Node(_))) {
            elements.push(blank());
        }
        let mut apart: Vec<PathElement> = vec![];
        for element in elements {
            if let (Some(PathElement::Edge(..)), PathElement::Edge(..)) = (apart.last(), &element) {
                apart.push(blank());
            }
            join(&mut apart, element)?;
        }
        let mut copies = vec![];
        let mut meets = name_of(before.last());
        for _ in 0..times {
            let mut own: BTreeMap<Arc<str>, Arc<str>> = BTreeMap::new();
            for name in &names {
                own.insert(name.clone(), self.hidden("copy"));
            }
            if let (Some(first), Some(meets)) = (name_of(apart.first()), &meets) {
                own.insert(first, meets.clone());
            }
            let mut copy = apart.clone();
            let mut own_condition = condition.clone();
            let whole = own_condition.as_mut().is_none_or(|e| renamed(e, &own));
            if !rename(&mut copy, &own) || !whole {
                return None;
            }
            meets = name_of(copy.last());
            open.extend(meets.iter().filter(|name| name.starts_with("#copy")).cloned());
            copies.push((copy, own_condition));
        }
        Some(copies)
    }
}
