//! Rings whose edges are written one by one, as one edge that is repeated (rule `ring-as-repetition`), where only how
//! many there are is asked.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use graphodrome_graph::Element;
use graphodrome_language::ast::*;

use crate::planner::pattern_graph::{PatternGraph, equalities, said_different};
use crate::planner::repetition::{Mentions, Read, mention};
use crate::planner::state::Planner;
use crate::rules::Rule;

/// With fewer edges than these the steps of their own are as good, unless all nodes must be different.
const SHORTEST: u32 = 4;
const SHORTEST_SIMPLE: u32 = 3;
const LONGEST: u32 = 8;

/// Rings through more nodes than these had better be looked for together, in steps of their own.
const FEW_STARTS: f64 = 100.0;

/// A ring in the form of a repetition, and the conditions that it says already.
pub(super) struct RingPattern {
    pub path: PathPattern,
    pub said: Vec<Expression>,
}

/// What is written between the first node and the last, which are one.
struct Written<'p> {
    edge: &'p EdgePattern,
    edges: u32,
    nodes: Vec<&'p NodePattern>,
    /// Names of edges.
    names: Vec<&'p Arc<str>>,
}

fn plain(filter: &ElementFilter) -> bool {
    filter.properties.is_empty() && filter.condition.is_none()
}

fn name_of(filter: &ElementFilter) -> Option<&Arc<str>> {
    filter.variable.as_ref().map(|name| &name.text)
}

fn labels_of(filter: &ElementFilter) -> Option<&graphodrome_graph::LabelExpression> {
    filter.labels.as_ref().map(|(labels, _)| labels)
}

/// The edges between two nodes, which are all alike.
fn written(elements: &[PathElement]) -> Option<Written<'_>> {
    let mut found: Option<Written<'_>> = None;
    let mut after_edge = false;
    for element in elements {
        match element {
            PathElement::Node(node) => {
                if !plain(&node.filter) || !after_edge {
                    return None;
                }
                found.as_mut()?.nodes.push(node);
                after_edge = false;
            }
            PathElement::Edge(edge, quantifier) => {
                let times = match quantifier {
                    None => 1,
                    Some(q) if q.max == Some(q.min) && q.min > 0 => q.min,
                    Some(_) => return None,
                };
                let ring = found.get_or_insert(Written { edge, edges: 0, nodes: vec![], names: vec![] });
                let alike = ring.edge.direction == edge.direction
                    && labels_of(&ring.edge.filter) == labels_of(&edge.filter);
                if !plain(&edge.filter) || !alike {
                    return None;
                }
                ring.names.extend(name_of(&edge.filter));
                ring.edges = ring.edges.checked_add(times).filter(|edges| *edges <= LONGEST)?;
                after_edge = true;
            }
            _ => return None,
        }
    }
    found.filter(|_| after_edge)
}

