//! The reference evaluator: patterns by the standard's definition, slowly. Every path is written down
//! with what each of its elements is bound to; selection, distinctness and joins come after.

#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use graphodrome_graph::{Direction, LabelExpression, Value, label_set};
use graphodrome_language::ast::*;
use graphodrome_language::{VariableKind, pattern_variables};

pub struct Node {
    pub label: &'static str,
    pub x: i64,
}

pub struct Edge {
    pub from: usize,
    pub to: usize,
    pub label: &'static str,
    pub directed: bool,
    pub w: i64,
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
    pub bound: Vec<(Arc<str>, Element, usize)>,
    /// Alternatives that tell matches apart.
    pub tags: Vec<(usize, usize)>,
}

/// A row: each variable's element, list of elements, or nothing.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Cell {
    Null,
    One(Element),
    Many(Vec<Element>),
}

pub type Row = BTreeMap<Arc<str>, Cell>;

impl Graph {
    fn fits(labels: &Option<(LabelExpression, Vec<Name>)>, label: &str) -> bool {
        labels.as_ref().is_none_or(|(l, _)| l.matches(&label_set([label])))
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
}

impl Matcher<'_> {
    fn number(&self, e: &Expression, bound: &[(Arc<str>, Element, usize)]) -> Option<i64> {
        match &e.kind {
            ExpressionKind::Literal(Value::Int(i)) => Some(*i),
            ExpressionKind::Property(owner, name) => {
                let ExpressionKind::Variable(variable) = &owner.kind else { panic!("{e:?}") };
                let (_, element, _) = bound.iter().rev().find(|(n, ..)| n == variable)?;
                match (element, &*name.text) {
                    (Element::Node(n), "x") => Some(self.graph.nodes[*n].x),
                    (Element::Edge(i), "w") => Some(self.graph.edges[*i].w),
                    _ => None,
                }
            }
            _ => panic!("{e:?}"),
        }
    }

