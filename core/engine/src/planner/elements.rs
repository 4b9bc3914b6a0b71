//! Elements of path patterns: inlining of parts, names they bind and read, their text.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::LabelExpression;
use graphodrome_language::ast::*;
use graphodrome_language::{expression_variables, term_variables};

use crate::planner::pattern_graph::PatternNode;

/// The elements with parenthesised parts that are not repeated written out in place; `None` where two
/// names meet at one node.
pub(super) fn inlined(
    elements: &[PathElement], repeatable: bool, conditions: &mut Vec<Expression>,
) -> Option<Vec<PathElement>> {
    let mut out: Vec<PathElement> = vec![];
    for element in elements {
        match element {
            PathElement::Group(group) if can_be_inlined(group, repeatable) => {
                for condition in group.condition.iter().flat_map(|c| c.conjuncts()) {
                    conditions.push(condition.clone());
                }
                for inner in inlined(&group.term.elements, repeatable, conditions)? {
                    join(&mut out, inner)?;
                }
            }
            other => join(&mut out, other.clone())?,
        }
    }
    Some(out)
}

/// Takes the conditions of a path's end that read variables of the path, as a node of the path's own;
/// also where its name stands on the path again.
pub(super) fn within_path(node: &mut NodePattern, names: &BTreeSet<Arc<str>>) -> Option<PathElement> {
    let reads = |e: &Expression| expression_variables(e).iter().any(|v| names.contains(v));
    let variable = node.filter.variable.clone()?;
    let (inside, outside): (Vec<_>, Vec<_>) =
        std::mem::take(&mut node.filter.properties).into_iter().partition(|(_, e)| reads(e));
    node.filter.properties = outside;
    let condition = node.filter.condition.take_if(|c| reads(c));
    if inside.is_empty() && condition.is_none() && !names.contains(&variable.text) {
        return None;
    }
    let filter = ElementFilter { variable: Some(variable), labels: None, properties: inside, condition };
    Some(PathElement::Node(NodePattern { filter, span: node.span }))
}

/// Whether a parenthesised part says nothing that its elements do not say in its place.
pub(super) fn can_be_inlined(group: &PathGroup, repeatable: bool) -> bool {
    let plain_mode = match group.mode {
        None | Some(PathMode::Walk) => true,
        // Within one MATCH no edge comes twice anyway.
        Some(PathMode::Trail) => !repeatable,
        Some(_) => false,
    };
    let alternatives = matches!(group.term.elements[..], [PathElement::Alternatives(_)]);
    group.quantifier.is_none() && group.variable.is_none() && plain_mode && !alternatives
}

/// Whether an element's matches differ in length or kind.
pub(super) fn varies(element: &PathElement) -> bool {
    let quantified = |q: &Option<Quantifier>| q.is_some_and(|q| q.max != Some(q.min));
    match element {
        PathElement::Node(_) => false,
        PathElement::Edge(_, q) => quantified(q),
        PathElement::Group(group) => quantified(&group.quantifier) || group.term.elements.iter().any(varies),
        PathElement::Alternatives(_) => true,
    }
}

/// The elements with those of parenthesised parts in their places.
pub(super) fn flat(elements: &[PathElement]) -> Vec<PathElement> {
    elements
        .iter()
        .flat_map(|element| match element {
            PathElement::Group(group) if group.quantifier.is_none() => flat(&group.term.elements),
            other => vec![other.clone()],
        })
        .collect()
}

