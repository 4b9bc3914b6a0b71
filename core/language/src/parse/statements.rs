//! Statements and clauses (ISO/IEC 39075, clauses 13 and 14).

use crate::ast::*;
use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, Span, TokenKind};
use graphodrome_graph::Direction;

/// Words that begin a clause: where parsing resumes after an error, and lines begin in a layout.
pub(crate) const CLAUSES: &[&str] = &[
    "MATCH",
    "OPTIONAL",
    "FILTER",
    "LET",
    "FOR",
    "INSERT",
    "UPSERT",
    "SET",
    "REMOVE",
    "DELETE",
    "DETACH",
    "NODETACH",
    "ORDER",
    "OFFSET",
    "SKIP",
    "LIMIT",
    "RETURN",
    "FINISH",
    "USE",
    "CALL",
    "NEXT",
    "UNION",
    "EXCEPT",
    "INTERSECT",
    "OTHERWISE",
];

impl Parser<'_> {
    pub(super) fn script(&mut self) -> Parsed<Vec<Statement>> {
        let mut statements = vec![];
        loop {
            while self.eat(";") {}
            if self.token().kind == TokenKind::End {
                break;
            }
            match self.statement() {
                Ok(statement) => {
                    statements.push(statement);
                    if self.token().kind != TokenKind::End && !self.at_punctuation(";") {
                        let error = self.unexpected("a clause or \";\"");
                        self.errors.push(error);
                        self.skip_statement();
                    }
                }
                Err(error) => {
                    self.errors.push(error);
                    self.skip_statement();
                }
            }
        }
        if statements.is_empty() && self.errors.is_empty() {
            return Err(Diagnostic::syntax(Span::default(), "the text has no statement")
                .hint("begin with MATCH, INSERT or CREATE"));
        }
        Ok(statements)
    }

    fn skip_statement(&mut self) {
        while !matches!(self.token().kind, TokenKind::End) && !self.at_punctuation(";") {
            self.bump();
        }
    }

    fn statement(&mut self) -> Parsed<Statement> {
        if self.at_word("CREATE") || self.at_word("DROP") {
            return self.catalog_statement(None);
        }
        if self.eat_word("ALTER") {
            return self.rename_statement().map(Statement::Rename);
        }
        // `USE g CREATE KEY ...`: keys and indexes belong to a graph.
        let start = self.at;
        if self.eat_word("USE") {
            let graph = self.name("a graph name")?;
            if self.at_word("CREATE") || self.at_word("DROP") {
                return self.catalog_statement(Some(graph));
            }
            self.at = start;
        }
        if let Some(command) = self.command()? {
            return Ok(command);
        }
        self.query().map(Statement::Query)
    }

    /// To the next clause keyword outside parentheses, or the end of the statement.
    pub(super) fn skip_clause(&mut self) {
        let mut nesting = 0i32;
        loop {
            match &self.token().kind {
                TokenKind::End => return,
                TokenKind::Punctuation(";") => return,
                TokenKind::Punctuation("(" | "[" | "{") => nesting += 1,
                TokenKind::Punctuation("}") if nesting == 0 && self.nesting > 0 => return,
                TokenKind::Punctuation(")" | "]" | "}") => nesting -= 1,
                TokenKind::Word(w) if nesting <= 0 && CLAUSES.iter().any(|c| w.eq_ignore_ascii_case(c)) => {
                    return;
                }
                _ => {}
            }
            self.bump();
        }
    }

    pub(super) fn clause(&mut self) -> Parsed<Clause> {
        self.count_clause()?;
        let start = self.span();
        if self.eat_word("OPTIONAL") {
            if self.eat_word("MATCH") {
                return self.match_statement(true, start);
            }
            if self.eat_word("CALL") {
                return self.call(true, start);
            }
            if self.at_punctuation("{") || self.at_punctuation("(") {
                return self.optional_block(start);
            }
            return Err(self.unexpected("MATCH, CALL or { after OPTIONAL"));
        }
        if self.eat_word("CALL") {
            return self.call(false, start);
        }
        if self.eat_word("MATCH") {
            return self.match_statement(false, start);
        }
        if self.eat_word("FILTER") {
            self.eat_word("WHERE");
            return Ok(Clause::Filter(self.expression()?));
        }
        if self.eat_word("LET") {
            return Ok(Clause::Let(self.comma_separated(Self::let_item)?));
        }
        // The head of a procedure: VALUE x = ...
        if self.at_word("VALUE") {
            return Ok(Clause::Let(vec![self.let_item()?]));
        }
        for (words, what, feature) in [
            (&["BINDING", "TABLE"][..], "variables that are tables", "GP08"),
            (&["TABLE"], "variables that are tables", "GP08"),
            (&["PROPERTY", "GRAPH"], "variables that are graphs", "GP11"),
            (&["GRAPH"], "variables that are graphs", "GP11"),
            (&["AT"], "schemas", "GP16"),
        ] {
            if self.at_words(words) {
                return Err(self.not_supported(start, what, feature));
            }
        }
        if self.eat_word("FOR") {
            return self.for_statement();
        }
        if self.eat_word("INSERT") {
            let paths = self.comma_separated(Self::insert_path_pattern)?;
            return Ok(Clause::Insert { paths, span: self.span_since(start) });
        }
        if self.eat_word("UPSERT") {
            let paths = self.comma_separated(Self::insert_path_pattern)?;
            let items = if self.eat_word("SET") { self.comma_separated(Self::set_item)? } else { vec![] };
            return Ok(Clause::Upsert { paths, items, span: self.span_since(start) });
        }
        if self.eat_word("SET") {
            let items = self.comma_separated(Self::set_item)?;
            return Ok(Clause::Set { items, span: self.span_since(start) });
        }
        if self.eat_word("REMOVE") {
            let items = self.comma_separated(Self::remove_item)?;
            return Ok(Clause::Remove { items, span: self.span_since(start) });
        }
        if ["DETACH", "NODETACH", "DELETE"].iter().any(|w| self.at_word(w)) {
            let detach = self.eat_word("DETACH");
            self.eat_word("NODETACH");
            self.expect_word("DELETE")?;
            let targets = self.comma_separated(Self::expression)?;
            return Ok(Clause::Delete { detach, targets, span: self.span_since(start) });
        }
        if ["ORDER", "OFFSET", "SKIP", "LIMIT"].iter().any(|w| self.at_word(w)) {
            return Ok(Clause::Page(self.order_by_and_page()?));
        }
        if self.eat_word("RETURN") {
            return self.return_statement(start);
        }
        if self.eat_word("FINISH") {
            return Ok(Clause::Finish);
        }
        if self.at_word("SELECT") {
            return Err(Diagnostic::syntax(start, "SELECT is a whole query and follows no other clause")
                .hint("end this one with RETURN, or begin with SELECT ... FROM graph MATCH ..."));
        }
        if ["CREATE", "DROP"].iter().any(|w| self.at_word(w)) {
            return Err(self.not_supported(start, "catalog statements within a query", "GP18"));
        }
        if self.at_word("WHERE") {
            return Err(Diagnostic::syntax(start, "WHERE stands only after a MATCH pattern")
                .hint("write FILTER to test rows"));
        }
        if self.at_word("WITH") {
            return Err(Diagnostic::syntax(start, "expected a clause, found \"WITH\"")
                .hint("name values with LET, test rows with FILTER"));
        }
        Err(self.unexpected("a clause such as MATCH, INSERT or RETURN"))
    }

    pub(super) fn match_statement(&mut self, optional: bool, start: Span) -> Parsed<Clause> {
        let pattern = self.graph_pattern()?;
        Ok(Clause::Match { optional, pattern, span: self.span_since(start) })
    }

    /// `x = ...`, `VALUE x = ...` or `VALUE x :: TYPE = ...`.
    fn let_item(&mut self) -> Parsed<(Name, Expression)> {
        let value = self.at_word("VALUE") && !self.punctuation_at(1, "=");
        if value {
            self.bump();
        }
        let name = self.name("a variable")?;
        let declared = if value { self.declared_type()? } else { None };
        self.expect("=")?;
        let expression = self.expression()?;
        let Some((value_type, not_null)) = declared else { return Ok((name, expression)) };
        let span = expression.span;
        let kind = ExpressionKind::Require(Box::new(expression), value_type, not_null);
        Ok((name, Expression { kind, span }))
    }

    /// `:: TYPE`, `TYPED TYPE` or the type alone before `=`, with whether null is left out.
    pub(super) fn declared_type(&mut self) -> Parsed<Option<(graphodrome_graph::ValueType, bool)>> {
        let colons = self.at_punctuation(":") && self.punctuation_at(1, ":");
        if colons {
            self.bump();
            self.bump();
        } else if !self.eat_word("TYPED") && self.at_punctuation("=") {
            return Ok(None);
        }
        let value_type = self.value_type()?;
        Ok(Some((value_type, self.eat_words(&["NOT", "NULL"]))))
    }

    fn for_statement(&mut self) -> Parsed<Clause> {
        let variable = self.name("a variable")?;
        self.expect_word("IN")?;
        let list = self.expression()?;
        let mut counter = None;
        if self.eat_word("WITH") {
            let first = if self.eat_word("ORDINALITY") {
                1
            } else {
                self.expect_word("OFFSET")?;
                0
            };
            counter = Some((self.name("a variable")?, first));
        }
        Ok(Clause::For { variable, list, counter })
    }

    pub(super) fn order_by_and_page(&mut self) -> Parsed<Page> {
        let mut page = Page::default();
        if self.eat_words(&["ORDER", "BY"]) {
            page.order = self.comma_separated(Self::sort_specification)?;
        } else if self.at_word("ORDER") {
            self.bump();
            return Err(self.unexpected("BY"));
        }
        if self.eat_word("OFFSET") || self.eat_word("SKIP") {
            page.offset = Some(self.expression()?);
        }
        if self.eat_word("LIMIT") {
            page.limit = Some(self.expression()?);
        }
        if page.offset.is_none() && self.at_word("OFFSET") {
            return Err(Diagnostic::syntax(self.span(), "OFFSET stands before LIMIT"));
        }
        Ok(page)
    }

    fn sort_specification(&mut self) -> Parsed<SortKey> {
        let expression = self.expression()?;
        let descending = self.eat_word("DESC") || self.eat_word("DESCENDING");
        if !descending {
            let _ = self.eat_word("ASC") || self.eat_word("ASCENDING");
        }
        let nulls_first = if self.eat_words(&["NULLS", "FIRST"]) {
            Some(true)
        } else if self.eat_words(&["NULLS", "LAST"]) {
            Some(false)
        } else {
            None
        };
        Ok(SortKey { expression, descending, nulls_first })
    }

    fn return_statement(&mut self, start: Span) -> Parsed<Clause> {
        let distinct = self.set_quantifier();
        let items = if self.eat("*") { vec![] } else { self.comma_separated(Self::return_item)? };
        let group_by = self.group_by()?;
        let page = self.order_by_and_page()?;
        let span = self.span_since(start);
        Ok(Clause::Return(Return { distinct, items, group_by, having: None, page, span }))
    }

    /// `DISTINCT`, `ALL` or neither.
    pub(super) fn set_quantifier(&mut self) -> bool {
        let distinct = self.eat_word("DISTINCT");
        if !distinct {
            self.eat_word("ALL");
        }
        distinct
    }

    pub(super) fn group_by(&mut self) -> Parsed<Option<Vec<Name>>> {
        if !self.eat_words(&["GROUP", "BY"]) {
            return Ok(None);
        }
        if self.eat("(") {
            self.expect(")")?;
            return Ok(Some(vec![]));
        }
        let names = self.comma_separated(|p| p.name("a variable or a column's name"))?;
        if self.at_punctuation(".") || self.at_punctuation("(") {
            let found = self.unexpected("the next clause");
            return Err(
                found.hint("GROUP BY takes names: name the value in RETURN with AS, or before it with LET")
            );
        }
        Ok(Some(names))
    }

    pub(super) fn return_item(&mut self) -> Parsed<ReturnItem> {
        let expression = self.expression()?;
        if self.eat_word("AS") {
            let name = self.property_name()?.text;
            return Ok(ReturnItem { expression, name, named: true });
        }
        let name = self.text_of(expression.span);
        Ok(ReturnItem { expression, name, named: false })
    }

    fn set_item(&mut self) -> Parsed<SetItem> {
        let variable = self.name("a variable")?;
        if self.eat(".") {
            let property = self.property_name()?;
            self.expect("=")?;
            return Ok(SetItem::Property { variable, property, value: self.expression()? });
        }
        if self.eat("=") {
            self.expect("{")?;
            let properties = self.property_pairs()?;
            return Ok(SetItem::All { variable, properties });
        }
        if self.eat(":") || self.eat_word("IS") {
            return Ok(SetItem::Label { variable, label: self.label_name()? });
        }
        Err(self.unexpected("\".property =\", \"= {...}\" or \":Label\""))
    }

    fn remove_item(&mut self) -> Parsed<RemoveItem> {
        let variable = self.name("a variable")?;
        if self.eat(".") {
            return Ok(RemoveItem::Property { variable, property: self.property_name()? });
        }
        if self.eat(":") || self.eat_word("IS") {
            return Ok(RemoveItem::Label { variable, label: self.label_name()? });
        }
        Err(self.unexpected("\".property\" or \":Label\""))
    }

    fn insert_path_pattern(&mut self) -> Parsed<InsertPath> {
        let first = self.insert_node()?;
        let mut steps = vec![];
        while self.at_punctuation("-") || self.at_punctuation("<") || self.at_punctuation("~") {
            let edge = self.insert_edge()?;
            steps.push((edge, self.insert_node()?));
        }
        Ok(InsertPath { first, steps })
    }

    fn insert_node(&mut self) -> Parsed<InsertElement> {
        self.expect("(")?;
        let element = self.insert_element()?;
        self.expect(")")?;
        Ok(element)
    }

    fn insert_edge(&mut self) -> Parsed<InsertEdge> {
        let start = self.span();
        let left = self.eat("<");
        let undirected = !left && self.eat("~");
        if !undirected {
            self.expect("-")?;
        }
        self.expect("[")?;
        let element = self.insert_element()?;
        self.expect("]")?;
        if undirected {
            self.expect("~")?;
            return Ok(InsertEdge { element, direction: Direction::Undirected });
        }
        self.expect("-")?;
        let right = !left && self.eat(">");
        let direction = match (left, right) {
            (true, _) => Direction::In,
            (_, true) => Direction::Out,
            _ => {
                return Err(Diagnostic::syntax(self.span_since(start), "a new edge needs a direction")
                    .hint("write -[...]->, <-[...]- or ~[...]~ for an undirected edge"));
            }
        };
        Ok(InsertEdge { element, direction })
    }

    fn insert_element(&mut self) -> Parsed<InsertElement> {
        let start = self.span();
        let variable = if self.at_name() { Some(self.name("a variable")?) } else { None };
        let mut labels = vec![];
        if self.eat(":") || self.eat_word("IS") {
            labels.push(self.label_name()?);
            while self.eat("&") {
                labels.push(self.label_name()?);
            }
        }
        let properties = if self.eat("{") { self.property_pairs()? } else { vec![] };
        Ok(InsertElement { variable, labels, properties, span: self.span_since(start) })
    }

    /// `name: value, ...}` after the opening brace.
    pub(super) fn property_pairs(&mut self) -> Parsed<Vec<(Name, Expression)>> {
        if self.eat("}") {
            return Ok(vec![]);
        }
        let pairs = self.comma_separated(|p| {
            let name = p.property_name()?;
            p.expect(":")?;
            Ok((name, p.expression()?))
        })?;
        self.expect("}")?;
        Ok(pairs)
    }
}