    fn holds(&self, e: &Expression, bound: &[(Arc<str>, Element, usize)]) -> bool {
        let ExpressionKind::Binary(operator, a, b) = &e.kind else { panic!("{e:?}") };
        if *operator == BinaryOperator::And {
            return self.holds(a, bound) && self.holds(b, bound);
        }
        let (Some(a), Some(b)) = (self.number(a, bound), self.number(b, bound)) else { return false };
        match operator {
            BinaryOperator::Equal => a == b,
            BinaryOperator::NotEqual => a != b,
            BinaryOperator::Less => a < b,
            BinaryOperator::LessOrEqual => a <= b,
            BinaryOperator::Greater => a > b,
            BinaryOperator::GreaterOrEqual => a >= b,
            other => panic!("{other:?}"),
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
    fn filter_holds(
        &self, filter: &ElementFilter, own: &Element, bound: &[(Arc<str>, Element, usize)],
    ) -> bool {
        let mut bound = bound.to_vec();
        if let Some(name) = &filter.variable {
            bound.push((name.text.clone(), own.clone(), 0));
        }
        filter.condition.iter().all(|c| self.holds(c, &bound))
    }

    /// All ways on from `way` through the elements. `scope` is where the bindings of this scope begin;
    /// conditions are tested when the scope ends.
    fn elements(
        &self, elements: &[PathElement], way: &Way, scope: usize, trail: bool,
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
                if !Graph::fits(&node.filter.labels, self.graph.nodes[at].label)
                    || !Self::bind(&mut way, scope, &node.filter, Element::Node(at))
                {
                    return;
                }
                let mut waiting = waiting;
                waiting.push(Late { filter: node.filter.clone(), own: Element::Node(at) });
                self.elements(rest, &way, scope, trail, late, waiting);
            }
            PathElement::Edge(edge, None) => self.edge(edge, way, trail, &mut |i, next| {
                let mut way = way.clone();
                if !Self::bind(&mut way, scope, &edge.filter, Element::Edge(i)) {
                    return;
                }
                way.edges.push(i);
                way.nodes.push(next);
                let mut waiting = waiting.clone();
                waiting.push(Late { filter: edge.filter.clone(), own: Element::Edge(i) });
                self.elements(rest, &way, scope, trail, late, waiting);
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
                self.elements(&both, way, scope, trail, late, waiting);
            }
            PathElement::Group(group) => match &group.quantifier {
                None => {
                    for (way, more) in self.group_once(group, way, scope, trail) {
                        let waiting = [waiting.clone(), more].concat();
                        self.elements(rest, &way, scope, trail, late, waiting);
                    }
                }
                Some(q) => {
                    let mut level = vec![way.clone()];
                    let mut round = 0;
                    loop {
                        if round >= q.min {
                            for way in &level {
                                self.elements(rest, way, scope, trail, late, waiting.clone());
                            }
                        }
                        if q.max == Some(round) || level.is_empty() {
                            return;
                        }
                        let mut next = vec![];
                        for way in &level {
                            let begin = if q.optional { scope } else { way.bound.len() };
                            for (way, conditions) in self.group_once(group, way, begin, trail) {
                                if conditions.iter().all(|c| self.filter_holds(&c.filter, &c.own, &way.bound))
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
                    self.elements(&elements, &way, scope, trail, late, waiting.clone());
                }
            }
        }
    }

    fn edge(&self, edge: &EdgePattern, way: &Way, trail: bool, visit: &mut dyn FnMut(usize, usize)) {
        if way.edges.len() >= self.longest {
            return;
        }
        let at = *way.nodes.last().unwrap();
        for (i, e) in self.graph.edges.iter().enumerate() {
            if trail && way.edges.contains(&i) || !Graph::fits(&edge.filter.labels, e.label) {
                continue;
            }
            if let Some(next) = Graph::walk(e, at, edge.direction) {
                visit(i, next);
            }
        }
    }

    /// The ways through a parenthesised part once, with the conditions that wait for the scope's end.
    fn group_once(&self, group: &PathGroup, way: &Way, scope: usize, trail: bool) -> Vec<(Way, Vec<Late>)> {
        let from = way.edges.len();
        let mut inner = vec![];
        self.elements(&group.term.elements, way, scope, trail, &mut inner, vec![]);
        inner
            .into_iter()
            .filter(|(way, _)| {
                path_allowed(group.mode.unwrap_or(PathMode::Walk), &way.nodes[from..], &way.edges[from..])
                    && group.condition.iter().all(|c| self.holds(c, &way.bound))
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

    /// Every distinct match of one path pattern, before selection.
    fn path(&self, path: &PathPattern, repeatable: bool) -> BTreeSet<Way> {
        let mode = path.mode.unwrap_or(PathMode::Walk);
        let alone = path.search != PathSearch::All;
        let trail = mode == PathMode::Trail || mode == PathMode::Acyclic || !repeatable && !alone;
        let mut found = BTreeSet::new();
        for start in 0..self.graph.nodes.len() {
            let way = Way { nodes: vec![start], ..Way::default() };
            let mut ended = vec![];
            self.elements(&path.term.elements, &way, 0, trail, &mut ended, vec![]);
            for (mut way, late) in ended {
                let whole = path_allowed(mode, &way.nodes, &way.edges)
                    && (!trail || path_allowed(PathMode::Trail, &way.nodes, &way.edges))
                    && late.iter().all(|l| self.filter_holds(&l.filter, &l.own, &way.bound));
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
        for way in self.path(path, repeatable) {
            found.entry((way.nodes[0], *way.nodes.last().unwrap())).or_default().push(way.edges.len());
        }
        found.values_mut().for_each(|lengths| lengths.sort());
        found
    }

    /// All rows of a graph pattern without ANY and SHORTEST k, whose choice is free.
    pub fn rows(&self, pattern: &GraphPattern) -> Vec<Row> {
        let kinds: BTreeMap<Arc<str>, VariableKind> =
            pattern_variables(pattern).into_iter().map(|(n, k)| (n.text, k)).collect();
        let mut joined: Vec<(Row, Vec<usize>)> = vec![(Row::new(), vec![])];
        for path in &pattern.paths {
            let alone = path.search != PathSearch::All;
            let groups = match path.search {
                PathSearch::All => None,
                PathSearch::AllShortest => Some(1),
                PathSearch::ShortestGroups(k) => Some(k as usize),
                other => panic!("{other:?} is not determined"),
            };
            let mut ways: Vec<Way> = self.path(path, pattern.repeatable).into_iter().collect();
            if let Some(k) = groups {
                let ends = |w: &Way| (w.nodes[0], *w.nodes.last().unwrap());
                let mut lengths: BTreeMap<(usize, usize), BTreeSet<usize>> = BTreeMap::new();
                for way in &ways {
                    lengths.entry(ends(way)).or_default().insert(way.edges.len());
                }
                ways.retain(|w| lengths[&ends(w)].iter().take(k).any(|l| *l == w.edges.len()));
            }
            let mut next = vec![];
            for (row, edges) in &joined {
                for way in &ways {
                    let mut own = Row::new();
                    for (name, element, _) in &way.bound {
                        match kinds[name] {
                            kind if kind.is_group() => {
                                match own.entry(name.clone()).or_insert(Cell::Many(vec![])) {
                                    Cell::Many(items) => items.push(element.clone()),
                                    _ => panic!(),
                                }
                            }
                            _ => {
                                own.insert(name.clone(), Cell::One(element.clone()));
                            }
                        }
                    }
                    if own.iter().any(|(name, cell)| row.get(name).is_some_and(|before| before != cell)) {
                        continue;
                    }
                    let mut used = edges.clone();
                    if !alone && !pattern.repeatable {
                        if way.edges.iter().any(|e| used.contains(e)) {
                            continue;
                        }
                        used.extend(&way.edges);
                    }
                    let mut both = row.clone();
                    both.extend(own);
                    next.push((both, used));
                }
            }
            joined = next;
        }
        joined
            .into_iter()
            .map(|(mut row, _)| {
                for (name, kind) in &kinds {
                    let empty = if kind.is_group() { Cell::Many(vec![]) } else { Cell::Null };
                    row.entry(name.clone()).or_insert(empty);
                }
                row
            })
            .filter(|row| {
                let bound: Vec<_> = row
                    .iter()
                    .filter_map(|(n, c)| match c {
                        Cell::One(e) => Some((n.clone(), e.clone(), 0)),
                        _ => None,
                    })
                    .collect();
                pattern.condition.iter().all(|c| self.holds(c, &bound))
            })
            .collect()
    }
}

/// A filter whose condition waits until its scope ends.
#[derive(Clone)]
struct Late {
    filter: ElementFilter,
    own: Element,
}