/// Appends an element; two nodes side by side are one node.
pub(super) fn join(out: &mut Vec<PathElement>, element: PathElement) -> Option<()> {
    let (Some(PathElement::Node(before)), PathElement::Node(node)) = (out.last_mut(), &element) else {
        out.push(element);
        return Some(());
    };
    let blank = ElementFilter::default();
    if before.filter == blank {
        *before = node.clone();
    } else if node.filter != blank {
        let same_name = before.filter.variable.as_ref().map(|n| &n.text)
            == node.filter.variable.as_ref().map(|n| &n.text);
        if !same_name && before.filter.variable.is_some() && node.filter.variable.is_some() {
            return None;
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
    Some(())
}

pub(super) fn show_filter(filter: &ElementFilter) -> String {
    let name = filter.variable.as_ref().map_or("", |n| &n.text);
    match &filter.labels {
        Some((labels, _)) => format!("{name}:{labels}"),
        None => name.to_string(),
    }
}

pub(super) fn show_edge(edge: &EdgePattern, quantifier: Option<&Quantifier>) -> String {
    let (open, close) = edge.direction.brackets();
    format!(
        "{open}{}{close}{}",
        show_filter(&edge.filter),
        quantifier.map(show_quantifier).unwrap_or_default()
    )
}

pub(super) fn show_quantifier(q: &Quantifier) -> String {
    match (q.min, q.max) {
        (0, Some(1)) if q.optional => "?".into(),
        (0, None) => "*".into(),
        (1, None) => "+".into(),
        (min, None) => format!("{{{min},}}"),
        (min, Some(max)) if min == max => format!("{{{min}}}"),
        (min, Some(max)) => format!("{{{min},{max}}}"),
    }
}

pub(super) fn show_elements(elements: &[PathElement]) -> String {
    elements
        .iter()
        .map(|e| match e {
            PathElement::Node(node) => format!("({})", show_filter(&node.filter)),
            PathElement::Edge(edge, q) => show_edge(edge, q.as_ref()),
            PathElement::Group(group) => {
                let q = group.quantifier.as_ref().map(show_quantifier).unwrap_or_default();
                format!("({}){q}", show_elements(&group.term.elements))
            }
            PathElement::Alternatives(alternatives) => {
                let sign = if alternatives.multiset { " |+| " } else { " | " };
                alternatives
                    .branches
                    .iter()
                    .map(|b| show_elements(&b.elements))
                    .collect::<Vec<_>>()
                    .join(sign)
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
            PathElement::Alternatives(alternatives) => {
                let turned = |b: &PathTerm| PathTerm { elements: reversed(&b.elements) };
                let branches = alternatives.branches.iter().map(turned).collect();
                PathElement::Alternatives(Box::new(Alternatives { branches, ..(**alternatives).clone() }))
            }
        })
        .collect()
}

pub(super) fn names_in(elements: &[PathElement]) -> BTreeSet<Arc<str>> {
    let term = PathTerm { elements: elements.to_vec() };
    term_variables(&term).into_iter().map(|(n, _)| n.text).collect()
}

/// Whether every condition reads only what is bound by the end of the part it stands in, when the elements
/// are walked in this order.
pub(super) fn walkable(elements: &[PathElement]) -> bool {
    part_walkable(elements, &names_in(elements), &BTreeSet::new())
}

/// `all` are the names of the whole program, `before` those bound when the part begins.
pub(super) fn part_walkable(
    elements: &[PathElement], all: &BTreeSet<Arc<str>>, before: &BTreeSet<Arc<str>>,
) -> bool {
    let here = names_in(elements);
    let readable = |e: &Expression, own: &BTreeSet<Arc<str>>, bound: &BTreeSet<Arc<str>>| {
        expression_variables(e).iter().all(|n| !all.contains(n) || own.contains(n) || bound.contains(n))
    };
    let filter = |f: &ElementFilter| {
        f.properties.iter().all(|(_, e)| readable(e, &here, before))
            && f.condition.iter().all(|e| readable(e, &here, before))
    };
    let mut bound = before.clone();
    for element in elements {
        let fits = match element {
            PathElement::Node(node) => filter(&node.filter),
            PathElement::Edge(edge, None) => filter(&edge.filter),
            PathElement::Edge(edge, Some(_)) => {
                part_walkable(&[PathElement::Edge(edge.clone(), None)], all, &bound)
            }
            PathElement::Group(group) => {
                let own = names_in(&group.term.elements);
                part_walkable(&group.term.elements, all, &bound)
                    && group.condition.iter().all(|e| readable(e, &own, &bound))
            }
            PathElement::Alternatives(a) => {
                a.branches.iter().all(|b| part_walkable(&b.elements, all, &bound))
            }
        };
        if !fits {
            return false;
        }
        bound.extend(names_in(std::slice::from_ref(element)));
    }
    true
}

pub(super) fn reads_any(conditions: &[&Expression], names: &BTreeSet<Arc<str>>) -> bool {
    conditions.iter().any(|e| expression_variables(e).iter().any(|v| names.contains(v)))
}

/// Whether conditions within the elements read one of these variables as it is seen from around them: in a
/// part that binds it, it is that part's own.
pub(super) fn reads_lists(elements: &[PathElement], groups: &BTreeSet<Arc<str>>) -> bool {
    if groups.is_empty() {
        return false;
    }
    let without = |inner: &[PathElement]| -> BTreeSet<Arc<str>> {
        groups.difference(&names_in(inner)).cloned().collect()
    };
    let filter_reads = |filter: &ElementFilter, groups: &BTreeSet<Arc<str>>| {
        let read: Vec<&Expression> =
            filter.properties.iter().map(|(_, e)| e).chain(&filter.condition).collect();
        reads_any(&read, groups)
    };
    elements.iter().any(|element| match element {
        PathElement::Node(node) => filter_reads(&node.filter, groups),
        PathElement::Edge(edge, None) => filter_reads(&edge.filter, groups),
        PathElement::Edge(edge, Some(_)) => {
            filter_reads(&edge.filter, &without(std::slice::from_ref(&PathElement::Edge(edge.clone(), None))))
        }
        PathElement::Group(group) => {
            let left = without(&group.term.elements);
            let condition: Vec<&Expression> = group.condition.iter().collect();
            reads_any(&condition, &left) || reads_lists(&group.term.elements, &left)
        }
        PathElement::Alternatives(a) => {
            a.branches.iter().any(|b| reads_lists(&b.elements, &without(&b.elements)))
        }
    })
}
