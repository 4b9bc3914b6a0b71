//! Views: parts of a graph that are kept by name.

use super::{Parsed, Parser};
use crate::Span;
use crate::ast::{CreateView, Name, Statement};
use crate::parse::patterns::EdgeOrPath;

const VIEW_FORM: &str = "write CREATE GRAPH VIEW v AS NODES (n:Label WHERE ...) EDGES -[e:LABEL WHERE ...]- WEIGHT property; what is left out is all";

impl Parser<'_> {
    /// `v AS NODES (...) EDGES -[...]- WEIGHT p` after CREATE GRAPH VIEW.
    pub(super) fn create_view(
        &mut self, graph: Option<Name>, or_replace: bool, start: Span,
    ) -> Parsed<CreateView> {
        let if_not_exists = self.eat_words(&["IF", "NOT", "EXISTS"]);
        let name = self.name("a name")?;
        self.expect_word("AS").map_err(|e| e.hint(VIEW_FORM))?;
        let (mut nodes, mut edges, mut weight) = (None, None, None);
        let parts = self.span();
        if self.eat_word("NODES") {
            nodes = Some(self.written(|parser| parser.node_pattern().map(drop))?);
        }
        if self.eat_word("EDGES") {
            edges = Some(self.written(|parser| match parser.edge_pattern()? {
                EdgeOrPath::Edge(_) => Ok(()),
                EdgeOrPath::Path(_) => Err(parser.unexpected("one edge pattern").hint(VIEW_FORM)),
            })?);
        }
        if self.eat_word("WEIGHT") {
            weight = Some(self.name("a property")?);
        }
        if self.span() == parts {
            return Err(self.unexpected("NODES, EDGES or WEIGHT").hint(VIEW_FORM));
        }
        let span = self.span_since(start);
        Ok(CreateView { graph, name, or_replace, if_not_exists, nodes, edges, weight, span })
    }

    /// What is read, as it is written.
    fn written(&mut self, read: impl FnOnce(&mut Self) -> Parsed<()>) -> Parsed<Name> {
        let start = self.span();
        read(self)?;
        let span = self.span_since(start);
        Ok(Name { text: self.text_of(span), span })
    }

    pub(super) fn drop_view(&mut self, graph: Option<Name>) -> Parsed<Statement> {
        let if_exists = self.eat_words(&["IF", "EXISTS"]);
        let name = self.name("a name")?;
        Ok(Statement::DropView { graph, name, if_exists })
    }
}
