//! Tokens of the language (ISO/IEC 39075, 21.3). Arrows are left as single characters: whether `<-`
//! is an arrow or "less than minus" only the parser can know.

use std::sync::Arc;

use graphodrome_graph::{Decimal, Value};

use crate::{Diagnostic, Span};

#[derive(Clone, Debug, PartialEq)]
pub enum TokenKind {
    /// A regular identifier or keyword, as written.
    Word(Arc<str>),
    /// A delimited identifier: "..." or `...`; never a keyword.
    Quoted(Arc<str>),
    Parameter(Arc<str>),
    Literal(Value),
    /// One character, or one of `<=`, `>=`, `<>`, `||`, `=>`.
    Punctuation(&'static str),
    End,
}

#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    pub kind: TokenKind,
    pub span: Span,
}

/// Reserved words: never taken as a variable, label or property without quotes. Also what the shell
/// and the console complete.
pub const KEYWORDS: &[&str] = &[
    "ACYCLIC",
    "ALL",
    "AND",
    "ANY",
    "AS",
    "ASC",
    "ASCENDING",
    "AVG",
    "BETWEEN",
    "BY",
    "CALL",
    "CASE",
    "CAST",
    "COALESCE",
    "COLLECT_LIST",
    "COUNT",
    "CREATE",
    "CURRENT_DATE",
    "CURRENT_TIME",
    "CURRENT_TIMESTAMP",
    "DELETE",
    "DESC",
    "DESCENDING",
    "DETACH",
    "DISTINCT",
    "DROP",
    "ELSE",
    "END",
    "EXCEPT",
    "EXISTS",
    "FALSE",
    "FILTER",
    "FINISH",
    "FOR",
    "GROUP",
    "HAVING",
    "IN",
    "INSERT",
    "INTERSECT",
    "IS",
    "KEEP",
    "LET",
    "LIKE",
    "LIMIT",
    "LOCAL_TIME",
    "LOCAL_TIMESTAMP",
    "MATCH",
    "MAX",
    "MIN",
    "NEXT",
    "NODETACH",
    "NOT",
    "NULL",
    "NULLIF",
    "NULLS",
    "OFFSET",
    "OPTIONAL",
    "OR",
    "ORDER",
    "OTHERWISE",
    "PERCENTILE_CONT",
    "PERCENTILE_DISC",
    "REMOVE",
    "REPLACE",
    "RETURN",
    "SELECT",
    "SET",
    "SHORTEST",
    "SIMPLE",
    "SKIP",
    "STDDEV_POP",
    "STDDEV_SAMP",
    "SUM",
    "THEN",
    "TRAIL",
    "TRUE",
    "UNION",
    "UNKNOWN",
    "USE",
    "WALK",
    "WHEN",
    "WHERE",
    "WITH",
    "XOR",
    "YIELD",
];

const SINGLE: &[(char, &str)] = &[
    ('(', "("),
    (')', ")"),
    ('[', "["),
    (']', "]"),
    ('{', "{"),
    ('}', "}"),
    (',', ","),
    (';', ";"),
    (':', ":"),
    ('.', "."),
    ('+', "+"),
    ('-', "-"),
    ('*', "*"),
    ('/', "/"),
    ('%', "%"),
    ('=', "="),
    ('<', "<"),
    ('>', ">"),
    ('~', "~"),
    ('|', "|"),
    ('&', "&"),
    ('!', "!"),
    ('?', "?"),
];

const DOUBLE: &[&str] = &["<=", ">=", "<>", "||", "=>"];

/// All tokens of `text`, ending with `End`. Errors are collected and the place skipped, so that the
/// parser can go on.
/// Whether a text has this name, written as a word or in quotes.
pub fn has_name(text: &str, name: &str) -> bool {
    let is_name = |token: &Token| match &token.kind {
        TokenKind::Word(word) | TokenKind::Quoted(word) => **word == *name,
        _ => false,
    };
    tokenize(text).0.iter().any(is_name)
}

