//! A graph pattern taken apart: nodes, steps between them, and conditions that wait for their
//! variables.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::LabelExpression;
use graphodrome_language::ast::*;
use graphodrome_language::{Span, VariableKind, term_variables};

use crate::outcome::Outcome;
use crate::plan::Schema;
use crate::planner::elements::*;
use crate::planner::pattern_graph::NamedPath;
use crate::planner::pattern_graph::PathPiece;
use crate::planner::pattern_graph::PatternGraph;
use crate::planner::pattern_graph::PatternStep;
use crate::planner::pattern_graph::SearchStep;
use crate::planner::pattern_graph::SearchVariable;
use crate::planner::pattern_graph::StepKind;
use crate::planner::pattern_graph::equalities;
use crate::planner::pattern_graph::variable;
use crate::planner::repetition::{Mentions, Read, mentions};
use crate::planner::state::{Planner, Use, unsupported};
use crate::rules::Rule;

impl Planner<'_> {
    /// Of patterns that are planned together. `bound` are the names that are there before.
    pub(super) fn pattern_graph(
        &mut self, patterns: &[GraphPattern], bound: &Schema, usage: &Use,
    ) -> Outcome<PatternGraph> {
        let lists = self.may(Rule::AlternativesAsList);
        let mut graph = PatternGraph { lists, ..PatternGraph::default() };
        let mut edge_names: BTreeSet<Arc<str>> = BTreeSet::new();
        let conditions = patterns.iter().filter_map(|pattern| pattern.condition.as_ref());
        let mut conjuncts: Vec<Expression> = conditions.flat_map(|c| c.conjuncts()).cloned().collect();
        let mut of_all = Mentions::new();
        for (name, times) in patterns.iter().flat_map(mentions) {
            *of_all.entry(name).or_default() += times;
        }
        let elements = patterns.iter().flat_map(|p| &p.paths).flat_map(|path| &path.term.elements);
        let nodes: Vec<&NodePattern> = elements
            .filter_map(|element| match element {
                PathElement::Node(node) => Some(node),
                _ => None,
            })
            .collect();
        for pattern in patterns {
            graph.repeatable = pattern.repeatable;
            graph.repeatables.push(pattern.repeatable);
            let mentions = mentions(pattern);
            let read = Read { mentions: &mentions, needed: &usage.needed, bound };
            for path in &pattern.paths {
                let of_all = Read { mentions: &of_all, ..read };
                if let Some(ring) = self.ring(path, (&nodes, &conjuncts), &of_all, usage.counted) {
                    conjuncts.retain(|condition| !ring.said.contains(condition));
                    self.path_pattern(&ring.path, usage.multiplicity, &mut graph, (&mut edge_names, None))?;
                    continue;
                }
                let one = self.one_of_equals(path, pattern, usage);
                let path = one.as_ref().unwrap_or(path);
                self.path_pattern(path, usage.multiplicity, &mut graph, (&mut edge_names, Some(&read)))?;
            }
        }
        self.join_searches(&mut graph, bound);
        graph.note_needs();
        conjuncts.into_iter().for_each(|conjunct| graph.add_condition(conjunct));
        self.existing_edges(&mut graph, bound);
        if self.may(Rule::DifferentEdges) {
            graph.take_different();
        }
        graph.lengths = self.lengths_of(&graph, usage);
        if self.may(Rule::UnreadPaths) {
            graph.forget_paths(&usage.needed);
        }
        Ok(graph)
    }

    /// A single variable within a search that stands elsewhere too is compared with it.
    fn join_searches(&mut self, graph: &mut PatternGraph, bound: &Schema) {
        let mut taken: BTreeSet<Arc<str>> = graph.nodes.iter().map(|n| n.name.clone()).collect();
        for step in &graph.steps {
            if let StepKind::Edge { name, .. } = &step.kind {
                taken.insert(name.clone());
            }
        }
        let mut conditions = vec![];
        for step in &mut graph.steps {
            let StepKind::Search(search) = &mut step.kind else { continue };
            for variable in &mut search.variables {
                let single = matches!(variable.kind, VariableKind::Node | VariableKind::Edge);
                if !single {
                    continue;
                }
                if bound.slot(&variable.inside).is_some() || !taken.insert(variable.inside.clone()) {
                    self.next_name += 1;
                    variable.outside = format!("#inner{}", self.next_name).into();
                    conditions.push(same(&variable.inside, &variable.outside));
                }
            }
        }
        conditions.into_iter().for_each(|c| graph.add_condition(c));
    }

    /// `read` is what is read of its parts, where those that are repeated may be written out.
    fn path_pattern(
        &mut self, path: &PathPattern, multiplicity: bool, graph: &mut PatternGraph,
        (edge_names, read): (&mut BTreeSet<Arc<str>>, Option<&Read<'_>>),
    ) -> Outcome<()> {
        // Walks, or trails within one MATCH, need no search of their own.
        let own_mode = match path.mode {
            None | Some(PathMode::Walk) => None,
            Some(PathMode::Trail)
                if !graph.repeatable && path.search == PathSearch::All && self.may(Rule::TrailPattern) =>
            {
                None
            }
            Some(mode) => Some(mode),
        };
        let whole = path.search != PathSearch::All || own_mode.is_some();
        let mut elements = path.term.elements.clone();
        if !whole && self.may(Rule::InlineParts) {
            let mut conditions = vec![];
            // Where two names meet at one node, the parts stay what they are.
            if let Some(flat) = inlined(&path.term.elements, graph.repeatable, &mut conditions) {
                elements = flat;
                conditions.into_iter().for_each(|c| graph.add_condition(c));
            }
        }
        if let Some(read) = read.filter(|_| !whole && self.may(Rule::FixedRepetition)) {
            let mut conditions = vec![];
            elements = self.written_out(elements, read, &mut conditions);
            conditions.into_iter().for_each(|c| graph.add_condition(c));
        }
        self.close_ends(&mut elements);
        let mut pieces = vec![];
        if whole && elements.len() > 1 {
            let last = elements.len() - 1;
            let (PathElement::Node(first), PathElement::Node(end)) = (&elements[0], &elements[last]) else {
                return Err(unsupported(path.span, "a search that does not begin and end with a node"));
            };
            let mut inner = elements[1..last].to_vec();
            let (mut first, mut end) = (first.clone(), end.clone());
            if path.search != PathSearch::All {
                // What an end's condition reads of the path is tested before paths are chosen.
                let term = PathTerm { elements: inner.clone() };
                let names: BTreeSet<Arc<str>> =
                    term_variables(&term).into_iter().map(|(n, _)| n.text).collect();
                let left = within_path(&mut first, &names);
                let right = within_path(&mut end, &names);
                inner = left.into_iter().chain(inner).chain(right).collect();
            }
            let from = self.pattern_node(&first, graph);
            let to = self.pattern_node(&end, graph);
            let ambiguous = self.ambiguous(&inner);
            let mode = own_mode.unwrap_or(PathMode::Walk);
            let step = self.search_step((from, to), inner, path, mode, ambiguous, graph);
            pieces = vec![PathPiece::Node(from), PathPiece::Step(step), PathPiece::Node(to)];
        } else {
            let merged = if multiplicity { self.ambiguous_runs(&elements) } else { vec![] };
            let mut current: Option<usize> = None;
            let mut waiting: Vec<PathElement> = vec![];
            for (i, element) in elements.into_iter().enumerate() {
                match element {
                    PathElement::Node(node) if !merged.iter().any(|run| run.contains(&i)) => {
                        let at = self.pattern_node(&node, graph);
                        if let (Some(from), false) = (current, waiting.is_empty()) {
                            let between = std::mem::take(&mut waiting);
                            let step =
                                self.between((from, at), between, path, multiplicity, graph, edge_names)?;
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

    /// Runs of elements (as ranges of positions) that must be matched as one: between open repetitions
    /// of the same edges with nothing named between them, where the one ends and the next begins makes
    /// no difference to the match, and must not make two of it.
    fn ambiguous_runs(&self, elements: &[PathElement]) -> Vec<std::ops::Range<usize>> {
        let mut runs = vec![];
        let mut open: Vec<usize> = vec![];
        let close = |open: &mut Vec<usize>, runs: &mut Vec<std::ops::Range<usize>>| {
            if open.len() > 1 {
                let (first, last) = (open[0], open[open.len() - 1]);
                let overlap = (0..open.len()).any(|a| {
                    (a + 1..open.len()).any(|b| self.share_edges(&elements[open[a]], &elements[open[b]]))
                });
                if overlap {
                    runs.push(first..last + 1);
                }
            }
            open.clear();
        };
        for (i, element) in elements.iter().enumerate() {
            let named = match element {
                PathElement::Node(node) => node.filter.variable.is_some(),
                PathElement::Edge(edge, None) => edge.filter.variable.is_some(),
                _ => false,
            };
            if named {
                close(&mut open, &mut runs);
            } else if varies(element) {
                open.push(i);
            }
        }
        close(&mut open, &mut runs);
        runs
    }

    /// Whether a match of these elements may be found in several ways.
    fn ambiguous(&self, elements: &[PathElement]) -> bool {
        fn nested(element: &PathElement) -> bool {
            match element {
                PathElement::Node(_) | PathElement::Edge(..) => false,
                PathElement::Alternatives(a) => {
                    !a.multiset || a.branches.iter().any(|b| b.elements.iter().any(nested))
                }
                PathElement::Group(group) => group
                    .term
                    .elements
                    .iter()
                    .any(|inner| nested(inner) || (varies(inner) && group.quantifier.is_some())),
            }
        }
        !self.ambiguous_runs(&flat(elements)).is_empty() || elements.iter().any(nested)
    }

    /// Whether one edge could be in both elements.
    fn share_edges(&self, a: &PathElement, b: &PathElement) -> bool {
        let of = |e: &PathElement| {
            let mut found = vec![];
            crate::planner::builder::collect_edge_labels(std::slice::from_ref(e), &mut found);
            found
        };
        let (a, b) = (of(a), of(b));
        self.counts.edges.iter().any(|(set, _)| {
            let fits = |labels: &[Option<LabelExpression>]| {
                labels.iter().any(|l| l.as_ref().is_none_or(|l| l.matches(set)))
            };
            fits(&a) && fits(&b)
        })
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
        &mut self, (from, to): (usize, usize), elements: Vec<PathElement>, path: &PathPattern,
        multiplicity: bool, graph: &mut PatternGraph, edge_names: &mut BTreeSet<Arc<str>>,
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
            let clause = graph.clause();
            let needs = BTreeSet::new();
            graph.steps.push(PatternStep { from, to, kind, shown, needs, clause, once: false });
            return Ok(graph.steps.len() - 1);
        }
        let mode = if graph.repeatable { PathMode::Walk } else { PathMode::Trail };
        let ambiguous = multiplicity && self.ambiguous(&elements);
        Ok(self.search_step((from, to), elements, path, mode, ambiguous, graph))
    }

    pub(super) fn search_step(
        &mut self, (from, to): (usize, usize), elements: Vec<PathElement>, path: &PathPattern,
        mode: PathMode, ambiguous: bool, graph: &mut PatternGraph,
    ) -> usize {
        let term = PathTerm { elements: elements.clone() };
        let mut variables: Vec<SearchVariable> = vec![];
        for (name, kind) in term_variables(&term) {
            if !variables.iter().any(|known| known.inside == name.text) {
                variables.push(SearchVariable { inside: name.text.clone(), outside: name.text, kind });
            }
        }
        let shown = show_elements(&elements);
        let step = SearchStep {
            elements,
            search: path.search,
            weight: path.weight.clone(),
            mode,
            path: self.hidden("path"),
            variables,
            ambiguous,
            ends_only: false,
        };
        let kind = StepKind::Search(Box::new(step));
        let clause = graph.clause();
        let needs = BTreeSet::new();
        graph.steps.push(PatternStep { from, to, kind, shown, needs, clause, once: false });
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
