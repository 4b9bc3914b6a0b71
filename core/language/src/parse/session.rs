//! Session and transaction commands (ISO/IEC 39075, clauses 7 and 8).

use crate::ast::*;
use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, TokenKind};
use graphodrome_graph::Value;

impl Parser<'_> {
    /// A session or transaction command, where one is in front.
    pub(super) fn command(&mut self) -> Parsed<Option<Statement>> {
        if self.eat_words(&["START", "TRANSACTION"]) {
            let read_only = self.eat_words(&["READ", "ONLY"]);
            if !read_only {
                self.eat_words(&["READ", "WRITE"]);
            }
            return Ok(Some(Statement::Transaction(TransactionCommand::Start { read_only })));
        }
        if self.eat_word("COMMIT") {
            return Ok(Some(Statement::Transaction(TransactionCommand::Commit)));
        }
        if self.eat_word("ROLLBACK") {
            return Ok(Some(Statement::Transaction(TransactionCommand::Rollback)));
        }
        if !self.eat_word("SESSION") {
            return Ok(None);
        }
        let command = if self.eat_word("SET") {
            self.session_set()?
        } else if self.eat_word("RESET") {
            SessionCommand::Reset(self.session_reset()?)
        } else if self.eat_word("CLOSE") {
            SessionCommand::Close
        } else {
            return Err(self.unexpected("SET, RESET or CLOSE"));
        };
        Ok(Some(Statement::Session(command)))
    }

    fn session_set(&mut self) -> Parsed<SessionCommand> {
        let start = self.span();
        if self.eat_words(&["TIME", "ZONE"]) {
            let span = self.span();
            let TokenKind::Literal(Value::Text(text)) = self.token().kind.clone() else {
                return Err(self.unexpected("a time zone such as '+01:00'"));
            };
            self.bump();
            return Ok(SessionCommand::SetTimeZone { text, span });
        }
        if self.at_words(&["BINDING", "TABLE"]) || self.at_word("TABLE") {
            return Err(self.not_supported(start, "session parameters that are tables", "GS02"));
        }
        if self.eat_word("SCHEMA") {
            return Err(self.not_supported(start, "schemas", "GC01"));
        }
        let graph = {
            let property = self.at_words(&["PROPERTY", "GRAPH"]);
            if property {
                self.bump();
            }
            self.eat_word("GRAPH")
        };
        if graph {
            if matches!(self.token().kind, TokenKind::Parameter(_)) || self.at_word("IF") {
                return Err(self.not_supported(start, "session parameters that are graphs", "GS01"));
            }
            return Ok(SessionCommand::SetGraph(self.name("a graph name")?));
        }
        self.expect_word("VALUE")?;
        let if_not_exists = self.eat_words(&["IF", "NOT", "EXISTS"]);
        let TokenKind::Parameter(name) = self.token().kind.clone() else {
            return Err(self.unexpected("a parameter such as $limit"));
        };
        self.bump();
        let value_type = self.declared_type()?;
        self.expect("=")?;
        let value = self.expression()?;
        Ok(SessionCommand::SetParameter { name, if_not_exists, value_type: value_type.map(|t| t.0), value })
    }

    fn session_reset(&mut self) -> Parsed<SessionPart> {
        let all = self.eat_word("ALL");
        if self.eat_word("PARAMETERS") {
            return Ok(SessionPart::Parameters);
        }
        if self.eat_word("CHARACTERISTICS") || all {
            return Ok(SessionPart::All);
        }
        if self.eat_words(&["TIME", "ZONE"]) {
            return Ok(SessionPart::TimeZone);
        }
        if self.at_word("SCHEMA") {
            return Err(self.not_supported(self.span(), "schemas", "GC01"));
        }
        if self.eat_words(&["PROPERTY", "GRAPH"]) || self.eat_word("GRAPH") {
            return Ok(SessionPart::Graph);
        }
        self.eat_word("PARAMETER");
        if let TokenKind::Parameter(name) = self.token().kind.clone() {
            self.bump();
            return Ok(SessionPart::Parameter(name));
        }
        if matches!(self.token().kind, TokenKind::End) || self.at_punctuation(";") {
            return Ok(SessionPart::All);
        }
        Err(Diagnostic::syntax(
            self.span(),
            "SESSION RESET takes nothing, ALL PARAMETERS, GRAPH, TIME ZONE or a parameter such as $limit",
        ))
    }
}