pub fn tokenize(text: &str) -> (Vec<Token>, Vec<Diagnostic>) {
    let mut lexer = Lexer { text, at: 0, tokens: vec![], errors: vec![] };
    while lexer.skip_space() {
        lexer.token();
    }
    let end = Span { start: text.len() as u32, end: text.len() as u32 };
    lexer.tokens.push(Token { kind: TokenKind::End, span: end });
    (lexer.tokens, lexer.errors)
}

struct Lexer<'t> {
    text: &'t str,
    at: usize,
    tokens: Vec<Token>,
    errors: Vec<Diagnostic>,
}

impl<'t> Lexer<'t> {
    fn rest(&self) -> &'t str {
        &self.text[self.at..]
    }

    fn span_from(&self, start: usize) -> Span {
        Span { start: start as u32, end: self.at as u32 }
    }

    fn push(&mut self, start: usize, kind: TokenKind) {
        let span = self.span_from(start);
        self.tokens.push(Token { kind, span });
    }

    /// Skips white space and comments; false at the end.
    fn skip_space(&mut self) -> bool {
        loop {
            let rest = self.rest();
            let trimmed = rest.trim_start();
            self.at += rest.len() - trimmed.len();
            if trimmed.starts_with("//") || trimmed.starts_with("--") && !self.dash_is_edge() {
                self.at += trimmed.find('\n').unwrap_or(trimmed.len());
            } else if let Some(comment) = trimmed.strip_prefix("/*") {
                match comment.find("*/") {
                    Some(end) => self.at += end + 4,
                    None => {
                        let start = self.at;
                        self.at = self.text.len();
                        let span = self.span_from(start);
                        self.errors.push(
                            Diagnostic::syntax(span, "the comment is never closed").hint("close it with */"),
                        );
                    }
                }
            } else {
                return !trimmed.is_empty();
            }
        }
    }

    /// Directly after `)`, `--` is not taken for a comment but for a wrong edge, and the parser says so.
    fn dash_is_edge(&self) -> bool {
        let before = &self.text[..self.at];
        before.ends_with(')') || before.ends_with(")<")
    }

    fn token(&mut self) {
        let start = self.at;
        let rest = self.rest();
        let Some(first) = rest.chars().next() else { return };
        match first {
            '\'' => self.string(start),
            '"' | '`' => self.quoted(start, first),
            '$' => {
                self.at += 1;
                let name = self.word();
                if name.is_empty() {
                    let span = Span { start: start as u32, end: start as u32 + 1 };
                    self.errors.push(Diagnostic::syntax(span, "a parameter needs a name after $"));
                } else {
                    self.push(start, TokenKind::Parameter(name.into()));
                }
            }
            '0' if self.radix(start) => {}
            '0'..='9' => self.number(start),
            '@' if rest[1..].starts_with('\'') => self.raw_string(start),
            '.' if rest[1..].starts_with(|c: char| c.is_ascii_digit()) => self.number(start),
            c if c.is_alphabetic() || c == '_' => {
                if (c == 'x' || c == 'X') && rest[1..].starts_with('\'') {
                    return self.bytes(start);
                }
                let word = self.word();
                self.push(start, TokenKind::Word(word.into()));
            }
            c => self.punctuation(start, c),
        }
    }

    fn word(&mut self) -> &'t str {
        let rest = self.rest();
        let end = rest.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(rest.len());
        self.at += end;
        &rest[..end]
    }

    fn punctuation(&mut self, start: usize, c: char) {
        if let Some(double) = DOUBLE.iter().find(|d| self.rest().starts_with(**d)) {
            self.at += 2;
            return self.push(start, TokenKind::Punctuation(double));
        }
        self.at += c.len_utf8();
        match SINGLE.iter().find(|(single, _)| *single == c) {
            Some((_, name)) => self.push(start, TokenKind::Punctuation(name)),
            None => {
                let span = self.span_from(start);
                self.errors
                    .push(Diagnostic::syntax(span, format!("the character {c:?} has no meaning here")));
            }
        }
    }

    fn string(&mut self, start: usize) {
        let mut value = String::new();
        self.at += 1;
        loop {
            let Some(c) = self.rest().chars().next() else {
                let span = Span { start: start as u32, end: start as u32 + 1 };
                self.errors.push(
                    Diagnostic::syntax(span, "the text that begins here is never closed")
                        .hint("close it with a single quote"),
                );
                return self.push(start, TokenKind::Literal(Value::text(value)));
            };
            self.at += c.len_utf8();
            match c {
                '\'' if self.rest().starts_with('\'') => {
                    self.at += 1;
                    value.push('\'');
                }
                '\'' => return self.push(start, TokenKind::Literal(Value::text(value))),
                '\\' => self.escape(&mut value),
                c => value.push(c),
            }
        }
    }

    /// `@'...'`: a text without escapes, its quote doubled.
    fn raw_string(&mut self, start: usize) {
        self.at += 2;
        let mut value = String::new();
        while let Some(c) = self.rest().chars().next() {
            self.at += c.len_utf8();
            if c == '\'' {
                if !self.rest().starts_with('\'') {
                    return self.push(start, TokenKind::Literal(Value::text(value)));
                }
                self.at += 1;
            }
            value.push(c);
        }
        let span = Span { start: start as u32, end: start as u32 + 1 };
        self.errors.push(
            Diagnostic::syntax(span, "the text that begins here is never closed")
                .hint("close it with a single quote"),
        );
        self.push(start, TokenKind::Literal(Value::text(value)));
    }

    /// `0xFF`, `0o17` and `0b101`; false where the text is no such number.
    fn radix(&mut self, start: usize) -> bool {
        let radix = match self.rest().as_bytes().get(1) {
            Some(b'x') => 16,
            Some(b'o') => 8,
            Some(b'b') => 2,
            _ => return false,
        };
        let body = &self.rest()[2..];
        let end = body.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_')).unwrap_or(body.len());
        let digits = body[..end].replace('_', "");
        self.at += 2 + end;
        let value = match i64::from_str_radix(&digits, radix) {
            Ok(value) => Value::Int(value),
            Err(_) => {
                let span = self.span_from(start);
                let text = &self.text[start..self.at];
                let code = graphodrome_graph::Code::NUMBER_OUT_OF_RANGE;
                self.errors.push(
                    Diagnostic::error(
                        code,
                        span,
                        format!("{text} is no whole number to base {radix}, or out of range"),
                    )
                    .hint("as in 0xFF, 0o17 or 0b101, below 2^63"),
                );
                Value::Null
            }
        };
        self.push(start, TokenKind::Literal(value));
        true
    }

    fn escape(&mut self, value: &mut String) {
        let start = self.at - 1;
        let Some(c) = self.rest().chars().next() else { return };
        self.at += c.len_utf8();
        let plain = match c {
            '\\' | '\'' | '"' | '`' => Some(c),
            't' => Some('\t'),
            'n' => Some('\n'),
            'r' => Some('\r'),
            'b' => Some('\u{8}'),
            'f' => Some('\u{c}'),
            'u' | 'U' => {
                let digits = if c == 'u' { 4 } else { 6 };
                let code = self.rest().get(..digits).and_then(|d| u32::from_str_radix(d, 16).ok());
                let found = code.and_then(char::from_u32);
                if found.is_some() {
                    self.at += digits;
                }
                found
            }
            _ => None,
        };
        match plain {
            Some(c) => value.push(c),
            None => {
                let span = self.span_from(start);
                self.errors.push(
                    Diagnostic::syntax(span, format!("\\{c} is not an escape"))
                        .hint("write \\\\ for a backslash"),
                );
            }
        }
    }

    fn quoted(&mut self, start: usize, quote: char) {
        self.at += 1;
        let mut name = String::new();
        loop {
            let Some(c) = self.rest().chars().next() else {
                let span = Span { start: start as u32, end: start as u32 + 1 };
                self.errors.push(Diagnostic::syntax(span, "the name that begins here is never closed"));
                break;
            };
            self.at += c.len_utf8();
            if c == quote {
                if !self.rest().starts_with(quote) {
                    break;
                }
                self.at += 1;
            }
            name.push(c);
        }
        if name.contains('\0') {
            let span = self.span_from(start);
            self.errors.push(Diagnostic::syntax(span, "a name may not hold the character U+0000"));
        }
        self.push(start, TokenKind::Quoted(name.into()));
    }

    fn bytes(&mut self, start: usize) {
        let rest = &self.rest()[2..];
        let end = rest.find('\'').unwrap_or(rest.len());
        self.at = (self.at + 2 + end + 1).min(self.text.len());
        let span = self.span_from(start);
        match graphodrome_graph::parse_text(
            &graphodrome_graph::ValueType::Bytes { min: 0, max: None },
            &rest[..end],
        ) {
            Ok(value) => self.push(start, TokenKind::Literal(value)),
            Err(reason) => self.errors.push(Diagnostic::syntax(span, reason)),
        }
    }

    fn number(&mut self, start: usize) {
        let bytes = self.text.as_bytes();
        let digits = |mut at: usize| {
            while at < bytes.len() && (bytes[at].is_ascii_digit() || bytes[at] == b'_') {
                at += 1;
            }
            at
        };
        let mut end = digits(start);
        let mut exact = true;
        let mut whole = true;
        // `1.` is a number too, but `1..3` is none and `x[1].p` a property.
        let next = bytes.get(end + 1);
        let after_point = next.is_some_and(|b| b.is_ascii_alphabetic() || matches!(b, b'_' | b'.'));
        let exponent = matches!(next, Some(b'e' | b'E'))
            && bytes.get(end + 2).is_some_and(|b| b.is_ascii_digit() || matches!(b, b'+' | b'-'));
        if bytes.get(end) == Some(&b'.') && (end == start || !after_point || exponent) {
            end = digits(end + 1);
            whole = false;
        }
        if end < bytes.len() && matches!(bytes[end], b'e' | b'E') {
            let sign = end + 1 + bytes.get(end + 1).is_some_and(|b| matches!(b, b'+' | b'-')) as usize;
            if bytes.get(sign).is_some_and(u8::is_ascii_digit) {
                end = digits(sign);
                exact = false;
            }
        }
        self.at = end;
        let text = self.text[start..end].replace('_', "");
        // M, or a fraction without exponent and suffix, is exact; an exponent, F or D approximate
        // (ISO/IEC 39075, 21.2).
        let suffix = bytes.get(end).map(u8::to_ascii_lowercase);
        let ends_word = !bytes.get(end + 1).is_some_and(|b| b.is_ascii_alphanumeric() || *b == b'_');
        let decimal = suffix == Some(b'm') && ends_word;
        let float = matches!(suffix, Some(b'f' | b'd')) && ends_word;
        if decimal || float {
            self.at += 1;
        }
        let value = if float || (!exact && !decimal) {
            text.parse().ok().filter(|f: &f64| f.is_finite()).map(Value::Float)
        } else if decimal && !exact {
            Decimal::from_scientific(&text).ok().map(Value::Decimal)
        } else if decimal || !whole {
            text.parse().ok().map(Value::Decimal)
        } else {
            // Whole numbers beyond INT64 are exact all the same.
            let int = text.parse().ok().map(Value::Int);
            int.or_else(|| text.parse().ok().map(Value::Decimal))
        };
        let span = self.span_from(start);
        if self.rest().starts_with(|c: char| c.is_alphabetic() || c == '_') {
            self.word();
            let span = self.span_from(start);
            self.errors.push(
                Diagnostic::syntax(span, "a name cannot begin with a digit")
                    .hint("quote the name with double quotes"),
            );
        }
        match value {
            Some(value) => self.tokens.push(Token { kind: TokenKind::Literal(value), span }),
            None => {
                let code = graphodrome_graph::Code::NUMBER_OUT_OF_RANGE;
                self.errors.push(Diagnostic::error(code, span, format!("the number {text} is out of range")));
                self.tokens.push(Token { kind: TokenKind::Literal(Value::Null), span });
            }
        }
    }
}
