//! Graph patterns (ISO/IEC 39075, clause 16).

use graphodrome_graph::{Direction, LabelExpression};

use crate::ast::*;
use crate::parse::{MAX_ELEMENTS, MAX_LABELS, Parsed, Parser};
use crate::{Diagnostic, Span, TokenKind};

/// The largest bound a quantifier may have.
const MAX_BOUND: u32 = 10_000;

/// Nodes, edges and parts of a path term.
fn size(term: &PathTerm) -> usize {
    let one = |element: &PathElement| match element {
        PathElement::Node(_) | PathElement::Edge(..) => 1,
        PathElement::Group(group) => 1 + size(&group.term),
        PathElement::Alternatives(a) => 1 + a.branches.iter().map(size).sum::<usize>(),
    };
    term.elements.iter().map(one).sum()
}

impl Parser<'_> {
    pub(super) fn graph_pattern(&mut self) -> Parsed<GraphPattern> {
        let mut repeatable = false;
        if self.eat_word("REPEATABLE") {
            if !self.eat_word("ELEMENTS") {
                self.expect_word("ELEMENT")?;
                self.eat_word("BINDINGS");
            }
            repeatable = true;
        } else if self.eat_word("DIFFERENT") && !self.eat_word("EDGES") {
            self.expect_word("EDGE")?;
            self.eat_word("BINDINGS");
        }
        let start = self.span();
        let mut paths = self.comma_separated(Self::path_pattern)?;
        if paths.iter().map(|p| size(&p.term)).sum::<usize>() > MAX_ELEMENTS {
            let text = format!("more than {MAX_ELEMENTS} nodes, edges and parts in one MATCH");
            return Err(Diagnostic::syntax(self.span_since(start), text)
                .hint("use a quantifier, or several MATCH clauses"));
        }
        if self.at_word("KEEP") {
            self.keep(&mut paths)?;
        }
        let condition = if self.eat_word("WHERE") { Some(self.expression()?) } else { None };
        let yields =
            if self.eat_word("YIELD") { Some(self.comma_separated(|p| p.name("a variable"))?) } else { None };
        Ok(GraphPattern { repeatable, paths, condition, yields })
    }

    /// `KEEP prefix`: what every path of the pattern is searched by.
    fn keep(&mut self, paths: &mut [PathPattern]) -> Parsed<()> {
        let start = self.span();
        self.bump();
        let prefix = self.path_prefix()?;
        let span = self.span_since(start);
        for path in paths {
            if path.search != PathSearch::All {
                return Err(Diagnostic::syntax(span, "KEEP stands for paths without a search of their own")
                    .hint("leave KEEP away, or write the search before no single path"));
            }
            path.search = prefix.search;
            path.weight = prefix.weight.clone();
            path.mode = prefix.mode.or(path.mode);
        }
        Ok(())
    }

    fn path_pattern(&mut self) -> Parsed<PathPattern> {
        let start = self.span();
        let variable = self.path_variable()?;
        let Prefix { search, weight, mode } = self.path_prefix()?;
        let term = self.path_alternatives()?;
        Ok(PathPattern { variable, search, weight, mode, term, span: self.span_since(start) })
    }

    /// `p =`.
    fn path_variable(&mut self) -> Parsed<Option<Name>> {
        if !(self.at_name() && self.punctuation_at(1, "=")) {
            return Ok(None);
        }
        let name = self.name("a path variable")?;
        self.bump();
        Ok(Some(name))
    }

    fn path_prefix(&mut self) -> Parsed<Prefix> {
        let mut search = PathSearch::All;
        let mut counted = false;
        if self.eat_words(&["ALL", "SHORTEST"]) {
            search = PathSearch::AllShortest;
        } else if self.eat_word("ALL") {
        } else if self.eat_words(&["ANY", "SHORTEST"]) {
            search = PathSearch::AnyShortest;
        } else if self.eat_word("ANY") {
            search = match self.count_of_paths("ANY")? {
                Some(k) => PathSearch::Shortest(k),
                None => PathSearch::Any,
            };
        } else if self.eat_word("SHORTEST") {
            let k = self.count_of_paths("SHORTEST")?;
            counted = true;
            search = PathSearch::Shortest(k.unwrap_or(0));
        }
        // The standard writes the mode before GROUPS; whoever writes them the other way round means the same.
        let (mut weight, mut mode, mut groups) = (None, None, false);
        loop {
            if weight.is_none() && search != PathSearch::All && self.eat_word("BY") {
                weight = Some(self.expression()?);
            } else if mode.is_none()
                && let Some(given) = self.path_mode()
            {
                mode = Some(given);
            } else if counted && !groups && (self.eat_word("GROUP") || self.eat_word("GROUPS")) {
                groups = true;
            } else if self.at_word("PATH") || self.at_word("PATHS") {
                self.bump();
            } else {
                break;
            }
        }
        if counted && let PathSearch::Shortest(k) = search {
            search = match (groups, k) {
                (true, k) => PathSearch::ShortestGroups(k.max(1)),
                (false, 0) => return Err(self.unexpected("a number of paths, or GROUP")),
                (false, k) => PathSearch::Shortest(k),
            };
        }
        Ok(Prefix { search, weight, mode })
    }

    /// A number after ANY and SHORTEST, where there is one.
    fn count_of_paths(&mut self, what: &str) -> Parsed<Option<u32>> {
        if !matches!(self.token().kind, TokenKind::Literal(_)) {
            if matches!(self.token().kind, TokenKind::Parameter(_)) {
                return Err(Diagnostic::syntax(
                    self.span(),
                    format!("{what} takes a number, not a parameter"),
                ));
            }
            return Ok(None);
        }
        let span = self.span();
        match self.unsigned("a number of paths")? {
            0 => Err(Diagnostic::syntax(span, format!("{what} needs at least 1 path"))),
            k => Ok(Some(k)),
        }
    }

    /// Path terms with `|` or `|+|` between them.
    fn path_alternatives(&mut self) -> Parsed<PathTerm> {
        let start = self.span();
        let (mut branches, multiset) = self.alternatives(Self::path_term)?;
        if branches.len() == 1 {
            return Ok(branches.remove(0));
        }
        let alternatives = Alternatives { multiset, branches, span: self.span_since(start) };
        Ok(PathTerm { elements: vec![PathElement::Alternatives(Box::new(alternatives))] })
    }

    /// What stands between `|`, or between `|+|`: whether it is the second.
    pub(super) fn alternatives<T>(
        &mut self, mut one: impl FnMut(&mut Self) -> Parsed<T>,
    ) -> Parsed<(Vec<T>, bool)> {
        let mut all = vec![one(self)?];
        let mut multiset = None;
        while self.at_punctuation("|") {
            let many = self.alternation_sign();
            if multiset.is_some_and(|before| before != many) {
                return Err(self.mixed_alternatives());
            }
            multiset = Some(many);
            all.push(one(self)?);
        }
        Ok((all, multiset == Some(true)))
    }

    /// `|`, or `|+|`: whether it is the second.
    fn alternation_sign(&mut self) -> bool {
        self.bump();
        let many = self.at_punctuation("+") && self.punctuation_at(1, "|");
        if many {
            self.bump();
            self.bump();
        }
        many
    }

    fn mixed_alternatives(&self) -> Diagnostic {
        Diagnostic::syntax(self.span(), "| and |+| do not mix")
            .hint("put what belongs together between parentheses")
    }

    fn path_mode(&mut self) -> Option<PathMode> {
        let modes = [
            ("WALK", PathMode::Walk),
            ("TRAIL", PathMode::Trail),
            ("SIMPLE", PathMode::Simple),
            ("ACYCLIC", PathMode::Acyclic),
        ];
        modes.into_iter().find(|(word, _)| self.eat_word(word)).map(|(_, mode)| mode)
    }

    fn path_term(&mut self) -> Parsed<PathTerm> {
        let mut elements: Vec<PathElement> = vec![];
        loop {
            let span = self.span();
            let element = if self.at_punctuation("(") {
                if self.opens_node() {
                    if let Some(PathElement::Node(_)) = elements.last() {
                        return Err(Diagnostic::syntax(span, "two nodes need an edge between them")
                            .hint("write -[...]-> between them, or a comma to begin another path"));
                    }
                    PathElement::Node(self.node_pattern()?)
                } else {
                    PathElement::Group(Box::new(self.deeper(Self::parenthesized_path)?))
                }
            } else if self.at_edge() {
                match self.edge_pattern()? {
                    EdgeOrPath::Edge(edge) => {
                        let quantifier = self.graph_pattern_quantifier()?;
                        PathElement::Edge(edge, quantifier)
                    }
                    EdgeOrPath::Path(path) => {
                        let quantifier = self.graph_pattern_quantifier()?;
                        simplified_element(path, quantifier, span)
                    }
                }
            } else if elements.is_empty() {
                return Err(self.unexpected("a node pattern such as (n:Label)"));
            } else {
                break;
            };
            // Between two edges or groups stands an anonymous node.
            let joins = |e: &PathElement| !matches!(e, PathElement::Node(_));
            let edge_like = |e: &PathElement| matches!(e, PathElement::Edge(..));
            let needs_node = match elements.last() {
                Some(last) => joins(last) && joins(&element) && (edge_like(last) || edge_like(&element)),
                None => edge_like(&element),
            };
            if needs_node {
                elements.push(PathElement::Node(anonymous(span)));
            }
            elements.push(element);
        }
        if let Some(PathElement::Edge(..)) = elements.last() {
            let span = Span { start: self.last_end(), end: self.last_end() };
            elements.push(PathElement::Node(anonymous(span)));
        }
        Ok(PathTerm { elements })
    }

    /// Whether the parenthesis in front opens a node pattern and not a parenthesised path: a path
    /// begins with another parenthesis, an edge, a mode, or a subpath variable.
    fn opens_node(&self) -> bool {
        match self.ahead(1) {
            TokenKind::Punctuation(p) => !matches!(*p, "(" | "-" | "<" | "~"),
            TokenKind::Word(w) => {
                let mode = ["WALK", "TRAIL", "SIMPLE", "ACYCLIC"].iter().any(|m| w.eq_ignore_ascii_case(m));
                !(mode || self.punctuation_at(2, "="))
            }
            _ => true,
        }
    }

    fn parenthesized_path(&mut self) -> Parsed<PathGroup> {
        let start = self.span();
        self.expect("(")?;
        let variable = self.path_variable()?;
        let mode = self.path_mode();
        if mode.is_some() && (self.at_word("PATH") || self.at_word("PATHS")) {
            self.bump();
        }
        let term = self.path_alternatives()?;
        let condition = if self.eat_word("WHERE") { Some(self.expression()?) } else { None };
        self.expect(")")?;
        let quantifier = self.graph_pattern_quantifier()?;
        // Once at most it may be empty: nothing goes round in it.
        if let Some(q) = &quantifier
            && q.max != Some(1)
            && !has_edge(&term)
        {
            return Err(Diagnostic::syntax(q.span, "a repeated path needs at least one edge in it"));
        }
        Ok(PathGroup { variable, mode, term, condition, quantifier, span: self.span_since(start) })
    }

    pub(super) fn node_pattern(&mut self) -> Parsed<NodePattern> {
        let start = self.span();
        self.expect("(")?;
        let filter = self.element_pattern_filler()?;
        self.expect(")")?;
        Ok(NodePattern { filter, span: self.span_since(start) })
    }

    fn element_pattern_filler(&mut self) -> Parsed<ElementFilter> {
        let mut filter = ElementFilter::default();
        let other_word =
            matches!(self.token().kind, TokenKind::Word(_)) && !self.at_word("IS") && !self.at_word("WHERE");
        if self.at_name() || other_word {
            filter.variable = Some(self.name("a variable")?);
        }
        if self.eat(":") || self.eat_word("IS") {
            filter.labels = Some(self.label_expression()?);
        }
        if self.eat("{") {
            filter.properties = self.property_pairs()?;
        }
        if self.eat_word("WHERE") {
            filter.condition = Some(self.expression()?);
        }
        Ok(filter)
    }

    pub(super) fn label_expression(&mut self) -> Parsed<(LabelExpression, Vec<Name>)> {
        let mut names = vec![];
        let expression = self.label_disjunction(&mut names)?;
        Ok((expression, names))
    }

    fn label_disjunction(&mut self, names: &mut Vec<Name>) -> Parsed<LabelExpression> {
        let mut left = self.label_conjunction(names)?;
        while self.eat("|") {
            let right = self.label_conjunction(names)?;
            left = LabelExpression::Or(Box::new(left), Box::new(right));
        }
        Ok(left)
    }

    fn label_conjunction(&mut self, names: &mut Vec<Name>) -> Parsed<LabelExpression> {
        let mut left = self.label_factor(names)?;
        while self.eat("&") {
            let right = self.label_factor(names)?;
            left = LabelExpression::And(Box::new(left), Box::new(right));
        }
        Ok(left)
    }

    fn label_factor(&mut self, names: &mut Vec<Name>) -> Parsed<LabelExpression> {
        self.deeper(|p| {
            if p.eat("!") {
                return Ok(LabelExpression::Not(Box::new(p.label_factor(names)?)));
            }
            if p.eat("%") {
                return Ok(LabelExpression::Any);
            }
            if p.eat("(") {
                let inner = p.label_disjunction(names)?;
                p.expect(")")?;
                return Ok(inner);
            }
            let name = p.label_name()?;
            if names.len() == MAX_LABELS {
                let text = format!("more than {MAX_LABELS} labels in one label expression");
                return Err(Diagnostic::syntax(name.span, text));
            }
            names.push(name.clone());
            Ok(LabelExpression::Name(name.text))
        })
    }

    fn at_edge(&self) -> bool {
        self.at_punctuation("-") || self.at_punctuation("<") || self.at_punctuation("~")
    }

    /// The seven orientations, with and without a filler.
    pub(super) fn edge_pattern(&mut self) -> Parsed<EdgeOrPath> {
        let start = self.span();
        let left = self.eat("<");
        let tilde = if self.eat("~") {
            true
        } else {
            self.expect("-")?;
            false
        };
        if self.eat("/") {
            return Ok(EdgeOrPath::Path(self.simplified(start, left, tilde)?));
        }
        if self.at_punctuation("-") && self.span().start == self.last_end() {
            // Two edges with a node of no name between them: what nobody means who writes it.
            return Err(Diagnostic::syntax(
                self.span_since(start).to(self.span()),
                "an edge is one dash, not two",
            )
            .hint("write -> or <- for an edge in its direction, - for one in any, or -[...]->"));
        }
        let mut filter = ElementFilter::default();
        if self.eat("[") {
            filter = self.element_pattern_filler()?;
            self.expect("]")?;
            let closes = if tilde { "~" } else { "-" };
            self.expect(closes)?;
        }
        let right = self.eat(">");
        let direction = self.direction(start, left, tilde, right)?;
        Ok(EdgeOrPath::Edge(EdgePattern { filter, direction, span: self.span_since(start) }))
    }

    pub(super) fn direction(&self, start: Span, left: bool, tilde: bool, right: bool) -> Parsed<Direction> {
        Ok(match (left, tilde, right) {
            (false, false, true) => Direction::Out,
            (true, false, false) => Direction::In,
            (true, false, true) => Direction::OutOrIn,
            (false, false, false) => Direction::Any,
            (false, true, false) => Direction::Undirected,
            (true, true, false) => Direction::InOrUndirected,
            (false, true, true) => Direction::OutOrUndirected,
            (true, true, true) => {
                return Err(Diagnostic::syntax(self.span_since(start), "there is no edge pattern <~[ ]~>")
                    .hint("write -[ ]- for any direction"));
            }
        })
    }

    pub(super) fn graph_pattern_quantifier(&mut self) -> Parsed<Option<Quantifier>> {
        let start = self.span();
        let (min, max, optional) = if self.eat("*") {
            (0, None, false)
        } else if self.eat("+") {
            (1, None, false)
        } else if self.eat("?") {
            (0, Some(1), true)
        } else if self.eat("{") {
            let min = if self.at_punctuation(",") { 0 } else { self.unsigned("a number of repetitions")? };
            let max = if self.eat(",") {
                if self.at_punctuation("}") { None } else { Some(self.unsigned("a number of repetitions")?) }
            } else {
                Some(min)
            };
            self.expect("}")?;
            (min, max, false)
        } else {
            return Ok(None);
        };
        let span = self.span_since(start);
        if max.is_some_and(|max| max < min) {
            return Err(Diagnostic::syntax(span, "the upper bound is below the lower bound"));
        }
        if max == Some(0) {
            return Err(Diagnostic::syntax(span, "the upper bound must be at least 1"));
        }
        if min > MAX_BOUND || max.is_some_and(|max| max > MAX_BOUND) {
            return Err(Diagnostic::syntax(span, format!("a bound may be at most {MAX_BOUND}"))
                .hint("leave the upper bound open"));
        }
        Ok(Some(Quantifier { min, max, optional, span }))
    }
}