impl Planner<'_> {
    /// About how many nodes a ring begins at.
    fn starts(&self, start: &Arc<str>, nodes: &[&NodePattern], conjuncts: &[Expression]) -> f64 {
        let lists = self.may(Rule::AlternativesAsList);
        let mut graph = PatternGraph { lists, ..PatternGraph::default() };
        for node in nodes.iter().filter(|node| name_of(&node.filter) == Some(start)) {
            graph.node(start.clone(), labels_of(&node.filter).cloned());
            equalities(start, &node.filter).into_iter().for_each(|e| graph.add_condition(e));
        }
        conjuncts.iter().for_each(|e| graph.add_condition(e.clone()));
        let labels = graph.nodes.first().and_then(|node| node.labels.clone());
        self.node_total(&labels) * self.share(start, &labels, &graph.conditions, Element::Node)
    }

    /// The path as a repetition, if it is such a ring. `nodes` and `conjuncts` are those of all patterns that are planned
    /// together, `counted` says that nothing is asked but how many rows there are.
    pub(super) fn ring(
        &self, path: &PathPattern, (nodes_of_all, conjuncts): (&[&NodePattern], &[Expression]),
        read: &Read<'_>, counted: bool,
    ) -> Option<RingPattern> {
        let elements = &path.term.elements;
        let (Some(PathElement::Node(first)), Some(PathElement::Node(last))) =
            (elements.first(), elements.last())
        else {
            return None;
        };
        let own_mode = !matches!(path.mode, None | Some(PathMode::Walk));
        let start = name_of(&first.filter)?;
        if !counted
            || own_mode
            || path.search != PathSearch::All
            || Some(start) != name_of(&last.filter)
            || elements.len() < 3
            || !self.may(Rule::RingAsRepetition)
        {
            return None;
        }
        let ring = written(&elements[1..elements.len() - 1])?;
        let is_read = |name: &Arc<str>| {
            read.needed.contains(name) || read.needed.contains("*") || read.bound.slot(name).is_some()
        };
        let inner: Vec<&Arc<str>> = ring.nodes.iter().filter_map(|node| name_of(&node.filter)).collect();
        let path_name = path.variable.iter().map(|name| &name.text);
        let names: Vec<&Arc<str>> = ring.names.iter().copied().chain(inner.iter().copied()).collect();
        if names.iter().copied().chain(path_name).any(is_read) {
            return None;
        }
        // Each name stands where it is bound, and in what says that nodes are different; nowhere else.
        let mut mentions: BTreeMap<&Arc<str>, usize> = BTreeMap::new();
        names.iter().for_each(|name| *mentions.entry(name).or_default() += 1);
        if names.iter().any(|name| mentions[name] > 1 || *name == start) {
            return None;
        }
        let nodes: BTreeSet<&Arc<str>> = inner.iter().copied().chain([start]).collect();
        let mut pairs: BTreeSet<(&Arc<str>, &Arc<str>)> = BTreeSet::new();
        let mut said = vec![];
        for condition in conjuncts {
            let Some(different) = said_different(condition) else { continue };
            let of_ring = different.iter().all(|(a, b)| nodes.contains(a) && nodes.contains(b));
            let of_inner = different.iter().any(|(a, b)| *a != start || *b != start);
            if !of_ring || !of_inner || different.iter().any(|(a, b)| a == b) {
                continue;
            }
            pairs.extend(different.iter().map(|(a, b)| if a < b { (*a, *b) } else { (*b, *a) }));
            let mut of_condition = Mentions::new();
            mention(condition, &mut of_condition);
            for (name, times) in of_condition {
                if let Some((_, mentions)) = mentions.iter_mut().find(|(known, _)| ***known == name) {
                    *mentions += times;
                }
            }
            said.push(condition.clone());
        }
        if mentions.iter().any(|(name, times)| read.mentions.get(*name) != Some(times)) {
            return None;
        }
        let simple = !said.is_empty();
        let all_pairs = nodes.len() * (nodes.len() - 1) / 2;
        let every_node_named = ring.nodes.len() as u32 + 1 == ring.edges && inner.len() == ring.nodes.len();
        if simple && (pairs.len() != all_pairs || !every_node_named) {
            return None;
        }
        if ring.edges < if simple { SHORTEST_SIMPLE } else { SHORTEST } {
            return None;
        }
        // Rows of rings of different nodes would have to be made, but for those of three.
        let by_steps = !simple || ring.edges == SHORTEST_SIMPLE;
        let bound = read.bound.slot(start).is_some();
        if by_steps && !bound && self.starts(start, nodes_of_all, conjuncts) > FEW_STARTS {
            return None;
        }
        let repeated = repeated(&ring, first)?;
        let mode = if simple { Some(PathMode::Simple) } else { path.mode };
        let elements = vec![elements[0].clone(), repeated, elements[elements.len() - 1].clone()];
        Some(RingPattern { path: PathPattern { mode, term: PathTerm { elements }, ..path.clone() }, said })
    }
}

/// The ring's edges as one; `None` where its nodes ask for different labels.
fn repeated(ring: &Written<'_>, first: &NodePattern) -> Option<PathElement> {
    let span = ring.edge.span;
    let edges = ring.edges;
    let quantifier = Quantifier { min: edges, max: Some(edges), optional: false, span };
    let filter = ElementFilter { variable: None, ..ring.edge.filter.clone() };
    let edge = EdgePattern { filter, ..ring.edge.clone() };
    let mut labels: BTreeSet<Option<String>> = BTreeSet::new();
    ring.nodes.iter().for_each(|node| {
        labels.insert(labels_of(&node.filter).map(|labels| format!("{labels:?}")));
    });
    if labels.iter().all(Option::is_none) {
        return Some(PathElement::Edge(edge, Some(quantifier)));
    }
    // Where all nodes between ask for the labels that the first has, each edge leads from such a node to another.
    let of_first = labels_of(&first.filter).map(|labels| format!("{labels:?}"));
    let each_named = ring.nodes.len() as u32 + 1 == edges;
    if labels.len() > 1 || labels.first() != Some(&of_first) || !each_named {
        return None;
    }
    let filter = ElementFilter { labels: first.filter.labels.clone(), ..ElementFilter::default() };
    let node = PathElement::Node(NodePattern { filter, span });
    let term = PathTerm { elements: vec![node.clone(), PathElement::Edge(edge, None), node] };
    let quantifier = Some(quantifier);
    let group = PathGroup { variable: None, mode: None, term, condition: None, quantifier, span };
    Some(PathElement::Group(Box::new(group)))
}
