//! Recursive descent, one function for each production, named after the standard's. Convention: a function is
//! called at its first token and either consumes its production or fails with one error. Statements and clauses
//! recover at the next clause keyword, so one run reports several errors. Depth is limited and independent of the
//! stack size.

mod bounds;
mod catalog;
mod expressions;
mod forms;
mod lookups;
mod patterns;
mod queries;
mod session;
mod simplified;
pub(crate) mod statements;
mod types;
mod views;
pub(crate) mod ways_out;

use std::sync::Arc;

use graphodrome_graph::{GraphType, ValueType};

use crate::ast::{Expression, Name, Statement};
use crate::{Diagnostic, Diagnostics, KEYWORDS, Span, Token, TokenKind, nearest, tokenize};

pub(crate) type Parsed<T> = Result<T, Diagnostic>;

/// How deep expressions, patterns and subqueries may nest.
const MAX_DEPTH: u32 = 200;
/// How many levels an expression's operators may be put together from: a chain adds one for each.
const MAX_HEIGHT: usize = 1500;
/// Clauses of one text, and linear queries in it.
const MAX_CLAUSES: usize = 500;
/// Nodes, edges and parts in one MATCH.
const MAX_ELEMENTS: usize = 500;
/// Labels in one label expression.
const MAX_LABELS: usize = 500;
/// How deep lists and records may lie in each other in a value type.
const MAX_TYPE_DEPTH: usize = 32;
/// Stack that one level of nesting is sure to get, and what is added where it is not there.
const STACK_LEVEL: usize = if cfg!(debug_assertions) { 2 << 20 } else { 256 << 10 };
const STACK_MORE: usize = 8 << 20;
/// How many errors one run reports.
const MAX_ERRORS: usize = 20;

/// Parses a text of one or more statements separated by semicolons.
pub fn parse(text: &str) -> Result<Vec<Statement>, Diagnostics> {
    run(text, |p| p.script())
}

/// Where each statement of a text stands, without the semicolons between them.
pub fn statement_ranges(text: &str) -> Vec<std::ops::Range<usize>> {
    let (tokens, _) = tokenize(text);
    let mut ranges = vec![];
    let mut begin: Option<usize> = None;
    let (mut end, mut nesting) = (0, 0i32);
    for token in tokens {
        let (start, stop) = (token.span.start as usize, token.span.end as usize);
        match token.kind {
            TokenKind::End => break,
            TokenKind::Punctuation(";") if nesting <= 0 => {
                ranges.extend(begin.take().map(|b| b..end));
                continue;
            }
            TokenKind::Punctuation("{" | "(" | "[") => nesting += 1,
            TokenKind::Punctuation("}" | ")" | "]") => nesting -= 1,
            _ => {}
        }
        begin.get_or_insert(start);
        end = stop;
    }
    ranges.extend(begin.map(|b| b..end));
    ranges
}

/// Parses one expression, as in a mapping.
pub fn parse_expression(text: &str) -> Result<Expression, Diagnostics> {
    run(text, |p| {
        let e = p.expression()?;
        p.end()?;
        Ok(e)
    })
}

/// Parses the body of a graph type, with or without `CREATE GRAPH TYPE name AS` before it.
pub fn parse_graph_type(text: &str) -> Result<GraphType, Diagnostics> {
    run(text, |p| {
        if p.at_punctuation("{") {
            let graph_type = p.nested_graph_type_specification("model".into())?;
            p.end()?;
            return Ok(graph_type);
        }
        match p.script()?.into_iter().next() {
            Some(Statement::CreateGraphType { definition, .. }) => Ok(*definition),
            _ => Err(Diagnostic::syntax(Span::default(), "the text is not a graph type")
                .hint("begin with CREATE GRAPH TYPE name AS {")),
        }
    })
}

pub fn parse_value_type(text: &str) -> Result<ValueType, Diagnostics> {
    run(text, |p| {
        let t = p.value_type()?;
        p.end()?;
        Ok(t)
    })
}

