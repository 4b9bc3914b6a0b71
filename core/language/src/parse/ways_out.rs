//! Hints for common forms that this language writes differently.

use crate::ast::{Expression, ExpressionKind};
use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, TokenKind};

/// Words that begin or join clauses elsewhere, and what to write here.
const WORDS: &[(&str, &str)] = &[
    ("UNWIND", "FOR x IN list goes through a list"),
    ("MERGE", "UPSERT (n:Label {key: value}) finds an element by its key or inserts it"),
    ("WITH", "RETURN ... NEXT hands rows on to the next part; within a part there are LET and FILTER"),
    ("CONTAINS", "write text LIKE '%part%'"),
    ("STARTS", "write text LIKE 'beginning%'"),
    ("ENDS", "write text LIKE '%end'"),
    ("SHOW", "what there is the commands graph list, graph show and model show say, and GET /v1/graphs"),
    ("DESCRIBE", "what there is the commands graph show and model show say, and GET /v1/graphs"),
    ("EXPLAIN", "a plan is a request of its own: the command plan, or POST /v1/plan"),
    ("PROFILE", "a profile is a request of its own: the command profile, or POST /v1/profile"),
    ("SKIP", "write OFFSET n"),
    ("FOREACH", "FOR x IN list goes through a list; INSERT, SET and DELETE may follow it"),
];

const PATTERN: &str = "a pattern is a condition within EXISTS: EXISTS { (a)-[:LABEL]->() }";

impl Parser<'_> {
    /// What was probably meant by the token in front.
    pub(super) fn way_out(&self) -> Option<String> {
        match &self.token().kind {
            TokenKind::Word(word) => {
                let found = WORDS.iter().find(|(w, _)| word.eq_ignore_ascii_case(w));
                found.map(|(_, hint)| hint.to_string())
            }
            // `my-label`, written without quotes.
            TokenKind::Punctuation("-") => {
                let before = self.at.checked_sub(1).map(|i| &self.tokens[i])?;
                let after = self.tokens.get(self.at + 1)?;
                let (TokenKind::Word(a), TokenKind::Word(b)) = (&before.kind, &after.kind) else {
                    return None;
                };
                let joined = before.span.end == self.span().start && self.span().end == after.span.start;
                joined.then(|| format!("a name with a hyphen stands in double quotes: \"{a}-{b}\""))
            }
            TokenKind::Punctuation("*") if self.within_edge() => {
                Some("a quantifier stands behind the edge: -[:LABEL]->{1,3}, or * for any number".into())
            }
            _ => None,
        }
    }

    /// Whether the token in front stands between the brackets of an edge.
    fn within_edge(&self) -> bool {
        let before = self.tokens[..self.at].iter().rev();
        let open = before.take(12).position(|t| matches!(t.kind, TokenKind::Punctuation("[")));
        open.is_some_and(|n| {
            let place = self.at - 1 - n;
            place > 0 && matches!(self.tokens[place - 1].kind, TokenKind::Punctuation("-" | "~"))
        })
    }

    /// An error where a pattern stands as an expression: `(a)-[` or `(a)<-[` after a variable in parentheses.
    pub(super) fn no_pattern(&self, left: &Expression) -> Parsed<()> {
        let parenthesized =
            self.at > 0 && matches!(self.tokens[self.at - 1].kind, TokenKind::Punctuation(")"));
        let variable = matches!(left.kind, ExpressionKind::Variable(_) | ExpressionKind::IsLabeled { .. });
        let edge = |n: usize| {
            self.punctuation_at(n, "-") && ["[", "-", ">", "/"].iter().any(|p| self.punctuation_at(n + 1, p))
        };
        let begins = edge(0) || self.at_punctuation("<") && edge(1) || self.at_punctuation("~");
        if parenthesized && variable && begins {
            return Err(Diagnostic::syntax(left.span, "a pattern is no expression").hint(PATTERN));
        }
        Ok(())
    }

    /// Forms that look like a function and are none.
    pub(super) fn no_such_call(&self, word: &str) -> Parsed<()> {
        let (message, hint) = match word {
            "COUNT" if self.punctuation_at(1, "{") => {
                ("COUNT { ... } is no expression", "write VALUE { MATCH ... RETURN COUNT(*) }")
            }
            "COLLECT" if self.punctuation_at(1, "{") => {
                ("COLLECT { ... } is no expression", "write VALUE { MATCH ... RETURN COLLECT_LIST(x) }")
            }
            "ANY" | "SINGLE" if self.punctuation_at(1, "(") => {
                ("there are no predicates over lists", "write EXISTS { FOR x IN list FILTER ... RETURN x }")
            }
            "ALL" | "NONE" if self.punctuation_at(1, "(") => (
                "there are no predicates over lists",
                "write NOT EXISTS { FOR x IN list FILTER ... RETURN x }",
            ),
            _ => return Ok(()),
        };
        Err(Diagnostic::syntax(self.span(), message).hint(hint))
    }
}

/// Names of functions that are called something else here.
pub(crate) const FUNCTIONS: &[(&str, &str)] = &[
    ("LENGTH", "PATH_LENGTH(p) is for a path, CHAR_LENGTH(t) for a text, SIZE(l) for a list"),
    ("LEN", "PATH_LENGTH(p) is for a path, CHAR_LENGTH(t) for a text, SIZE(l) for a list"),
    ("TYPE", "LABELS(e) has the labels of an edge"),
    ("ID", "ELEMENT_ID(x) is the identity of a node or an edge"),
    ("KEYS", "PROPERTIES(x) has the properties of a node or an edge by name"),
    ("RELATIONSHIPS", "EDGES(p) has the edges of a path"),
    ("COLLECT", "COLLECT_LIST(x) makes a list of the rows"),
    ("TOINTEGER", "write CAST(x AS INT)"),
    ("TOFLOAT", "write CAST(x AS FLOAT64)"),
    ("TOSTRING", "write CAST(x AS STRING)"),
    ("TOUPPER", "write UPPER(t)"),
    ("TOLOWER", "write LOWER(t)"),
    ("SUBSTR", "write SUBSTRING(t FROM 1 FOR 3)"),
    ("YEAR", "write EXTRACT(YEAR FROM d)"),
    ("MONTH", "write EXTRACT(MONTH FROM d)"),
    ("DAY", "write EXTRACT(DAY FROM d)"),
    ("NOW", "write CURRENT_TIMESTAMP"),
    ("HEAD", "write l[0]"),
    ("AVERAGE", "write AVG(x)"),
];
