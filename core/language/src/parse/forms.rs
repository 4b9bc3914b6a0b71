//! Expressions with words of their own: LET, CASE, times.

use graphodrome_graph::{Code, Value, ValueType, parse_text};

use super::{Parsed, Parser};
use crate::ast::{Expression, ExpressionKind};
use crate::{Diagnostic, TokenKind};

impl Parser<'_> {
    /// `LET x = 1, y = 2 IN x + y END`.
    pub(super) fn let_expression(&mut self) -> Parsed<Expression> {
        let start = self.span();
        self.bump();
        let bindings = self.comma_separated(|p| {
            let name = p.name("a variable")?;
            p.expect("=")?;
            let before_in = std::mem::replace(&mut p.before_in, true);
            let value = p.deeper(Self::disjunction);
            p.before_in = before_in;
            Ok((name, value?))
        })?;
        self.expect_word("IN")?;
        let body = Box::new(self.expression()?);
        self.expect_word("END")?;
        Ok(self.node(start, ExpressionKind::Let(bindings, body)))
    }

    /// `DATE '2024-05-31'` and its kin.
    pub(super) fn temporal_literal(&mut self, word: &str) -> Parsed<Option<Expression>> {
        let start = self.span();
        let TokenKind::Literal(Value::Text(text)) = self.ahead(1).clone() else { return Ok(None) };
        let zoned = text.ends_with('Z') || text.get(10..).is_some_and(|t| t.contains(['+', '-']));
        let wanted = match word {
            "DATE" => ValueType::Date,
            "TIME" if text.contains(['+', 'Z', '-']) => ValueType::ZonedTime,
            "TIME" => ValueType::LocalTime,
            "DATETIME" | "TIMESTAMP" if zoned => ValueType::ZonedDateTime,
            "DATETIME" | "TIMESTAMP" => ValueType::LocalDateTime,
            "DURATION" => ValueType::Duration,
            _ => return Ok(None),
        };
        self.bump();
        let place = self.span();
        self.bump();
        match parse_text(&wanted, &text) {
            Ok(value) => Ok(Some(self.node(start, ExpressionKind::Literal(value)))),
            Err(reason) => Err(Diagnostic::error(
                Code("22007"),
                place,
                format!("'{text}' is not a valid {wanted}: {reason}"),
            )),
        }
    }

    pub(super) fn case_expression(&mut self) -> Parsed<Expression> {
        let start = self.span();
        self.bump();
        let operand = if self.at_word("WHEN") { None } else { Some(Box::new(self.expression()?)) };
        let mut branches = vec![];
        while self.eat_word("WHEN") {
            let when = self.expression()?;
            self.expect_word("THEN")?;
            branches.push((when, self.expression()?));
        }
        if branches.is_empty() {
            return Err(self.unexpected("WHEN"));
        }
        let otherwise = if self.eat_word("ELSE") { Some(Box::new(self.expression()?)) } else { None };
        self.expect_word("END")?;
        Ok(self.node(start, ExpressionKind::Case { operand, branches, otherwise }))
    }
}
