//! The reference evaluator: the language by its definition, slowly, from the syntax tree. Every path is written
//! down with what each of its elements is bound to; selection, distinctness and joins come after. It shares
//! nothing with the engine but the parser.

#![allow(clippy::unwrap_used)]
#![allow(dead_code)] // Each test takes what it needs.

mod clauses;
mod expressions;
mod values;

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use graphodrome_graph::{Direction, LabelExpression, label_set};
use graphodrome_language::ast::*;
use graphodrome_language::{VariableKind, pattern_variables};

#[allow(unused_imports)] // Not by those of patterns alone.
pub use clauses::answer;
pub use values::Datum;

#[derive(Clone, Debug)]
pub struct Node {
    pub labels: Vec<&'static str>,
    pub properties: Vec<(&'static str, Datum)>,
}

#[derive(Clone, Debug)]
pub struct Edge {
    pub from: usize,
    pub to: usize,
    pub label: &'static str,
    pub directed: bool,
    pub properties: Vec<(&'static str, Datum)>,
}

pub struct Graph {
    pub nodes: Vec<Node>,
    pub edges: Vec<Edge>,
}

#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Element {
    Node(usize),
    Edge(usize),
    Path(Vec<usize>, Vec<usize>),
}

/// A path with what was bound along it: name, element, how many edges the path had then.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Way {
    pub nodes: Vec<usize>,
    pub edges: Vec<usize>,
    pub bound: Vec<Bound>,
    /// Alternatives that tell matches apart.
    pub tags: Vec<(usize, usize)>,
}

type Bound = (Arc<str>, Element, usize);

/// A row: what each variable stands for.
pub type Row = BTreeMap<Arc<str>, Datum>;

/// Why there is no answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Trouble {
    /// The data raise an error, though a plan may get past it.
    Data,
    /// More than can be listed.
    TooMuch,
}

impl Graph {
    fn fits(labels: &Option<(LabelExpression, Vec<Name>)>, own: &[&str]) -> bool {
        labels.as_ref().is_none_or(|(l, _)| l.matches(&label_set(own.iter().copied())))
    }

    /// The node at the other end, where the edge may be walked from `at`. A loop is walked one way.
    fn walk(e: &Edge, at: usize, direction: Direction) -> Option<usize> {
        if e.directed {
            if e.from == at && direction.takes_out() {
                return Some(e.to);
            }
            return (e.to == at && direction.takes_in()).then_some(e.from);
        }
        let other = if e.from == at { e.to } else { e.from };
        ((e.from == at || e.to == at) && direction.takes_undirected()).then_some(other)
    }
}

fn path_allowed(mode: PathMode, nodes: &[usize], edges: &[usize]) -> bool {
    let different = |items: &[usize]| items.iter().collect::<BTreeSet<_>>().len() == items.len();
    match mode {
        PathMode::Walk => true,
        PathMode::Trail => different(edges),
        PathMode::Acyclic => different(nodes),
        PathMode::Simple => {
            different(nodes) || nodes.len() > 1 && nodes.first() == nodes.last() && different(&nodes[1..])
        }
    }
}

pub struct Matcher<'g> {
    pub graph: &'g Graph,
    /// No path is followed further.
    pub longest: usize,
    /// Edges that may still be tried.
    left: Cell<u64>,
    failed: RefCell<Option<Trouble>>,
    /// Variables under a quantifier.
    groups: RefCell<BTreeSet<Arc<str>>>,
    /// Whether something was ordered whose order the reference does not know.
    mixed_order: Cell<bool>,
}

