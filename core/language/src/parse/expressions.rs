//! Value expressions (ISO/IEC 39075, clause 20), loosest binding first.

use graphodrome_graph::Value;

use crate::ast::*;
use crate::parse::{MAX_HEIGHT, Parsed, Parser};
use crate::{Diagnostic, Span, TokenKind};

const AGGREGATES: &[(&str, Aggregate)] = &[
    ("COUNT", Aggregate::Count),
    ("SUM", Aggregate::Sum),
    ("AVG", Aggregate::Avg),
    ("MIN", Aggregate::Min),
    ("MAX", Aggregate::Max),
    ("COLLECT_LIST", Aggregate::CollectList),
    ("STDDEV_SAMP", Aggregate::StddevSamp),
    ("STDDEV_POP", Aggregate::StddevPop),
    ("PERCENTILE_CONT", Aggregate::PercentileCont),
    ("PERCENTILE_DISC", Aggregate::PercentileDisc),
    ("PRODUCT", Aggregate::Product),
    ("RISING", Aggregate::InOrder(Progression { falling: false, level: false })),
    ("NEVER_FALLING", Aggregate::InOrder(Progression { falling: false, level: true })),
    ("FALLING", Aggregate::InOrder(Progression { falling: true, level: false })),
    ("NEVER_RISING", Aggregate::InOrder(Progression { falling: true, level: true })),
];

/// Values of the moment, written without parentheses.
const MOMENTS: &[&str] =
    &["CURRENT_DATE", "CURRENT_TIME", "CURRENT_TIMESTAMP", "LOCAL_TIME", "LOCAL_TIMESTAMP"];

const NORMAL_FORMS: &[(&str, NormalForm)] = &[
    ("NFC", NormalForm::Nfc),
    ("NFD", NormalForm::Nfd),
    ("NFKC", NormalForm::Nfkc),
    ("NFKD", NormalForm::Nfkd),
];

/// Operators in one chain: each is a level of the tree that evaluation goes down.
const MAX_CHAIN: usize = 1000;

/// Levels of an expression's tree, found without recursion. Queries within it have expressions of their own.
fn height(expression: &Expression) -> usize {
    let (mut highest, mut left) = (0, vec![(expression, 1)]);
    while let Some((e, level)) = left.pop() {
        highest = highest.max(level);
        e.each_part(&mut |part| left.push((part, level + 1)));
    }
    highest
}

