//! Simplified path patterns, `-/ A | B* /->`: labels alone, written out to full edges
//! (ISO/IEC 39075, 16.12).

use graphodrome_graph::{Direction, LabelExpression};

use crate::ast::*;
use crate::parse::patterns::{anonymous, closed_by_nodes};
use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, Span};

/// A piece of a simplified pattern: labels of one edge as long as it is nothing more.
enum SimplifiedPiece {
    Labels(LabelExpression, Vec<Name>),
    Path(Vec<PathElement>),
}

struct Around {
    direction: Direction,
    span: Span,
}

impl SimplifiedPiece {
    fn path(self, around: &Around) -> Vec<PathElement> {
        match self {
            SimplifiedPiece::Path(elements) => elements,
            SimplifiedPiece::Labels(labels, names) => {
                let filter = ElementFilter { labels: Some((labels, names)), ..ElementFilter::default() };
                let edge = EdgePattern { filter, direction: around.direction, span: around.span };
                vec![PathElement::Edge(edge, None)]
            }
        }
    }
}

impl Parser<'_> {
    /// After the opening `-/`, `<-/`, `~/` and so on, up to the closing slash, and the direction of it all.
    pub(super) fn simplified(&mut self, start: Span, left: bool, tilde: bool) -> Parsed<Vec<PathElement>> {
        // The direction is known at the end only: look for the closing slash first.
        let mut n = 0;
        while !self.punctuation_at(n, "/") {
            if matches!(self.ahead(n), crate::TokenKind::End) {
                return Err(Diagnostic::syntax(
                    start,
                    "the simplified pattern that begins here is never closed",
                )
                .hint("close it as in -/ PIPE* /->"));
            }
            n += 1;
        }
        let right = self.punctuation_at(n + 2, ">");
        let direction = self.direction(start, left, tilde, right)?;
        let around = Around { direction, span: start };
        let piece = self.deeper(|p| p.simple_alternatives(&around))?;
        self.expect("/")?;
        self.expect(if tilde { "~" } else { "-" })?;
        if right {
            self.expect(">")?;
        }
        Ok(piece.path(&around))
    }

    fn simple_alternatives(&mut self, around: &Around) -> Parsed<SimplifiedPiece> {
        let (mut pieces, multiset) = self.alternatives(|p| p.simple_sequence(around))?;
        if pieces.len() == 1 {
            return Ok(pieces.remove(0));
        }
        if !multiset && pieces.iter().all(|p| matches!(p, SimplifiedPiece::Labels(..))) {
            // Each edge once, whichever of its labels it has.
            let (mut whole, mut all): (Option<LabelExpression>, Vec<Name>) = (None, vec![]);
            for piece in pieces {
                if let SimplifiedPiece::Labels(labels, names) = piece {
                    whole = Some(match whole {
                        None => labels,
                        Some(before) => LabelExpression::Or(Box::new(before), Box::new(labels)),
                    });
                    all.extend(names);
                }
            }
            return Ok(SimplifiedPiece::Labels(whole.unwrap_or(LabelExpression::Any), all));
        }
        let branches = pieces.into_iter().map(|p| closed_by_nodes(p.path(around), around.span)).collect();
        let alternatives = Alternatives { multiset, branches, span: around.span };
        Ok(SimplifiedPiece::Path(vec![self.as_group(
            PathTerm { elements: vec![PathElement::Alternatives(Box::new(alternatives))] },
            None,
            around,
        )]))
    }

    /// One piece after the other.
    fn simple_sequence(&mut self, around: &Around) -> Parsed<SimplifiedPiece> {
        let first = self.simple_conjunction(around)?;
        if self.at_punctuation("/") || self.at_punctuation("|") || self.at_punctuation(")") {
            return Ok(first);
        }
        let mut elements = first.path(around);
        while !(self.at_punctuation("/") || self.at_punctuation("|") || self.at_punctuation(")")) {
            let next = self.simple_conjunction(around)?;
            elements.push(PathElement::Node(anonymous(self.span())));
            elements.extend(next.path(around));
        }
        Ok(SimplifiedPiece::Path(elements))
    }

    fn simple_conjunction(&mut self, around: &Around) -> Parsed<SimplifiedPiece> {
        let mut left = self.simple_factor(around)?;
        while self.at_punctuation("&") {
            let place = self.span();
            self.bump();
            let right = self.simple_factor(around)?;
            left = match (left, right) {
                (SimplifiedPiece::Labels(a, mut names), SimplifiedPiece::Labels(b, more)) => {
                    names.extend(more);
                    SimplifiedPiece::Labels(LabelExpression::And(Box::new(a), Box::new(b)), names)
                }
                _ => return Err(Diagnostic::syntax(place, "& joins labels of one edge, not paths")),
            };
        }
        Ok(left)
    }

    /// A primary with its own direction, and a quantifier.
    fn simple_factor(&mut self, around: &Around) -> Parsed<SimplifiedPiece> {
        let start = self.span();
        let left = self.eat("<");
        let tilde = self.eat("~");
        let dash = !tilde && self.eat("-");
        let primary = self.simple_primary(around)?;
        let right = self.simple_right();
        let overridden = left || tilde || dash || right;
        let mut piece = primary;
        if overridden {
            let direction = match (left, tilde, right) {
                (true, false, true) => Direction::OutOrIn,
                (true, false, false) => Direction::In,
                (true, true, _) => Direction::InOrUndirected,
                (false, true, true) => Direction::OutOrUndirected,
                (false, true, false) => Direction::Undirected,
                (false, false, true) => Direction::Out,
                (false, false, false) => Direction::Any,
            };
            let SimplifiedPiece::Labels(..) = piece else {
                return Err(Diagnostic::syntax(
                    self.span_since(start),
                    "a direction is given to labels, not to a path",
                ));
            };
            piece = SimplifiedPiece::Path(piece.path(&Around { direction, span: self.span_since(start) }));
        }
        let Some(quantifier) = self.graph_pattern_quantifier()? else { return Ok(piece) };
        let mut elements = piece.path(around);
        if let [PathElement::Edge(_, own @ None)] = &mut elements[..] {
            *own = Some(quantifier);
            return Ok(SimplifiedPiece::Path(elements));
        }
        Ok(SimplifiedPiece::Path(vec![self.as_group(PathTerm { elements }, Some(quantifier), around)]))
    }

    /// `>` after a primary, which is not that of the closing `/->`.
    fn simple_right(&mut self) -> bool {
        self.eat("-");
        self.eat("~");
        self.eat(">")
    }

    fn simple_primary(&mut self, around: &Around) -> Parsed<SimplifiedPiece> {
        if self.eat("!") {
            let span = self.span();
            return match self.simple_primary(around)? {
                SimplifiedPiece::Labels(labels, names) => {
                    Ok(SimplifiedPiece::Labels(LabelExpression::Not(Box::new(labels)), names))
                }
                SimplifiedPiece::Path(_) => Err(Diagnostic::syntax(span, "! negates labels, not paths")),
            };
        }
        if self.eat("(") {
            let inner = self.deeper(|p| p.simple_alternatives(around))?;
            self.expect(")")?;
            return Ok(inner);
        }
        if self.eat("%") {
            return Ok(SimplifiedPiece::Labels(LabelExpression::Any, vec![]));
        }
        let name = self.label_name()?;
        Ok(SimplifiedPiece::Labels(LabelExpression::Name(name.text.clone()), vec![name]))
    }

    fn as_group(&self, term: PathTerm, quantifier: Option<Quantifier>, around: &Around) -> PathElement {
        let term = match &term.elements[..] {
            [PathElement::Alternatives(_)] => term,
            _ => closed_by_nodes(term.elements, around.span),
        };
        PathElement::Group(Box::new(PathGroup {
            variable: None,
            mode: None,
            term,
            condition: None,
            quantifier,
            span: around.span,
        }))
    }
}
