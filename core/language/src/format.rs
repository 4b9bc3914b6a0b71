//! Formats texts: one clause a line, keywords in capitals, single spaces. Line breaks within a clause and comments
//! are kept.

use std::ops::Range;

use crate::parse::statements::CLAUSES;
use crate::{KEYWORDS, Token, TokenKind, tokenize};

/// Words that begin a line outside parentheses, besides those that begin a clause.
const LINES: &[&str] = &["SELECT", "WHERE", "GROUP", "HAVING", "FROM", "KEEP"];

/// Of these the ones that belong to the clause before them.
const INDENTED: &[&str] = &["WHERE", "GROUP", "HAVING", "KEEP"];

/// Words that go on with the line another one began.
const TOGETHER: &[(&str, &str)] = &[
    ("OPTIONAL", "MATCH"),
    ("OPTIONAL", "CALL"),
    ("DETACH", "DELETE"),
    ("NODETACH", "DELETE"),
    ("SESSION", "SET"),
    ("FILTER", "WHERE"),
    ("WITH", "OFFSET"),
    ("DIFFERENT", "MATCH"),
    ("ALTER", "SET"),
];

enum WrittenPiece<'t> {
    Token(&'t Token),
    Comment { text: &'t str, line: bool },
}

/// What stands before a piece: whether there was space, and how many line breaks.
struct Gap {
    space: bool,
    breaks: usize,
}

/// The text in its layout; as it is where it cannot be read.
pub fn format(text: &str) -> String {
    let (tokens, errors) = tokenize(text);
    if !errors.is_empty() {
        return text.to_string();
    }
    let mut pieces = vec![];
    let mut at = 0;
    for token in &tokens {
        let start = token.span.start as usize;
        gaps(text, at..start, &mut pieces);
        if token.kind != TokenKind::End {
            pieces.push((WrittenPiece::Token(token), Gap { space: false, breaks: 0 }));
        }
        at = token.span.end as usize;
    }
    set_gaps(text, &mut pieces);
    let mut writer = Writer { text, out: String::new(), open: vec![], previous: None, catalog: false };
    for i in 0..pieces.len() {
        let next = pieces[i + 1..].iter().find_map(|(p, _)| match p {
            WrittenPiece::Token(token) => Some(*token),
            WrittenPiece::Comment { .. } => None,
        });
        let (piece, gap) = &pieces[i];
        match piece {
            WrittenPiece::Comment { text, line } => writer.comment(text, *line, gap),
            WrittenPiece::Token(token) => writer.token(token, gap, next),
        }
    }
    let mut out = writer.out.trim_end().to_string();
    out.push('\n');
    out
}

/// Comments between two tokens.
fn gaps<'t>(text: &'t str, range: Range<usize>, pieces: &mut Vec<(WrittenPiece<'t>, Gap)>) {
    let mut at = range.start;
    let gap = text.get(range.clone()).unwrap_or("");
    let base = range.start;
    while at < range.end {
        let rest = &gap[at - base..];
        let trimmed = rest.trim_start();
        at += rest.len() - trimmed.len();
        if trimmed.is_empty() {
            break;
        }
        let line = !trimmed.starts_with("/*");
        let length = match line {
            true => trimmed.find('\n').unwrap_or(trimmed.len()),
            false => trimmed.find("*/").map_or(trimmed.len(), |end| end + 2),
        };
        pieces.push((
            WrittenPiece::Comment { text: trimmed[..length].trim_end(), line },
            Gap { space: false, breaks: 0 },
        ));
        at += length;
    }
}

fn place(text: &str, piece: &WrittenPiece<'_>) -> Range<usize> {
    match piece {
        WrittenPiece::Token(token) => token.span.start as usize..token.span.end as usize,
        WrittenPiece::Comment { text: comment, .. } => {
            let start = comment.as_ptr() as usize - text.as_ptr() as usize;
            start..start + comment.len()
        }
    }
}

fn set_gaps(text: &str, pieces: &mut [(WrittenPiece<'_>, Gap)]) {
    let mut end = 0;
    for (piece, gap) in pieces {
        let here = place(text, piece);
        let between = text.get(end..here.start).unwrap_or("");
        *gap = Gap { space: !between.is_empty(), breaks: between.matches('\n').count() };
        end = here.end;
    }
}

/// A bracket that is open.
struct Open {
    closes: &'static str,
    /// A query within braces: its clauses have lines of their own.
    query: bool,
    /// Names stand in it that may be keywords.
    names: bool,
}

struct Writer<'t> {
    text: &'t str,
    out: String,
    open: Vec<Open>,
    previous: Option<&'t Token>,
    /// Within a CREATE, DROP or ALTER.
    catalog: bool,
}

fn is(token: Option<&Token>, word: &str) -> bool {
    matches!(token.map(|t| &t.kind), Some(TokenKind::Word(w)) if w.eq_ignore_ascii_case(word))
}

fn punctuation(token: Option<&Token>) -> &'static str {
    match token.map(|t| &t.kind) {
        Some(TokenKind::Punctuation(p)) => p,
        _ => "",
    }
}

impl<'t> Writer<'t> {
    /// Brackets other than those of queries.
    fn nested(&self) -> bool {
        self.open.last().is_some_and(|o| !o.query)
    }

    fn indent(&self, more: usize) -> String {
        "  ".repeat(self.open.len() + more)
    }

    fn at_line_start(&self) -> bool {
        self.out.is_empty() || self.out.ends_with('\n')
    }

    fn new_line(&mut self, more: usize) {
        if !self.at_line_start() {
            while self.out.ends_with(' ') {
                self.out.pop();
            }
            self.out.push('\n');
        }
        let indent = self.indent(more);
        self.out.push_str(&indent);
    }

    fn comment(&mut self, text: &str, line: bool, gap: &Gap) {
        if gap.breaks > 0 || self.out.is_empty() {
            if gap.breaks > 1 && !self.out.is_empty() {
                self.blank_line();
            }
            self.new_line(0);
        } else if !self.out.ends_with(' ') && !self.at_line_start() {
            self.out.push(' ');
        }
        self.out.push_str(text);
        if line {
            self.out.push('\n');
        } else {
            self.out.push(' ');
        }
    }

    fn blank_line(&mut self) {
        while self.out.ends_with([' ', '\n']) {
            self.out.pop();
        }
        self.out.push_str("\n\n");
    }

    /// Whether the word is a keyword here and no name.
    fn keyword(&self, token: &Token, next: Option<&Token>) -> bool {
        let TokenKind::Word(word) = &token.kind else { return false };
        let upper = word.to_ascii_uppercase();
        if KEYWORDS.binary_search(&&*upper).is_err() {
            return false;
        }
        let before = punctuation(self.previous);
        let name = matches!(before, ":" | "." | "&" | "|" | "!" | "%") || is(self.previous, "AS");
        let key = punctuation(next) == ":"
            || self.open.last().is_some_and(|o| o.names && (before == "," || before == "{" || before == "("));
        !name && !key && (!self.catalog || self.open.is_empty())
    }

    fn token(&mut self, token: &'t Token, gap: &Gap, next: Option<&Token>) {
        let source = &self.text[token.span.start as usize..token.span.end as usize];
        let keyword = self.keyword(token, next);
        let written = if keyword { source.to_ascii_uppercase() } else { source.to_string() };
        let mark = punctuation(Some(token));
        let closes = self.open.last().is_some_and(|o| o.closes == mark);
        let closed_query = closes && self.open.last().is_some_and(|o| o.query);
        if closes {
            self.open.pop();
        }
        let starts = self.previous.is_none() || punctuation(self.previous) == ";";
        let joined = self
            .previous
            .is_some_and(|_| TOGETHER.iter().any(|(a, b)| is(self.previous, a) && *b == written));
        let of_a_line = CLAUSES.contains(&&*written) || LINES.contains(&&*written);
        let begins = keyword && !self.nested() && !self.catalog && of_a_line && !joined;
        let opened_query = punctuation(self.previous) == "{" && self.open.last().is_some_and(|o| o.query);
        if starts {
            if gap.breaks > 1 && !self.out.is_empty() {
                self.blank_line();
            }
            self.new_line(0);
            self.catalog = ["CREATE", "DROP", "ALTER"].iter().any(|w| is(Some(token), w));
        } else if closed_query || opened_query {
            self.new_line(0);
        } else if begins {
            self.new_line(INDENTED.contains(&&*written) as usize);
        } else if mark == ";" || mark == "," {
            while self.out.ends_with(' ') && !self.at_line_start() {
                self.out.pop();
            }
        } else if gap.breaks > 0 || self.at_line_start() {
            self.new_line(!closes as usize);
        } else if self.out.ends_with(' ') {
        } else if punctuation(self.previous) == "," || gap.space {
            self.out.push(' ');
        }
        self.out.push_str(&written);
        if mark == ";" {
            self.catalog = false;
            self.open.clear();
        }
        let closing = match mark {
            "(" => ")",
            "[" => "]",
            "{" => "}",
            _ => "",
        };
        if !closing.is_empty() {
            let begins_query = |w: &&str| is(next, w);
            let query = mark == "{"
                && !self.catalog
                && [
                    "MATCH", "RETURN", "CALL", "OPTIONAL", "FILTER", "LET", "FOR", "USE", "SELECT", "INSERT",
                    "SET", "VALUE",
                ]
                .iter()
                .any(begins_query)
                && !matches!(punctuation(self.previous), ":" | ",");
            let names = mark == "{" && !query || is(self.previous, "PROPERTY_EXISTS");
            self.open.push(Open { closes: closing, query, names });
        }
        self.previous = Some(token);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clauses_have_lines_and_keywords_capitals() {
        let text = "match (a:Site)-[e:PIPE   where e.length>5]->(b) where a.x=1 and b.y = 2 return a.code as c,b order by c limit 5";
        let wanted = "MATCH (a:Site)-[e:PIPE WHERE e.length>5]->(b)\n  WHERE a.x=1 AND b.y = 2\nRETURN a.code AS c, b\nORDER BY c\nLIMIT 5\n";
        assert_eq!(format(text), wanted);
    }

    #[test]
    fn comments_and_queries_within_queries_keep_their_places() {
        let text = "-- sites\nmatch (a:Site) // all of them\ncall { match (a)->(b) return count(*) as n } return a.in, n /* done */;\n\n\nreturn {order: 1, set: 2}.order";
        let wanted = "-- sites\nMATCH (a:Site) // all of them\nCALL {\n  MATCH (a)->(b)\n  RETURN COUNT(*) AS n\n}\nRETURN a.in, n /* done */;\n\nRETURN {order: 1, set: 2}.order\n";
        assert_eq!(format(text), wanted);
    }
}