impl Parser<'_> {
    pub(super) fn expression(&mut self) -> Parsed<Expression> {
        let before_in = std::mem::replace(&mut self.before_in, false);
        let expression = self.deeper(Self::disjunction);
        self.before_in = before_in;
        let expression = expression?;
        if height(&expression) > MAX_HEIGHT {
            let text = format!("the operators nest more than {MAX_HEIGHT} levels deep");
            return Err(Diagnostic::syntax(expression.span, text).hint("split it with LET"));
        }
        Ok(expression)
    }

    pub(super) fn node(&self, start: Span, kind: ExpressionKind) -> Expression {
        Expression { kind, span: self.span_since(start) }
    }

    fn binary(&self, operator: BinaryOperator, left: Expression, right: Expression) -> Expression {
        let span = left.span.to(right.span);
        Expression { kind: ExpressionKind::Binary(operator, Box::new(left), Box::new(right)), span }
    }

    pub(super) fn disjunction(&mut self) -> Parsed<Expression> {
        let mut left = self.conjunction()?;
        let mut links = 0;
        loop {
            if self.at_word("OR") {
                let mut items = vec![left];
                while self.eat_word("OR") {
                    items.push(self.conjunction()?);
                }
                left = self.balanced(BinaryOperator::Or, items);
            } else if self.eat_word("XOR") {
                let right = self.conjunction()?;
                left = self.binary(BinaryOperator::Xor, left, right);
            } else {
                return Ok(left);
            }
            links += 1;
            self.chain(links)?;
        }
    }

    fn conjunction(&mut self) -> Parsed<Expression> {
        let mut items = vec![self.negation()?];
        while self.eat_word("AND") {
            items.push(self.negation()?);
        }
        Ok(self.balanced(BinaryOperator::And, items))
    }

    /// AND and OR do not mind how they are put together: a long chain becomes a flat tree.
    fn balanced(&self, operator: BinaryOperator, mut items: Vec<Expression>) -> Expression {
        while items.len() > 1 {
            let mut pairs = Vec::with_capacity(items.len().div_ceil(2));
            let mut rest = items.into_iter();
            while let Some(left) = rest.next() {
                pairs.push(match rest.next() {
                    Some(right) => self.binary(operator, left, right),
                    None => left,
                });
            }
            items = pairs;
        }
        items.remove(0)
    }

    /// An error where a chain of operators is too long.
    fn chain(&self, links: usize) -> Parsed<()> {
        if links <= MAX_CHAIN {
            return Ok(());
        }
        Err(Diagnostic::syntax(self.span(), format!("more than {MAX_CHAIN} operators in one chain"))
            .hint("use a list: IN [...], or FOR with an aggregate"))
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
        let mut links = 0;
        loop {
            links += 1;
            self.chain(links)?;
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
            self.no_pattern(&left)?;
            let negated = self.at_word("NOT") && ["IN", "BETWEEN", "LIKE"].iter().any(|w| self.word_at(1, w));
            if negated {
                self.bump();
            }
            let operand = Box::new(left.clone());
            if !self.before_in && self.eat_word("IN") {
                let list = Box::new(self.additive()?);
                left = self.node(start, ExpressionKind::In { operand, list, negated });
            } else if self.eat_word("BETWEEN") {
                let low = Box::new(self.additive()?);
                self.expect_word("AND")?;
                let high = Box::new(self.additive()?);
                left = self.node(start, ExpressionKind::Between { operand, low, high, negated });
            } else if self.eat_word("LIKE") {
                let pattern = Box::new(self.additive()?);
                let escape = if self.eat_word("ESCAPE") { Some(Box::new(self.additive()?)) } else { None };
                left = self.node(start, ExpressionKind::Like { operand, pattern, escape, negated });
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
        } else if let Some(form) = self.normal_form() {
            ExpressionKind::IsNormalized { operand, form, negated }
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

    /// `NORMALIZED`, with or without the form before it.
    fn normal_form(&mut self) -> Option<NormalForm> {
        if self.eat_word("NORMALIZED") {
            return Some(NormalForm::Nfc);
        }
        NORMAL_FORMS.iter().find(|(word, _)| self.eat_words(&[word, "NORMALIZED"])).map(|(_, form)| *form)
    }

    fn additive(&mut self) -> Parsed<Expression> {
        let mut left = self.multiplicative()?;
        let mut links = 0;
        self.no_pattern(&left)?;
        loop {
            links += 1;
            self.chain(links)?;
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
        let mut links = 0;
        loop {
            links += 1;
            self.chain(links)?;
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
            // The least INT64 has no positive counterpart: its digits alone are a DECIMAL.
            let negative = match operand.kind {
                ExpressionKind::Literal(Value::Int(i)) => i.checked_neg(),
                ExpressionKind::Literal(Value::Decimal(d)) if d.scale() == 0 => {
                    (-d).to_whole().filter(|i| *i == i64::MIN)
                }
                _ => None,
            };
            if let Some(i) = negative {
                return Ok(self.node(start, ExpressionKind::Literal(Value::Int(i))));
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
        let mut links = 0;
        loop {
            links += 1;
            self.chain(links)?;
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

    /// What stands between the parentheses of an aggregate.
    fn aggregate(&mut self, start: Span, upper: &str, function: Aggregate) -> Parsed<Expression> {
        let distinct = self.set_quantifier();
        let argument = Box::new(self.expression()?);
        let percentile = matches!(function, Aggregate::PercentileCont | Aggregate::PercentileDisc);
        let second = if percentile {
            self.expect(",")?;
            Some(Box::new(self.expression()?))
        } else {
            None
        };
        if self.at_punctuation(",") {
            let message = format!("{upper} takes one value");
            return Err(Diagnostic::syntax(self.span(), message).hint(match function {
                Aggregate::InOrder(_) => {
                    format!("{upper}([a, b]) takes two of each edge, one after the other")
                }
                _ => format!("{upper}(DISTINCT [a, b]) takes two together"),
            }));
        }
        self.expect(")")?;
        match function {
            Aggregate::InOrder(Progression { level, .. }) if distinct => {
                let message = format!("{upper} takes no DISTINCT");
                let may = if level { "may" } else { "may not" };
                Err(Diagnostic::syntax(start, message)
                    .hint(format!("write {upper}(...), for which equal values {may} follow each other")))
            }
            _ => Ok(self.node(start, ExpressionKind::Aggregate { function, distinct, argument, second })),
        }
    }

    fn word_primary(&mut self, start: Span, word: &str) -> Parsed<Expression> {
        let upper = word.to_ascii_uppercase();
        self.no_such_call(&upper)?;
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
            self.bump();
            let query = Box::new(self.nested_query("}")?);
            return Ok(self.node(start, ExpressionKind::Subquery(query)));
        }
        if upper == "LET" {
            return self.let_expression();
        }
        if ["PATH", "LIST", "ARRAY"].contains(&&*upper) && self.punctuation_at(1, "[") {
            self.bump();
            self.bump();
            let items =
                if self.at_punctuation("]") { vec![] } else { self.comma_separated(Self::expression)? };
            self.expect("]")?;
            let kind =
                if upper == "PATH" { ExpressionKind::Path(items) } else { ExpressionKind::List(items) };
            return Ok(self.node(start, kind));
        }
        if upper == "RECORD" && self.punctuation_at(1, "{") {
            self.bump();
            self.bump();
            let fields = self.property_pairs()?;
            return Ok(self.node(start, ExpressionKind::Record(fields)));
        }
        if MOMENTS.contains(&&*upper) && !self.punctuation_at(1, "(") {
            let token = self.bump();
            let function = Name { text: upper.into(), span: token.span };
            return Ok(self.node(start, ExpressionKind::Call { function, arguments: vec![] }));
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
            return self.aggregate(start, &upper, *function);
        }
        let (upper, arguments) = self.arguments(upper)?;
        let function = Name { text: upper.into(), span: token.span };
        Ok(self.node(start, ExpressionKind::Call { function, arguments }))
    }

    /// Up to the closing parenthesis, with the words that some functions have between their arguments.
    fn arguments(&mut self, upper: String) -> Parsed<(String, Vec<Expression>)> {
        let start = self.span();
        if upper == "TRIM" && ["LEADING", "TRAILING", "BOTH"].iter().any(|w| self.at_word(w)) {
            let function = match self.bump().kind {
                TokenKind::Word(w) if w.eq_ignore_ascii_case("LEADING") => "LTRIM",
                TokenKind::Word(w) if w.eq_ignore_ascii_case("TRAILING") => "RTRIM",
                _ => "TRIM",
            };
            let cut = if self.at_word("FROM") { None } else { Some(self.expression()?) };
            self.expect_word("FROM")?;
            let mut arguments = vec![self.expression()?];
            arguments.extend(cut);
            self.expect(")")?;
            return Ok((function.into(), arguments));
        }
        if upper == "EXTRACT" {
            let place = self.span();
            let TokenKind::Word(field) = self.bump().kind else {
                return Err(Diagnostic::syntax(place, "expected YEAR, MONTH, DAY, HOUR, MINUTE or SECOND"));
            };
            let field = self.node(place, ExpressionKind::Literal(Value::text(field.to_ascii_uppercase())));
            self.expect_word("FROM")?;
            let arguments = vec![self.expression()?, field];
            self.expect(")")?;
            return Ok((upper, arguments));
        }
        if upper == "POSITION" {
            let before_in = std::mem::replace(&mut self.before_in, true);
            let part = self.deeper(Self::disjunction);
            self.before_in = before_in;
            let mut arguments = vec![part?];
            if !self.eat(",") {
                self.expect_word("IN")?;
            }
            arguments.push(self.expression()?);
            self.expect(")")?;
            return Ok((upper, arguments));
        }
        let mut arguments = vec![];
        if !self.at_punctuation(")") {
            arguments.push(self.expression()?);
            if upper == "SUBSTRING" && self.eat_word("FROM") {
                arguments.push(self.expression()?);
                if self.eat_word("FOR") {
                    arguments.push(self.expression()?);
                }
            }
            if upper == "TRIM" && self.eat_word("FROM") {
                // TRIM('x' FROM text)
                arguments.insert(0, self.expression()?);
            }
            while self.eat(",") {
                let place = self.span();
                let form = NORMAL_FORMS.iter().find(|(word, _)| upper == "NORMALIZE" && self.eat_word(word));
                arguments.push(match form {
                    Some((word, _)) => self.node(place, ExpressionKind::Literal(Value::text(*word))),
                    None => self.expression()?,
                });
            }
        }
        self.expect(")")?;
        if upper == "DURATION_BETWEEN" {
            let months = self.eat_words(&["YEAR", "TO", "MONTH"]);
            if months || self.eat_words(&["DAY", "TO", "SECOND"]) {
                arguments.push(self.node(start, ExpressionKind::Literal(Value::Bool(months))));
            }
        }
        Ok((upper, arguments))
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
        let words = [
            "MATCH", "OPTIONAL", "FILTER", "CALL", "LET", "FOR", "USE", "RETURN", "SELECT", "ORDER", "LIMIT",
        ];
        let query = if words.iter().any(|w| self.at_word(w)) || self.at_punctuation("{") {
            self.inner_query()?
        } else {
            let place = self.span();
            let pattern = self.deeper(Self::graph_pattern)?;
            let span = self.span_since(place);
            let clauses = vec![Clause::Match { optional: false, pattern, span }];
            Query::of(Linear { graph: None, at: None, clauses, span })
        };
        self.expect(close)?;
        Ok(self.node(start, ExpressionKind::Exists(Box::new(query))))
    }
}