impl<'g> Matcher<'g> {
    pub fn new(graph: &'g Graph, longest: usize, steps: u64) -> Matcher<'g> {
        Matcher {
            graph,
            longest,
            left: Cell::new(steps),
            failed: RefCell::new(None),
            groups: RefCell::default(),
            mixed_order: Cell::new(false),
        }
    }

    /// Whether a condition is true of what is bound. An error is kept for later.
    fn holds(&self, e: &Expression, outer: &Row, bound: &[Bound]) -> bool {
        match self.truth(e, &self.row_of(outer, bound)) {
            Ok(truth) => truth == Some(true),
            Err(trouble) => {
                self.failed.borrow_mut().get_or_insert(trouble);
                false
            }
        }
    }

    /// Binds, where a name within one scope must be the same element each time.
    fn bind(way: &mut Way, scope: usize, filter: &ElementFilter, element: Element) -> bool {
        let Some(name) = &filter.variable else { return true };
        let single = way.bound[scope..].iter().find(|(n, ..)| *n == name.text);
        if let Some((_, before, _)) = single {
            let same = *before == element;
            // Where it stands again tells matches apart.
            let place = way.bound.iter().rposition(|(n, ..)| *n == name.text).unwrap();
            way.tags.push((1000 + place, way.edges.len()));
            return same;
        }
        let at = way.edges.len();
        way.bound.push((name.text.clone(), element, at));
        true
    }

    /// Whether a filter's conditions hold once everything of its scope is bound; the element is `own`.
    fn filter_holds(&self, filter: &ElementFilter, own: &Element, outer: &Row, bound: &[Bound]) -> bool {
        let mut bound = bound.to_vec();
        if let Some(name) = &filter.variable {
            bound.push((name.text.clone(), own.clone(), 0));
        }
        let listed = filter.properties.iter().all(|(name, wanted)| {
            let own = self.property(own, &name.text);
            let row = self.row_of(outer, &bound);
            let same = self.value(wanted, &row).and_then(|wanted| own.equals(&wanted));
            same.unwrap_or_else(|trouble| {
                self.failed.borrow_mut().get_or_insert(trouble);
                None
            }) == Some(true)
        });
        listed && filter.condition.iter().all(|c| self.holds(c, outer, &bound))
    }

    fn row_of(&self, outer: &Row, bound: &[Bound]) -> Row {
        let mut row = outer.clone();
        for (name, element, _) in bound {
            row.insert(name.clone(), Datum::Element(element.clone()));
        }
        row
    }

    /// All ways on from `way` through the elements. `scope` is where the bindings of this scope begin;
    /// conditions are tested when the scope ends.
    fn elements(
        &self, elements: &[PathElement], way: &Way, scope: usize, within: &Within,
        late: &mut Vec<(Way, Vec<Late>)>, waiting: Vec<Late>,
    ) {
        let Some((element, rest)) = elements.split_first() else {
            late.push((way.clone(), waiting));
            return;
        };
        match element {
            PathElement::Node(node) => {
                let at = *way.nodes.last().unwrap();
                let mut way = way.clone();
                if !Graph::fits(&node.filter.labels, &self.graph.nodes[at].labels)
                    || !Self::bind(&mut way, scope, &node.filter, Element::Node(at))
                {
                    return;
                }
                let mut waiting = waiting;
                waiting.push(Late { filter: node.filter.clone(), own: Element::Node(at) });
                self.elements(rest, &way, scope, within, late, waiting);
            }
            PathElement::Edge(edge, None) => self.edge(edge, way, within, &mut |i, next| {
                let mut way = way.clone();
                if !Self::bind(&mut way, scope, &edge.filter, Element::Edge(i)) {
                    return;
                }
                way.edges.push(i);
                way.nodes.push(next);
                let mut waiting = waiting.clone();
                waiting.push(Late { filter: edge.filter.clone(), own: Element::Edge(i) });
                self.elements(rest, &way, scope, within, late, waiting);
            }),
            PathElement::Edge(edge, Some(q)) => {
                let group = PathGroup {
                    variable: None,
                    mode: None,
                    term: PathTerm { elements: vec![PathElement::Edge(edge.clone(), None)] },
                    condition: None,
                    quantifier: Some(*q),
                    span: edge.span,
                };
                let both: Vec<PathElement> = std::iter::once(PathElement::Group(Box::new(group)))
                    .chain(rest.iter().cloned())
                    .collect();
                self.elements(&both, way, scope, within, late, waiting);
            }
            PathElement::Group(group) => match &group.quantifier {
                None => {
                    for (way, more) in self.group_once(group, way, scope, within) {
                        let waiting = [waiting.clone(), more].concat();
                        self.elements(rest, &way, scope, within, late, waiting);
                    }
                }
                Some(q) => {
                    let mut level = vec![way.clone()];
                    let mut round = 0;
                    loop {
                        if round >= q.min {
                            for way in &level {
                                self.elements(rest, way, scope, within, late, waiting.clone());
                            }
                        }
                        if q.max == Some(round) || level.is_empty() {
                            return;
                        }
                        let mut next = vec![];
                        for way in &level {
                            let begin = if q.optional { scope } else { way.bound.len() };
                            for (way, conditions) in self.group_once(group, way, begin, within) {
                                if conditions
                                    .iter()
                                    .all(|c| self.filter_holds(&c.filter, &c.own, within.outer, &way.bound))
                                {
                                    next.push(way);
                                }
                            }
                        }
                        level = next;
                        round += 1;
                    }
                }
            },
            PathElement::Alternatives(alternatives) => {
                for (i, branch) in alternatives.branches.iter().enumerate() {
                    let mut way = way.clone();
                    if alternatives.multiset {
                        way.tags.push((i, way.edges.len()));
                    }
                    let elements: Vec<PathElement> = branch.elements.iter().chain(rest).cloned().collect();
                    self.elements(&elements, &way, scope, within, late, waiting.clone());
                }
            }
        }
    }

    fn edge(&self, edge: &EdgePattern, way: &Way, within: &Within, visit: &mut dyn FnMut(usize, usize)) {
        if way.edges.len() >= within.longest {
            return;
        }
        if self.left.get() == 0 {
            self.failed.borrow_mut().get_or_insert(Trouble::TooMuch);
            return;
        }
        self.left.set(self.left.get() - 1);
        let at = *way.nodes.last().unwrap();
        for (i, e) in self.graph.edges.iter().enumerate() {
            if within.trail && way.edges.contains(&i) || !Graph::fits(&edge.filter.labels, &[e.label]) {
                continue;
            }
            if let Some(next) = Graph::walk(e, at, edge.direction) {
                visit(i, next);
            }
        }
    }

    /// The ways through a parenthesised part once, with the conditions that wait for the scope's end.
    fn group_once(
        &self, group: &PathGroup, way: &Way, scope: usize, within: &Within,
    ) -> Vec<(Way, Vec<Late>)> {
        let from = way.edges.len();
        let mut inner = vec![];
        self.elements(&group.term.elements, way, scope, within, &mut inner, vec![]);
        inner
            .into_iter()
            .filter(|(way, _)| {
                path_allowed(group.mode.unwrap_or(PathMode::Walk), &way.nodes[from..], &way.edges[from..])
                    && group.condition.iter().all(|c| self.holds(c, within.outer, &way.bound))
            })
            .map(|(mut way, late)| {
                if let Some(name) = &group.variable {
                    let part = Element::Path(way.nodes[from..].to_vec(), way.edges[from..].to_vec());
                    let at = way.edges.len();
                    way.bound.push((name.text.clone(), part, at));
                }
                (way, late)
            })
            .collect()
    }

    /// Every distinct match of one path pattern beside an outer row, before selection.
    fn path(&self, path: &PathPattern, repeatable: bool, outer: &Row) -> BTreeSet<Way> {
        let mode = path.mode.unwrap_or(PathMode::Walk);
        let alone = path.search != PathSearch::All;
        let trail = mode == PathMode::Trail || mode == PathMode::Acyclic || !repeatable && !alone;
        let no_node_twice = matches!(mode, PathMode::Acyclic | PathMode::Simple);
        let longest = if no_node_twice { self.longest.min(self.graph.nodes.len()) } else { self.longest };
        let within = Within { outer, trail, longest };
        let mut found = BTreeSet::new();
        for start in 0..self.graph.nodes.len() {
            let way = Way { nodes: vec![start], ..Way::default() };
            let mut ended = vec![];
            self.elements(&path.term.elements, &way, 0, &within, &mut ended, vec![]);
            for (mut way, late) in ended {
                let whole = path_allowed(mode, &way.nodes, &way.edges)
                    && (!trail || path_allowed(PathMode::Trail, &way.nodes, &way.edges))
                    && late.iter().all(|l| self.filter_holds(&l.filter, &l.own, outer, &way.bound));
                if whole {
                    if let Some(name) = &path.variable {
                        let all = Element::Path(way.nodes.clone(), way.edges.clone());
                        way.bound.push((name.text.clone(), all, usize::MAX));
                    }
                    found.insert(way);
                }
            }
        }
        found
    }

    /// Per pair of ends the lengths of the matches, least first.
    pub fn lengths(&self, path: &PathPattern, repeatable: bool) -> BTreeMap<(usize, usize), Vec<usize>> {
        let mut found: BTreeMap<(usize, usize), Vec<usize>> = BTreeMap::new();
        for way in self.path(path, repeatable, &Row::new()) {
            found.entry((way.nodes[0], *way.nodes.last().unwrap())).or_default().push(way.edges.len());
        }
        found.values_mut().for_each(|lengths| lengths.sort());
        found
    }

    /// What a search prefix leaves of the ways between each pair of ends. Where the choice is free the first
    /// ones in order are as good as others.
    fn selected(&self, path: &PathPattern, ways: Vec<Way>) -> Vec<Way> {
        let mut by_ends: BTreeMap<(usize, usize), Vec<Way>> = BTreeMap::new();
        for way in ways {
            by_ends.entry((way.nodes[0], *way.nodes.last().unwrap())).or_default().push(way);
        }
        let groups = |ways: &mut Vec<Way>, k: u32| {
            let lengths: BTreeSet<usize> = ways.iter().map(|w| w.edges.len()).collect();
            let kept: Vec<usize> = lengths.into_iter().take(k as usize).collect();
            ways.retain(|w| kept.contains(&w.edges.len()));
        };
        for ways in by_ends.values_mut() {
            ways.sort_by_key(|w| w.edges.len());
            match path.search {
                PathSearch::All => {}
                PathSearch::Any | PathSearch::AnyShortest => ways.truncate(1),
                PathSearch::AllShortest => groups(ways, 1),
                PathSearch::Shortest(k) => ways.truncate(k as usize),
                PathSearch::ShortestGroups(k) => groups(ways, k),
            }
        }
        by_ends.into_values().flatten().collect()
    }

    /// All rows of a graph pattern. What paths of ANY and SHORTEST k bind within is free.
    pub fn rows(&self, pattern: &GraphPattern) -> Vec<Row> {
        self.matches(pattern, &Row::new())
    }

    /// The rows of a graph pattern beside an outer row, which they contain.
    fn matches(&self, pattern: &GraphPattern, outer: &Row) -> Vec<Row> {
        let kinds: BTreeMap<Arc<str>, VariableKind> =
            pattern_variables(pattern).into_iter().map(|(n, k)| (n.text, k)).collect();
        let mut joined: Vec<(Row, Vec<usize>)> = vec![(outer.clone(), vec![])];
        for path in &pattern.paths {
            let alone = path.search != PathSearch::All;
            let mut next = vec![];
            for (row, edges) in &joined {
                let ways = self.path(path, pattern.repeatable, row);
                let ways = self.selected(path, ways.into_iter().filter(|w| agrees(w, row)).collect());
                for way in &ways {
                    let mut used = edges.clone();
                    if !alone && !pattern.repeatable {
                        if way.edges.iter().any(|e| used.contains(e)) {
                            continue;
                        }
                        used.extend(&way.edges);
                    }
                    let mut both = row.clone();
                    for (name, element, _) in &way.bound {
                        match both.get_mut(name) {
                            Some(Datum::Group(items)) if !row.contains_key(name) => {
                                items.push(element.clone());
                            }
                            _ if kinds[name].is_group() => {
                                both.insert(name.clone(), Datum::Group(vec![element.clone()]));
                            }
                            _ => {
                                both.insert(name.clone(), Datum::Element(element.clone()));
                            }
                        }
                    }
                    for (name, kind) in path_variables(path) {
                        let nothing = if kind.is_group() { Datum::Group(vec![]) } else { Datum::Null };
                        both.entry(name.text).or_insert(nothing);
                    }
                    next.push((both, used));
                }
            }
            joined = next;
        }
        joined
            .into_iter()
            .map(|(row, _)| row)
            .filter(|row| pattern.condition.iter().all(|c| self.holds(c, row, &[])))
            .collect()
    }
}

fn path_variables(path: &PathPattern) -> Vec<(Name, VariableKind)> {
    let paths = vec![path.clone()];
    pattern_variables(&GraphPattern { repeatable: false, paths, condition: None, yields: None })
}

/// Whether what a way binds is what the row has under the same names.
fn agrees(way: &Way, row: &Row) -> bool {
    way.bound
        .iter()
        .all(|(name, element, _)| row.get(name).is_none_or(|d| *d == Datum::Element(element.clone())))
}

/// In what a path is looked for.
struct Within<'r> {
    outer: &'r Row,
    trail: bool,
    longest: usize,
}

/// A filter whose condition waits until its scope ends.
#[derive(Clone)]
struct Late {
    filter: ElementFilter,
    own: Element,
}
