//! Graph patterns (ISO/IEC 39075, clause 16).

use graphodrome_graph::{Direction, LabelExpression};

use crate::ast::*;
use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, Span, TokenKind};

/// The largest bound a quantifier may have.
const MAX_BOUND: u32 = 10_000;

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
        let paths = self.comma_separated(Self::path_pattern)?;
        if self.at_word("KEEP") {
            return Err(self.not_supported(self.span(), "KEEP"));
        }
        let condition = if self.eat_word("WHERE") { Some(self.expression()?) } else { None };
        Ok(GraphPattern { repeatable, paths, condition })
    }

    fn path_pattern(&mut self) -> Parsed<PathPattern> {
        let start = self.span();
        let variable = if self.at_name() && self.punctuation_at(1, "=") {
            let name = self.name("a path variable")?;
            self.bump();
            Some(name)
        } else {
            None
        };
        let (search, weight) = self.path_search_prefix()?;
        let mode = self.path_mode();
        if self.at_word("PATH") || self.at_word("PATHS") {
            self.bump();
        }
        let term = self.path_term()?;
        if self.at_punctuation("|") {
            return Err(self.not_supported(self.span(), "alternatives between paths"));
        }
        Ok(PathPattern { variable, search, weight, mode, term, span: self.span_since(start) })
    }

    fn path_search_prefix(&mut self) -> Parsed<(PathSearch, Option<Expression>)> {
        let mut search = PathSearch::All;
        if self.eat_words(&["ALL", "SHORTEST"]) {
            search = PathSearch::AllShortest;
        } else if self.eat_word("ALL") {
        } else if self.eat_words(&["ANY", "SHORTEST"]) {
            search = PathSearch::AnyShortest;
        } else if self.eat_word("ANY") {
            if matches!(self.token().kind, TokenKind::Literal(_)) {
                return Err(self.not_supported(self.span(), "ANY k"));
            }
            search = PathSearch::Any;
        } else if self.eat_word("SHORTEST") {
            let k = self.unsigned("a number of paths")?;
            if k == 0 {
                return Err(Diagnostic::syntax(self.span(), "SHORTEST needs at least 1 path"));
            }
            if self.at_word("GROUP") || self.at_word("GROUPS") {
                return Err(self.not_supported(self.span(), "SHORTEST k GROUPS"));
            }
            search = PathSearch::Shortest(k);
        }
        let weight =
            if search != PathSearch::All && self.eat_word("BY") { Some(self.expression()?) } else { None };
        Ok((search, weight))
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
                let edge = self.edge_pattern()?;
                let quantifier = self.graph_pattern_quantifier()?;
                PathElement::Edge(edge, quantifier)
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
        if self.at_name() && self.punctuation_at(1, "=") {
            return Err(self.not_supported(self.span(), "subpath variables"));
        }
        let mode = self.path_mode();
        let term = self.path_term()?;
        if self.at_punctuation("|") {
            return Err(self.not_supported(self.span(), "alternatives between paths"));
        }
        let condition = if self.eat_word("WHERE") { Some(self.expression()?) } else { None };
        self.expect(")")?;
        let quantifier = self.graph_pattern_quantifier()?;
        if let Some(q) = &quantifier
            && !has_edge(&term)
        {
            return Err(Diagnostic::syntax(q.span, "a repeated path needs at least one edge in it"));
        }
        Ok(PathGroup { mode, term, condition, quantifier, span: self.span_since(start) })
    }

    fn node_pattern(&mut self) -> Parsed<NodePattern> {
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
            names.push(name.clone());
            Ok(LabelExpression::Name(name.text))
        })
    }

    fn at_edge(&self) -> bool {
        self.at_punctuation("-") || self.at_punctuation("<") || self.at_punctuation("~")
    }

    /// The seven orientations, with and without a filler.
    fn edge_pattern(&mut self) -> Parsed<EdgePattern> {
        let start = self.span();
        let left = self.eat("<");
        let tilde = if self.eat("~") {
            true
        } else {
            self.expect("-")?;
            false
        };
        if self.at_punctuation("/") {
            return Err(self.not_supported(self.span(), "simplified path patterns"));
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
        let direction = match (left, tilde, right) {
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
        };
        Ok(EdgePattern { filter, direction, span: self.span_since(start) })
    }

    fn graph_pattern_quantifier(&mut self) -> Parsed<Option<Quantifier>> {
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

fn anonymous(span: Span) -> NodePattern {
    let span = Span { start: span.start, end: span.start };
    NodePattern { filter: ElementFilter::default(), span }
}

fn has_edge(term: &PathTerm) -> bool {
    term.elements.iter().any(|e| match e {
        PathElement::Node(_) => false,
        PathElement::Edge(_, q) => q.is_none_or(|q| q.min > 0),
        PathElement::Group(g) => g.quantifier.is_none_or(|q| q.min > 0) && has_edge(&g.term),
    })
}
