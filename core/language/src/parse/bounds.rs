//! Distance bounds.

use graphodrome_graph::{BoundSource, Direction, LANDMARKS, MOST_COORDINATES, MOST_LANDMARKS};

use super::{Parsed, Parser};
use crate::ast::{CreateBound, Name, Statement};
use crate::{Diagnostic, Span};

const BOUND_FORM: &str = "write CREATE DISTANCE BOUND b OVER -[:LABEL {weight}]- FROM LANDMARKS, or FROM COORDINATES {x, y} where no edge is shorter than the straight line";

impl Parser<'_> {
    /// `b OVER -[:L|M {p}]- FROM 16 LANDMARKS` or `FROM COORDINATES {x, y}` after CREATE DISTANCE BOUND.
    pub(super) fn create_bound(
        &mut self, graph: Option<Name>, or_replace: bool, start: Span,
    ) -> Parsed<CreateBound> {
        let if_not_exists = self.eat_words(&["IF", "NOT", "EXISTS"]);
        let name = self.name("a name")?;
        self.expect_word("OVER").map_err(|e| e.hint(BOUND_FORM))?;
        let (direction, labels, property) = self.weighed_edges()?;
        self.expect_word("FROM").map_err(|e| e.hint(BOUND_FORM))?;
        let source = if self.eat_word("COORDINATES") {
            let open = self.span();
            self.expect("{")?;
            let names = self.comma_separated(Self::property_name)?;
            self.expect("}")?;
            if names.len() > MOST_COORDINATES {
                let message = format!("a place has at most {MOST_COORDINATES} coordinates");
                return Err(Diagnostic::syntax(self.span_since(open), message));
            }
            BoundSource::Coordinates(names.into_iter().map(|name| name.text).collect())
        } else {
            let at = self.span();
            let count = match self.at_word("LANDMARKS") {
                true => LANDMARKS,
                false => {
                    let wanted = "LANDMARKS, a number of them, or COORDINATES";
                    self.unsigned(wanted).map_err(|e| e.hint(BOUND_FORM))?
                }
            };
            self.expect_word("LANDMARKS").map_err(|e| e.hint(BOUND_FORM))?;
            if count == 0 || count > MOST_LANDMARKS {
                let message = format!("there are from 1 to {MOST_LANDMARKS} landmarks, not {count}");
                return Err(Diagnostic::syntax(at, message));
            }
            BoundSource::Landmarks(count)
        };
        let span = self.span_since(start);
        Ok(CreateBound { graph, name, or_replace, if_not_exists, direction, labels, property, source, span })
    }

    /// `-[:L|M {p}]->` in any direction; with no label all edges.
    fn weighed_edges(&mut self) -> Parsed<(Direction, Vec<Name>, Name)> {
        let start = self.span();
        let left = self.eat("<");
        let tilde = self.eat("~");
        if !tilde {
            self.expect("-").map_err(|e| e.hint(BOUND_FORM))?;
        }
        self.expect("[").map_err(|e| e.hint(BOUND_FORM))?;
        let mut labels = vec![];
        if self.eat(":") {
            labels.push(self.label_name()?);
            while self.eat("|") {
                labels.push(self.label_name()?);
            }
        }
        self.expect("{").map_err(|e| e.hint(BOUND_FORM))?;
        let property = self.property_name()?;
        self.expect("}").map_err(|e| e.hint("a bound is over one weight"))?;
        self.expect("]")?;
        self.expect(if tilde { "~" } else { "-" })?;
        let right = self.eat(">");
        let direction = match self.direction(start, left, tilde, right)? {
            // From either end of its paths a bound says the same.
            Direction::In => Direction::Out,
            Direction::InOrUndirected => Direction::OutOrUndirected,
            other => other,
        };
        Ok((direction, labels, property))
    }

    pub(super) fn drop_bound(&mut self, graph: Option<Name>) -> Parsed<Statement> {
        let if_exists = self.eat_words(&["IF", "EXISTS"]);
        let name = self.name("a name")?;
        Ok(Statement::DropBound { graph, name, if_exists })
    }
}
