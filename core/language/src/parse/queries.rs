//! Composition of queries: parts joined by NEXT, linear queries joined by UNION and similar conjunctions, SELECT,
//! and nested queries (ISO/IEC 39075, clauses 9, 14 and 15).

use crate::ast::*;
use crate::parse::{MAX_ERRORS, Parsed, Parser};
use crate::{Diagnostic, TokenKind};
use graphodrome_graph::Value;

/// What stands between queries, and so ends a linear one.
const JOINTS: &[&str] = &["NEXT", "UNION", "EXCEPT", "INTERSECT", "OTHERWISE"];

/// How many levels a query within a query counts for: it takes many productions to get there.
const QUERY_LEVELS: u32 = 10;

impl Parser<'_> {
    pub(super) fn query(&mut self) -> Parsed<Query> {
        let start = self.span();
        let mut parts = vec![Part { yields: None, composite: self.composite()? }];
        while self.eat_word("NEXT") {
            let yields = if self.eat_word("YIELD") { Some(self.yield_items()?) } else { None };
            parts.push(Part { yields, composite: self.composite()? });
        }
        Ok(Query { parts, span: self.span_since(start) })
    }

    /// `{ query }` or `( query )`.
    pub(super) fn nested_query(&mut self, close: &str) -> Parsed<Query> {
        self.expect(if close == ")" { "(" } else { "{" })?;
        let query = self.inner_query()?;
        self.expect(close)?;
        Ok(query)
    }

    pub(super) fn inner_query(&mut self) -> Parsed<Query> {
        self.nesting += 1;
        let query = self.deeper_by(QUERY_LEVELS, Self::query);
        self.nesting -= 1;
        query
    }

    fn composite(&mut self) -> Parsed<Composite> {
        let first = self.linear_query()?;
        let mut others: Vec<(Conjunction, Linear)> = vec![];
        loop {
            let place = self.span();
            let all = |p: &mut Self| {
                let all = p.eat_word("ALL");
                if !all {
                    p.eat_word("DISTINCT");
                }
                all
            };
            let conjunction = if self.eat_word("UNION") {
                Conjunction::Union { all: all(self) }
            } else if self.eat_word("EXCEPT") {
                Conjunction::Except { all: all(self) }
            } else if self.eat_word("INTERSECT") {
                Conjunction::Intersect { all: all(self) }
            } else if self.eat_word("OTHERWISE") {
                Conjunction::Otherwise
            } else {
                return Ok(Composite { first, others });
            };
            if others.iter().any(|(before, _)| *before != conjunction) {
                self.errors.push(
                    Diagnostic::syntax(place, "one query joins its parts in one way only")
                        .hint("put what belongs together between braces: { ... UNION ... } EXCEPT ..."),
                );
            }
            others.push((conjunction, self.linear_query()?));
        }
    }

    /// Where a linear query can go no further.
    pub(super) fn at_joint(&self) -> bool {
        match &self.token().kind {
            TokenKind::End => true,
            TokenKind::Punctuation(";") => true,
            TokenKind::Punctuation("}" | ")") => self.nesting > 0,
            TokenKind::Word(w) => JOINTS.iter().any(|j| w.eq_ignore_ascii_case(j)),
            _ => false,
        }
    }

    fn linear_query(&mut self) -> Parsed<Linear> {
        let start = self.span();
        self.count_clause()?;
        let mut linear = Linear { graph: None, at: None, clauses: vec![], span: start };
        if self.eat_word("USE") {
            linear.graph = Some(self.graph_name()?);
            linear.at = self.at_version()?;
        }
        if self.at_punctuation("{") {
            let query = self.nested_query("}")?;
            linear.clauses.push(Clause::Nested(Box::new(query)));
        } else if self.at_word("SELECT") {
            self.select(&mut linear)?;
        } else {
            while !self.at_joint() {
                if let Some(Clause::Return(_) | Clause::Finish) = linear.clauses.last() {
                    break;
                }
                if self.eat_word("USE") {
                    let again = self.graph_name()?;
                    let at = self.at_version()?;
                    let known = linear.graph.as_ref().is_some_and(|g| g.text == again.text);
                    if !known || !same_moment(at.as_ref(), linear.at.as_ref()) {
                        self.errors.push(self.not_supported(
                            again.span,
                            "another graph, or another version of one, within one query",
                            "GQ01",
                        ));
                    }
                    continue;
                }
                let before = self.at;
                match self.clause() {
                    Ok(clause) => linear.clauses.push(clause),
                    // Where nothing was read there is no place to go on from.
                    Err(error) if self.at == before || self.errors.len() >= MAX_ERRORS => return Err(error),
                    Err(error) => {
                        self.errors.push(error);
                        self.skip_clause();
                    }
                }
            }
        }
        linear.span = self.span_since(start);
        Ok(linear)
    }

    fn graph_name(&mut self) -> Parsed<Name> {
        self.name("a graph name")
    }

    /// `AT VERSION 17` or `AT TIMESTAMP '...'`, where it is there.
    fn at_version(&mut self) -> Parsed<Option<At>> {
        let start = self.span();
        if !self.eat_word("AT") {
            return Ok(None);
        }
        let kind = if self.eat_word("VERSION") {
            AtKind::Version
        } else if self.eat_word("TIMESTAMP") {
            AtKind::Timestamp
        } else {
            return Err(Diagnostic::syntax(self.span(), "expected VERSION or TIMESTAMP after AT")
                .hint("write AT VERSION 17 or AT TIMESTAMP '2026-11-29T10:00:00Z'"));
        };
        let value = match (&self.token().kind, kind) {
            (TokenKind::Parameter(name), _) => AtValue::Parameter(name.clone()),
            (TokenKind::Literal(value @ Value::Int(0..)), AtKind::Version)
            | (TokenKind::Literal(value @ Value::Text(_)), AtKind::Timestamp) => {
                AtValue::Literal(value.clone())
            }
            _ => {
                let (wanted, example) = match kind {
                    AtKind::Version => ("a version", "AT VERSION 17"),
                    AtKind::Timestamp => ("a time", "AT TIMESTAMP '2026-11-29T10:00:00Z'"),
                };
                return Err(Diagnostic::syntax(self.span(), format!("expected {wanted} or a parameter"))
                    .hint(format!("write {example}")));
            }
        };
        self.bump();
        Ok(Some(At { kind, value, span: self.span_since(start) }))
    }

    /// `SELECT ... FROM g MATCH ... WHERE ... GROUP BY ... HAVING ... ORDER BY ...`.
    fn select(&mut self, linear: &mut Linear) -> Parsed<()> {
        let start = self.span();
        self.bump();
        let distinct = self.set_quantifier();
        let items = if self.eat("*") { vec![] } else { self.comma_separated(Self::return_item)? };
        if self.eat_word("FROM") {
            if self.at_punctuation("{") {
                linear.clauses.push(Clause::Nested(Box::new(self.nested_query("}")?)));
            } else {
                loop {
                    if !self.at_word("MATCH") && !self.at_word("OPTIONAL") {
                        let graph = self.graph_name()?;
                        let at = self.at_version()?;
                        let differs = |known: &Name| {
                            known.text != graph.text || !same_moment(at.as_ref(), linear.at.as_ref())
                        };
                        if linear.graph.as_ref().is_some_and(differs) {
                            return Err(self.not_supported(
                                graph.span,
                                "another graph, or another version of one, within one query",
                                "GQ01",
                            ));
                        }
                        linear.graph = Some(graph);
                        linear.at = at;
                    }
                    if self.at_punctuation("{") {
                        linear.clauses.push(Clause::Nested(Box::new(self.nested_query("}")?)));
                        break;
                    }
                    let place = self.span();
                    let optional = self.eat_word("OPTIONAL");
                    self.expect_word("MATCH")?;
                    linear.clauses.push(self.match_statement(optional, place)?);
                    if !self.eat(",") {
                        break;
                    }
                }
            }
        }
        if self.eat_word("WHERE") {
            linear.clauses.push(Clause::Filter(self.expression()?));
        }
        let group_by = self.group_by()?;
        let having = if self.eat_word("HAVING") { Some(self.expression()?) } else { None };
        let page = self.order_by_and_page()?;
        let span = self.span_since(start);
        linear.clauses.push(Clause::Return(Return { distinct, items, group_by, having, page, span }));
        Ok(())
    }

    /// `a, b AS c`.
    fn yield_items(&mut self) -> Parsed<Vec<(Name, Name)>> {
        self.comma_separated(|p| {
            let column = p.name("a column's name")?;
            let name = if p.eat_word("AS") { p.name("a variable")? } else { column.clone() };
            Ok((column, name))
        })
    }

    /// After `[OPTIONAL] CALL`.
    pub(super) fn call(&mut self, optional: bool, start: crate::Span) -> Parsed<Clause> {
        if self.at_punctuation("{") || self.at_punctuation("(") {
            let imports = if self.eat("(") {
                let names = if self.at_punctuation(")") {
                    vec![]
                } else {
                    self.comma_separated(|p| p.name("a variable"))?
                };
                self.expect(")")?;
                Some(names)
            } else {
                None
            };
            let query = Box::new(self.nested_query("}")?);
            return Ok(Clause::Call { optional, imports, query, span: self.span_since(start) });
        }
        let name = self.name("a procedure's name, or { for a query")?;
        self.expect("(")?;
        let arguments =
            if self.at_punctuation(")") { vec![] } else { self.comma_separated(Self::expression)? };
        self.expect(")")?;
        let yields = if self.eat_word("YIELD") { Some(self.yield_items()?) } else { None };
        Ok(Clause::CallProcedure { optional, name, arguments, yields, span: self.span_since(start) })
    }

    /// After `OPTIONAL`, at `{` or `(`: several MATCHes that are found together or not at all.
    pub(super) fn optional_block(&mut self, start: crate::Span) -> Parsed<Clause> {
        let close = if self.eat("(") {
            ")"
        } else {
            self.expect("{")?;
            "}"
        };
        let mut clauses = vec![];
        self.nesting += 1;
        while !self.at_punctuation(close) {
            let place = self.span();
            let clause = if self.eat_word("OPTIONAL") {
                self.expect_word("MATCH").and_then(|()| self.match_statement(true, place))
            } else {
                self.expect_word("MATCH").and_then(|()| self.match_statement(false, place))
            };
            match clause {
                Ok(clause) => clauses.push(clause),
                Err(error) => {
                    self.nesting -= 1;
                    return Err(error);
                }
            }
        }
        self.nesting -= 1;
        self.expect(close)?;
        Ok(Clause::Optional { clauses, span: self.span_since(start) })
    }
}