fn run<T>(text: &str, production: impl FnOnce(&mut Parser) -> Parsed<T>) -> Result<T, Diagnostics> {
    let (tokens, errors) = tokenize(text);
    let mut parser =
        Parser { text, tokens, at: 0, errors, depth: 0, clauses: 0, nesting: 0, before_in: false };
    let result = production(&mut parser);
    let mut errors = parser.errors;
    match result {
        Ok(value) if errors.is_empty() => return Ok(value),
        Ok(_) => {}
        Err(error) => errors.push(error),
    }
    errors.sort_by_key(|e| e.span.start);
    errors.truncate(MAX_ERRORS);
    Err(Diagnostics(errors))
}

pub(crate) struct Parser<'t> {
    text: &'t str,
    tokens: Vec<Token>,
    at: usize,
    errors: Vec<Diagnostic>,
    depth: u32,
    /// Clauses and linear queries so far.
    clauses: usize,
    /// Queries within queries: how many are open here.
    nesting: u32,
    /// In the bindings of a LET expression IN ends the value.
    before_in: bool,
}

impl Parser<'_> {
    fn token(&self) -> &Token {
        &self.tokens[self.at]
    }

    fn ahead(&self, n: usize) -> &TokenKind {
        &self.tokens[(self.at + n).min(self.tokens.len() - 1)].kind
    }

    fn span(&self) -> Span {
        self.token().span
    }

    /// Where the last consumed token ends.
    fn last_end(&self) -> u32 {
        if self.at == 0 { 0 } else { self.tokens[self.at - 1].span.end }
    }

    fn span_since(&self, start: Span) -> Span {
        Span { start: start.start, end: self.last_end().max(start.start) }
    }

    fn bump(&mut self) -> Token {
        let token = self.tokens[self.at].clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        token
    }

    fn word_at(&self, n: usize, word: &str) -> bool {
        matches!(self.ahead(n), TokenKind::Word(w) if w.eq_ignore_ascii_case(word))
    }

    fn at_word(&self, word: &str) -> bool {
        self.word_at(0, word)
    }

    fn at_words(&self, words: &[&str]) -> bool {
        words.iter().enumerate().all(|(n, word)| self.word_at(n, word))
    }

    /// Consumes the words if all of them are in front.
    fn eat_words(&mut self, words: &[&str]) -> bool {
        let found = self.at_words(words);
        if found {
            words.iter().for_each(|_| {
                self.bump();
            });
        }
        found
    }

    fn eat_word(&mut self, word: &str) -> bool {
        self.eat_words(&[word])
    }

    fn expect_word(&mut self, word: &str) -> Parsed<()> {
        if self.eat_word(word) { Ok(()) } else { Err(self.unexpected(word)) }
    }

    fn punctuation_at(&self, n: usize, p: &str) -> bool {
        matches!(self.ahead(n), TokenKind::Punctuation(found) if *found == p)
    }

    fn at_punctuation(&self, p: &str) -> bool {
        self.punctuation_at(0, p)
    }

    fn eat(&mut self, p: &str) -> bool {
        let found = self.at_punctuation(p);
        if found {
            self.bump();
        }
        found
    }

    fn expect(&mut self, p: &str) -> Parsed<()> {
        if self.eat(p) { Ok(()) } else { Err(self.unexpected(&format!("\"{p}\""))) }
    }

    fn end(&mut self) -> Parsed<()> {
        if self.token().kind == TokenKind::End { Ok(()) } else { Err(self.unexpected("the end")) }
    }

    /// "expected X, found Y", with the keyword that was probably meant as a hint.
    fn unexpected(&self, expected: &str) -> Diagnostic {
        let found = match &self.token().kind {
            TokenKind::End => "the end of the text".to_string(),
            _ => {
                let span = self.span();
                format!("\"{}\"", &self.text[span.start as usize..span.end as usize])
            }
        };
        let hint = match &self.token().kind {
            TokenKind::Word(word) => {
                let upper = word.to_uppercase();
                nearest(&upper, KEYWORDS.iter().copied())
                    .filter(|k| *k != upper)
                    .map(|k| format!("did you mean {k}?"))
            }
            _ => None,
        };
        let hint = self.way_out().or(hint);
        Diagnostic::syntax(self.span(), format!("expected {expected}, found {found}")).maybe_hint(hint)
    }

    /// `feature` is the standard's code for it.
    fn not_supported(&self, span: Span, what: &str, feature: &str) -> Diagnostic {
        Diagnostic::syntax(span, format!("not supported: {what} (feature {feature})"))
    }

    /// An identifier: a word that is no keyword, or a quoted name.
    fn name(&mut self, what: &str) -> Parsed<Name> {
        let span = self.span();
        match self.token().kind.clone() {
            TokenKind::Quoted(text) => {
                self.bump();
                Ok(Name { text, span })
            }
            TokenKind::Word(text) if !is_keyword(&text) => {
                self.bump();
                Ok(Name { text, span })
            }
            TokenKind::Word(text) => Err(Diagnostic::syntax(
                span,
                format!("expected {what}, found the reserved word {}", text.to_uppercase()),
            )
            .maybe_hint(self.way_out())
            .or_hint(format!("write \"{text}\" in double quotes to use it as a name"))),
            _ => Err(self.unexpected(what)),
        }
    }

    /// A property or field name: keywords are allowed where no other reading exists.
    fn property_name(&mut self) -> Parsed<Name> {
        let span = self.span();
        match self.token().kind.clone() {
            TokenKind::Quoted(text) | TokenKind::Word(text) => {
                self.bump();
                Ok(Name { text, span })
            }
            _ => Err(self.unexpected("a property name")),
        }
    }

    /// A label: like a property name it stands where no keyword can, so that `:IN` needs no quotes.
    fn label_name(&mut self) -> Parsed<Name> {
        match self.token().kind {
            TokenKind::Quoted(_) | TokenKind::Word(_) => self.property_name(),
            _ => Err(self.unexpected("a label")),
        }
    }

    fn at_name(&self) -> bool {
        match &self.token().kind {
            TokenKind::Quoted(_) => true,
            TokenKind::Word(word) => !is_keyword(word),
            _ => false,
        }
    }

    fn unsigned(&mut self, what: &str) -> Parsed<u32> {
        if let TokenKind::Literal(graphodrome_graph::Value::Int(i)) = self.token().kind
            && let Ok(n) = u32::try_from(i)
        {
            self.bump();
            return Ok(n);
        }
        Err(self.unexpected(what))
    }

    /// Runs a production one level deeper.
    fn deeper<T>(&mut self, production: impl FnOnce(&mut Self) -> Parsed<T>) -> Parsed<T> {
        self.deeper_by(1, production)
    }

    fn deeper_by<T>(&mut self, levels: u32, production: impl FnOnce(&mut Self) -> Parsed<T>) -> Parsed<T> {
        if self.depth + levels > MAX_DEPTH {
            return Err(Diagnostic::syntax(self.span(), format!("nested more than {MAX_DEPTH} levels deep"))
                .hint("split the query with LET"));
        }
        self.depth += levels;
        let result = stacker::maybe_grow(STACK_LEVEL, STACK_MORE, || production(self));
        self.depth -= levels;
        result
    }

    /// An error where a text has too many clauses: each is an operator of a plan above the one before.
    fn count_clause(&mut self) -> Parsed<()> {
        self.clauses += 1;
        if self.clauses <= MAX_CLAUSES {
            return Ok(());
        }
        Err(Diagnostic::syntax(self.span(), format!("more than {MAX_CLAUSES} clauses in one text"))
            .hint("go through a list with FOR, or send several requests"))
    }

    /// One or more, separated by commas.
    fn comma_separated<T>(&mut self, mut item: impl FnMut(&mut Self) -> Parsed<T>) -> Parsed<Vec<T>> {
        let mut items = vec![item(self)?];
        while self.eat(",") {
            items.push(item(self)?);
        }
        Ok(items)
    }

    fn text_of(&self, span: Span) -> Arc<str> {
        self.text[span.start as usize..span.end as usize].trim().into()
    }
}

/// What a function is called here, where it has another name elsewhere.
pub fn called_otherwise(function: &str) -> Option<&'static str> {
    let found = ways_out::FUNCTIONS.iter().find(|(name, _)| function.eq_ignore_ascii_case(name));
    found.map(|(_, hint)| *hint)
}

fn is_keyword(word: &str) -> bool {
    KEYWORDS.binary_search(&&*word.to_ascii_uppercase()).is_ok()
}

#[cfg(test)]
mod tests;
