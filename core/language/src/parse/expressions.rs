//! Value expressions (ISO/IEC 39075, clause 20), loosest binding first.

use graphodrome_graph::{Value, ValueType, parse_text};

use crate::ast::*;
use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, Span, TokenKind};
use graphodrome_graph::Code;

const AGGREGATES: &[(&str, Aggregate)] = &[
    ("COUNT", Aggregate::Count),
    ("SUM", Aggregate::Sum),
    ("AVG", Aggregate::Avg),
    ("MIN", Aggregate::Min),
    ("MAX", Aggregate::Max),
    ("COLLECT_LIST", Aggregate::CollectList),
    ("STDDEV_SAMP", Aggregate::StddevSamp),
    ("STDDEV_POP", Aggregate::StddevPop),
    ("PRODUCT", Aggregate::Product),
];

impl Parser<'_> {
    pub(super) fn expression(&mut self) -> Parsed<Expression> {
        self.deeper(Self::disjunction)
    }

    fn node(&self, start: Span, kind: ExpressionKind) -> Expression {
        Expression { kind, span: self.span_since(start) }
    }

    fn binary(&self, operator: BinaryOperator, left: Expression, right: Expression) -> Expression {
        let span = left.span.to(right.span);
        Expression { kind: ExpressionKind::Binary(operator, Box::new(left), Box::new(right)), span }
    }

    fn disjunction(&mut self) -> Parsed<Expression> {
        let mut left = self.conjunction()?;
        loop {
            let operator = if self.eat_word("OR") {
                BinaryOperator::Or
            } else if self.eat_word("XOR") {
                BinaryOperator::Xor
            } else {
                return Ok(left);
            };
            let right = self.conjunction()?;
            left = self.binary(operator, left, right);
        }
    }

    fn conjunction(&mut self) -> Parsed<Expression> {
        let mut left = self.negation()?;
        while self.eat_word("AND") {
            let right = self.negation()?;
            left = self.binary(BinaryOperator::And, left, right);
        }
        Ok(left)
    }

    fn negation(&mut self) -> Parsed<Expression> {
        let start = self.span();
        if self.eat_word("NOT") {
            let operand = self.deeper(Self::negation)?;
            return Ok(self.node(start, ExpressionKind::Not(Box::new(operand))));
        }
        self.predicate()
    }

    fn predicate(&mut self) -> Parsed<Expression> {
        let start = self.span();
        let mut left = self.additive()?;
        loop {
            let comparison = [
                ("=", BinaryOperator::Equal),
                ("<>", BinaryOperator::NotEqual),
                ("<=", BinaryOperator::LessOrEqual),
                (">=", BinaryOperator::GreaterOrEqual),
                ("<", BinaryOperator::Less),
                (">", BinaryOperator::Greater),
            ]
            .into_iter()
            .find(|(p, _)| self.at_punctuation(p));
            if let Some((_, operator)) = comparison {
                self.bump();
                if self.at_punctuation("=") {
                    return Err(Diagnostic::syntax(self.span(), "there is no operator ==").hint("write ="));
                }
                let right = self.additive()?;
                left = self.binary(operator, left, right);
                continue;
            }
            if self.at_punctuation("!") && self.punctuation_at(1, "=") {
                return Err(Diagnostic::syntax(self.span(), "there is no operator !=").hint("write <>"));
            }
            if self.eat_word("IS") {
                left = self.is_predicate(start, left)?;
                continue;
            }
            let negated = self.at_word("NOT") && ["IN", "BETWEEN", "LIKE"].iter().any(|w| self.word_at(1, w));
            if negated {
                self.bump();
            }
            let operand = Box::new(left.clone());
            if self.eat_word("IN") {
                let list = Box::new(self.additive()?);
                left = self.node(start, ExpressionKind::In { operand, list, negated });
            } else if self.eat_word("BETWEEN") {
                let low = Box::new(self.additive()?);
                self.expect_word("AND")?;
                let high = Box::new(self.additive()?);
                left = self.node(start, ExpressionKind::Between { operand, low, high, negated });
            } else if self.eat_word("LIKE") {
                let pattern = Box::new(self.additive()?);
                left = self.node(start, ExpressionKind::Like { operand, pattern, negated });
            } else if self.at_punctuation(":") && matches!(left.kind, ExpressionKind::Variable(_)) {
                self.bump();
                let (labels, names) = self.label_expression()?;
                left = self.node(start, ExpressionKind::IsLabeled { operand, labels, names, negated: false });
            } else {
                return Ok(left);
            }
        }
    }

    fn is_predicate(&mut self, start: Span, operand: Expression) -> Parsed<Expression> {
        let negated = self.eat_word("NOT");
        let operand = Box::new(operand);
        let truth = |truth| ExpressionKind::IsTruth { operand: operand.clone(), truth, negated };
        let kind = if self.eat_word("NULL") {
            ExpressionKind::IsNull { operand, negated }
        } else if self.eat_word("TRUE") {
            truth(Some(true))
        } else if self.eat_word("FALSE") {
            truth(Some(false))
        } else if self.eat_word("UNKNOWN") {
            truth(None)
        } else if self.eat_word("DIRECTED") {
            ExpressionKind::IsDirected { operand, negated }
        } else if self.eat_word("TYPED") {
            let value_type = self.value_type()?;
            let not_null = self.eat_words(&["NOT", "NULL"]);
            ExpressionKind::IsTyped { operand, value_type, not_null, negated }
        } else if self.eat_word("LABELED") || self.at_punctuation(":") {
            self.eat(":");
            let (labels, names) = self.label_expression()?;
            ExpressionKind::IsLabeled { operand, labels, names, negated }
        } else if self.at_words(&["SOURCE", "OF"]) || self.at_words(&["DESTINATION", "OF"]) {
            let source = self.at_word("SOURCE");
            self.bump();
            self.bump();
            let edge = Box::new(self.additive()?);
            ExpressionKind::IsEnd { node: operand, edge, source, negated }
        } else {
            return Err(self.unexpected("NULL, TRUE, FALSE, UNKNOWN, TYPED, LABELED, DIRECTED or SOURCE OF"));
        };
        Ok(self.node(start, kind))
    }

    fn additive(&mut self) -> Parsed<Expression> {
        let mut left = self.multiplicative()?;
        loop {
            let operator = if self.eat("+") {
                BinaryOperator::Add
            } else if self.eat("-") {
                BinaryOperator::Subtract
            } else if self.eat("||") {
                BinaryOperator::Concatenate
            } else {
                return Ok(left);
            };
            let right = self.multiplicative()?;
            left = self.binary(operator, left, right);
        }
    }

    fn multiplicative(&mut self) -> Parsed<Expression> {
        let mut left = self.unary()?;
        loop {
            let operator = if self.eat("*") {
                BinaryOperator::Multiply
            } else if self.eat("/") {
                BinaryOperator::Divide
            } else if self.at_punctuation("%") {
                return Err(Diagnostic::syntax(self.span(), "there is no operator %").hint("write MOD(a, b)"));
            } else {
                return Ok(left);
            };
            let right = self.unary()?;
            left = self.binary(operator, left, right);
        }
    }

    fn unary(&mut self) -> Parsed<Expression> {
        let start = self.span();
        if self.eat("-") {
            let operand = self.deeper(Self::unary)?;
            if let ExpressionKind::Literal(Value::Int(i)) = operand.kind {
                return Ok(self.node(start, ExpressionKind::Literal(Value::Int(-i))));
            }
            return Ok(self.node(start, ExpressionKind::Negate(Box::new(operand))));
        }
        if self.eat("+") {
            return self.deeper(Self::unary);
        }
        self.postfix()
    }

    fn postfix(&mut self) -> Parsed<Expression> {
        let start = self.span();
        let mut left = self.primary()?;
        loop {
            if self.at_punctuation(".") {
                self.bump();
                let name = self.property_name()?;
                left = self.node(start, ExpressionKind::Property(Box::new(left), name));
            } else if self.eat("[") {
                let index = self.expression()?;
                self.expect("]")?;
                left = self.node(start, ExpressionKind::Index(Box::new(left), Box::new(index)));
            } else {
                return Ok(left);
            }
        }
    }

    fn primary(&mut self) -> Parsed<Expression> {
        let start = self.span();
        match self.token().kind.clone() {
            TokenKind::Literal(value) => {
                self.bump();
                Ok(self.node(start, ExpressionKind::Literal(value)))
            }
            TokenKind::Parameter(name) => {
                self.bump();
                Ok(self.node(start, ExpressionKind::Parameter(name)))
            }
            TokenKind::Punctuation("(") => {
                self.bump();
                let mut inner = self.expression()?;
                self.expect(")")?;
                inner.span = self.span_since(start);
                Ok(inner)
            }
            TokenKind::Punctuation("[") => {
                self.bump();
                let items =
                    if self.at_punctuation("]") { vec![] } else { self.comma_separated(Self::expression)? };
                self.expect("]")?;
                Ok(self.node(start, ExpressionKind::List(items)))
            }
            TokenKind::Punctuation("{") => {
                self.bump();
                let fields = self.property_pairs()?;
                Ok(self.node(start, ExpressionKind::Record(fields)))
            }
            TokenKind::Quoted(name) => {
                self.bump();
                Ok(self.node(start, ExpressionKind::Variable(name)))
            }
            TokenKind::Word(word) => self.word_primary(start, &word),
            _ => Err(self.unexpected("an expression")),
        }
    }

    fn word_primary(&mut self, start: Span, word: &str) -> Parsed<Expression> {
        let upper = word.to_ascii_uppercase();
        let literal = match upper.as_str() {
            "TRUE" => Some(Value::Bool(true)),
            "FALSE" => Some(Value::Bool(false)),
            "NULL" | "UNKNOWN" => Some(Value::Null),
            _ => None,
        };
        if let Some(value) = literal {
            self.bump();
            return Ok(self.node(start, ExpressionKind::Literal(value)));
        }
        if let Some(literal) = self.temporal_literal(&upper)? {
            return Ok(literal);
        }
        if upper == "CASE" {
            return self.case_expression();
        }
        if upper == "EXISTS" {
            return self.exists_predicate();
        }
        if upper == "VALUE" && self.punctuation_at(1, "{") {
            return Err(self.not_supported(start, "VALUE { ... }"));
        }
        if !self.punctuation_at(1, "(") {
            let name = self.name("an expression")?;
            return Ok(Expression { kind: ExpressionKind::Variable(name.text), span: name.span });
        }
        let token = self.bump();
        self.bump();
        if upper == "CAST" {
            let operand = self.expression()?;
            self.expect_word("AS")?;
            let wanted = self.value_type()?;
            self.expect(")")?;
            return Ok(self.node(start, ExpressionKind::Cast(Box::new(operand), wanted)));
        }
        if upper == "COUNT" && self.eat("*") {
            self.expect(")")?;
            return Ok(self.node(start, ExpressionKind::CountAll));
        }
        if let Some((_, function)) = AGGREGATES.iter().find(|(name, _)| *name == upper) {
            let distinct = self.eat_word("DISTINCT");
            let argument = Box::new(self.expression()?);
            self.expect(")")?;
            return Ok(
                self.node(start, ExpressionKind::Aggregate { function: *function, distinct, argument })
            );
        }
        let arguments =
            if self.at_punctuation(")") { vec![] } else { self.comma_separated(Self::expression)? };
        self.expect(")")?;
        let function = Name { text: upper.into(), span: token.span };
        Ok(self.node(start, ExpressionKind::Call { function, arguments }))
    }

    /// `DATE '2024-05-31'` and its kin.
    fn temporal_literal(&mut self, word: &str) -> Parsed<Option<Expression>> {
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

    fn case_expression(&mut self) -> Parsed<Expression> {
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

    fn exists_predicate(&mut self) -> Parsed<Expression> {
        let start = self.span();
        self.bump();
        let close = if self.eat("(") {
            ")"
        } else {
            self.expect("{")?;
            "}"
        };
        self.eat_word("MATCH");
        let pattern = self.deeper(Self::graph_pattern)?;
        if self.eat_word("RETURN") {
            return Err(self
                .not_supported(self.span(), "a whole query inside EXISTS")
                .hint("write only the pattern: EXISTS { (a)-[:PIPE]->(b) WHERE ... }"));
        }
        self.expect(close)?;
        Ok(self.node(start, ExpressionKind::Exists(Box::new(pattern))))
    }
}