/// What stands before a path.
struct Prefix {
    search: PathSearch,
    weight: Option<Expression>,
    mode: Option<PathMode>,
}

pub(super) enum EdgeOrPath {
    Edge(EdgePattern),
    /// What a simplified pattern stands for.
    Path(Vec<PathElement>),
}

/// What a simplified pattern stands for, as one element.
fn simplified_element(mut path: Vec<PathElement>, quantifier: Option<Quantifier>, span: Span) -> PathElement {
    match (&mut path[..], quantifier) {
        ([PathElement::Edge(_, own @ None)], Some(_)) => *own = quantifier,
        ([_], None) => {}
        _ => {
            return PathElement::Group(Box::new(PathGroup {
                variable: None,
                mode: None,
                term: closed_by_nodes(path, span),
                condition: None,
                quantifier,
                span,
            }));
        }
    }
    path.remove(0)
}

/// A path that begins and ends with nodes.
pub(super) fn closed_by_nodes(mut elements: Vec<PathElement>, span: Span) -> PathTerm {
    let node = || PathElement::Node(anonymous(span));
    if !matches!(elements.first(), Some(PathElement::Node(_))) {
        elements.insert(0, node());
    }
    if !matches!(elements.last(), Some(PathElement::Node(_))) {
        elements.push(node());
    }
    PathTerm { elements }
}

pub(super) fn anonymous(span: Span) -> NodePattern {
    let span = Span { start: span.start, end: span.start };
    NodePattern { filter: ElementFilter::default(), span }
}

fn has_edge(term: &PathTerm) -> bool {
    term.elements.iter().any(|e| match e {
        PathElement::Node(_) => false,
        PathElement::Edge(_, q) => q.is_none_or(|q| q.min > 0),
        PathElement::Group(g) => g.quantifier.is_none_or(|q| q.min > 0) && has_edge(&g.term),
        PathElement::Alternatives(a) => a.branches.iter().all(has_edge),
    })
}
