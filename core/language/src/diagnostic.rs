//! Errors and warnings about a text: the status code, one sentence, the place, a hint.

use std::fmt;

use graphodrome_graph::{Code, GraphError};
use serde::Serialize;

/// Bytes `start..end` of the text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
pub struct Span {
    pub start: u32,
    pub end: u32,
}

impl Span {
    pub fn to(self, other: Span) -> Span {
        Span { start: self.start.min(other.start), end: self.end.max(other.end) }
    }
}

/// Line and column count characters from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Position {
    pub line: u32,
    pub column: u32,
}

impl Position {
    pub fn of(text: &str, offset: u32) -> Position {
        let mut end = (offset as usize).min(text.len());
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        let before = &text[..end];
        let line_start = before.rfind('\n').map_or(0, |i| i + 1);
        Position {
            line: before.matches('\n').count() as u32 + 1,
            column: before[line_start..].chars().count() as u32 + 1,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    Error,
    Warning,
}

#[derive(Clone, Debug, PartialEq)]
pub struct Diagnostic {
    pub severity: Severity,
    pub code: &'static str,
    pub message: String,
    pub span: Span,
    pub hint: Option<String>,
}

impl Diagnostic {
    pub fn error(code: Code, span: Span, message: impl Into<String>) -> Self {
        Diagnostic { severity: Severity::Error, code: code.0, message: message.into(), span, hint: None }
    }

    pub fn warning(code: Code, span: Span, message: impl Into<String>) -> Self {
        Diagnostic { severity: Severity::Warning, ..Diagnostic::error(code, span, message) }
    }

    pub fn syntax(span: Span, message: impl Into<String>) -> Self {
        Diagnostic::error(Code::SYNTAX, span, message)
    }

    pub fn unknown(span: Span, message: impl Into<String>) -> Self {
        Diagnostic::error(Code::UNKNOWN_REFERENCE, span, message)
    }

    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// The hint, where there is none yet.
    pub fn or_hint(self, hint: impl Into<String>) -> Self {
        if self.hint.is_some() { self } else { self.hint(hint) }
    }

    pub fn maybe_hint(mut self, hint: Option<String>) -> Self {
        self.hint = hint;
        self
    }

    pub fn from_graph(error: GraphError, span: Span) -> Self {
        Diagnostic {
            severity: Severity::Error,
            code: error.code.0,
            message: error.message,
            span,
            hint: error.hint,
        }
    }

    /// The line the place is in, with the place marked under it.
    pub fn excerpt(&self, text: &str) -> String {
        let position = Position::of(text, self.span.start);
        let line = text.lines().nth(position.line as usize - 1).unwrap_or("");
        let width = text
            .get(self.span.start as usize..self.span.end as usize)
            .map_or(1, |t| t.lines().next().unwrap_or("").chars().count())
            .max(1);
        let number = position.line.to_string();
        let gutter = " ".repeat(number.len());
        let before: String = line
            .chars()
            .take(position.column as usize - 1)
            .map(|c| if c == '\t' { '\t' } else { ' ' })
            .collect();
        format!("{number} | {line}\n{gutter} | {before}{}", "^".repeat(width))
    }

    /// Several lines for a terminal.
    pub fn render(&self, text: &str) -> String {
        let position = Position::of(text, self.span.start);
        let kind = match self.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
        };
        let mut out = format!(
            "{kind} {}: {}\n  at line {}, column {}\n{}",
            self.code,
            self.message,
            position.line,
            position.column,
            self.excerpt(text)
        );
        if let Some(hint) = &self.hint {
            out.push_str(&format!("\nhint: {hint}"));
        }
        out
    }
}

/// At least one error, in the order of the text.
#[derive(Clone, Debug, PartialEq)]
pub struct Diagnostics(pub Vec<Diagnostic>);

impl From<Diagnostic> for Diagnostics {
    fn from(one: Diagnostic) -> Self {
        Diagnostics(vec![one])
    }
}

impl fmt::Display for Diagnostics {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, diagnostic) in self.0.iter().enumerate() {
            if i > 0 {
                f.write_str("\n")?;
            }
            write!(f, "{}: {}", diagnostic.code, diagnostic.message)?;
        }
        Ok(())
    }
}

impl std::error::Error for Diagnostics {}
