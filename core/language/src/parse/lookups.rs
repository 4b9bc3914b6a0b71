//! Keys, indexes and renamings.

use graphodrome_graph::Element;

use super::{Parsed, Parser};
use crate::ast::{CreateLookup, Name, Rename, Statement};
use crate::{Diagnostic, Span};

const LOOKUP_FORM: &str = "write OVER (:Label {property}) for nodes, OVER -[:LABEL {property}]-> for edges";

impl Parser<'_> {
    /// `KEY name OVER (:L {p, ...})`, `INDEX name OVER -[:L {p, ...}]->`.
    pub(super) fn create_lookup(&mut self, graph: Option<Name>, start: Span) -> Parsed<CreateLookup> {
        let unique = self.eat_word("KEY");
        if !unique {
            self.expect_word("INDEX")?;
        }
        let if_not_exists = self.eat_words(&["IF", "NOT", "EXISTS"]);
        let name = self.name("a name")?;
        self.expect_word("OVER").map_err(|e| e.hint(LOOKUP_FORM))?;
        let (element, label, properties) = self.looked_up()?;
        for (i, property) in properties.iter().enumerate() {
            if properties[..i].iter().any(|p| p.text == property.text) {
                return Err(Diagnostic::syntax(
                    property.span,
                    format!("the property {} is named twice", property.text),
                ));
            }
        }
        let span = self.span_since(start);
        Ok(CreateLookup { graph, unique, name, if_not_exists, element, label, properties, span })
    }

    /// `(:L {p, ...})`, or an edge pattern around the same, whatever its direction.
    fn looked_up(&mut self) -> Parsed<(Element, Name, Vec<Name>)> {
        let element = if self.eat("(") {
            Element::Node
        } else {
            while self.eat("<") || self.eat("-") || self.eat("~") || self.eat("<-") || self.eat("<~") {}
            if !self.at_punctuation("[") {
                return Err(self.unexpected("a pattern").hint(LOOKUP_FORM));
            }
            self.expect("[")?;
            Element::Edge
        };
        self.expect(":")?;
        let label = self.label_name()?;
        self.expect("{")?;
        let properties = self.comma_separated(Self::property_name)?;
        self.expect("}")?;
        match element {
            Element::Node => self.expect(")")?,
            Element::Edge => {
                self.expect("]")?;
                while self.eat("-") || self.eat("~") || self.eat(">") || self.eat("->") || self.eat("~>") {}
            }
        }
        Ok((element, label, properties))
    }

    pub(super) fn node_or_edge(&mut self) -> Parsed<Element> {
        if self.eat_word("NODE") || self.eat_word("VERTEX") {
            return Ok(Element::Node);
        }
        if self.eat_word("EDGE") || self.eat_word("RELATIONSHIP") {
            return Ok(Element::Edge);
        }
        Err(self.unexpected("NODE or EDGE"))
    }

    pub(super) fn drop_lookup(&mut self, graph: Option<Name>) -> Parsed<Statement> {
        let unique = self.eat_word("KEY");
        if !unique {
            self.expect_word("INDEX")?;
        }
        let if_exists = self.eat_words(&["IF", "EXISTS"]);
        let name = self.name("a name")?;
        Ok(Statement::DropLookup { graph, unique, name, if_exists })
    }

    /// `GRAPH g RENAME LABEL a TO b ON NODE`, `GRAPH g RENAME PROPERTY p TO q ON NODE L`.
    pub(super) fn rename_statement(&mut self) -> Parsed<Rename> {
        let start = self.span();
        self.expect_word("GRAPH")?;
        let graph = self.name("a graph name")?;
        self.expect_word("RENAME")?;
        let of_label = self.eat_word("LABEL");
        if !of_label {
            self.expect_word("PROPERTY")?;
        }
        let from = self.label_name()?;
        self.expect_word("TO")?;
        let to = self.label_name()?;
        self.expect_word("ON")?;
        let element = self.node_or_edge()?;
        let mut label = None;
        if !of_label {
            self.eat(":");
            label = Some(self.label_name()?);
        }
        Ok(Rename { graph, element, label, from, to, span: self.span_since(start) })
    }
}
