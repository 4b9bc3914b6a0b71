//! Value types (ISO/IEC 39075, 18.9).

use graphodrome_graph::{Field, MAX_DIGITS, ValueType};

use crate::parse::{MAX_TYPE_DEPTH, Parsed, Parser};
use crate::{Diagnostic, Span, TokenKind, nearest};

const SIMPLE: &[(&str, ValueType)] = &[
    ("BOOL", ValueType::Bool),
    ("BOOLEAN", ValueType::Bool),
    ("INT8", ValueType::Int(8)),
    ("INT16", ValueType::Int(16)),
    ("INT32", ValueType::Int(32)),
    ("INT64", ValueType::Int(64)),
    ("INTEGER8", ValueType::Int(8)),
    ("INTEGER16", ValueType::Int(16)),
    ("INTEGER32", ValueType::Int(32)),
    ("INTEGER64", ValueType::Int(64)),
    ("SMALLINT", ValueType::Int(16)),
    ("BIGINT", ValueType::Int(64)),
    ("UINT8", ValueType::Uint(8)),
    ("UINT16", ValueType::Uint(16)),
    ("UINT32", ValueType::Uint(32)),
    ("UINT64", ValueType::Uint(63)),
    ("USMALLINT", ValueType::Uint(16)),
    ("UBIGINT", ValueType::Uint(63)),
    ("FLOAT32", ValueType::Float(32)),
    ("FLOAT64", ValueType::Float(64)),
    ("REAL", ValueType::Float(32)),
    ("DATE", ValueType::Date),
];

/// Widths that the standard has and values here do not.
const TOO_WIDE: &[(&str, &str)] = &[
    ("INT128", "INT64 or DECIMAL(28, 0)"),
    ("INT256", "INT64 or DECIMAL(28, 0)"),
    ("INTEGER128", "INT64 or DECIMAL(28, 0)"),
    ("INTEGER256", "INT64 or DECIMAL(28, 0)"),
    ("UINT128", "UINT64 or DECIMAL(28, 0)"),
    ("UINT256", "UINT64 or DECIMAL(28, 0)"),
    ("FLOAT16", "FLOAT32"),
    ("FLOAT128", "FLOAT64 or DECIMAL"),
    ("FLOAT256", "FLOAT64 or DECIMAL"),
    ("PATH", "a list of keys"),
    ("NODE", "a property of the node"),
    ("EDGE", "a property of the edge"),
    ("NOTHING", "a nullable type"),
];

/// The standard's code for a type that is refused.
fn type_feature(word: &str) -> &'static str {
    match word {
        "UINT128" => "GV13",
        "INT128" | "INTEGER128" => "GV14",
        "UINT256" => "GV15",
        "INT256" | "INTEGER256" => "GV16",
        "FLOAT16" => "GV20",
        "FLOAT128" => "GV25",
        "FLOAT256" => "GV26",
        "PATH" => "GV55",
        "NOTHING" => "GV72",
        _ => "GV68",
    }
}

impl Parser<'_> {
    /// A value type, or several with `|` between them.
    pub(super) fn value_type(&mut self) -> Parsed<ValueType> {
        let start = self.span();
        let first = self.deeper(Self::list_value_type)?;
        if first.depth() > MAX_TYPE_DEPTH {
            let text = format!("lists and records lie more than {MAX_TYPE_DEPTH} levels deep in each other");
            return Err(Diagnostic::syntax(self.span_since(start), text));
        }
        if !self.at_punctuation("|") {
            return Ok(first);
        }
        let mut types = vec![first];
        while self.eat("|") {
            types.push(self.deeper(Self::list_value_type)?);
        }
        Ok(ValueType::OneOf(types))
    }

    /// A type, and `LIST` or `ARRAY` behind it as often as it stands there.
    fn list_value_type(&mut self) -> Parsed<ValueType> {
        let mut found = self.simple_value_type()?;
        let mut levels = 0;
        loop {
            let not_null =
                self.at_words(&["NOT", "NULL", "LIST"]) || self.at_words(&["NOT", "NULL", "ARRAY"]);
            if not_null {
                self.eat_words(&["NOT", "NULL"]);
            }
            if !self.eat_word("LIST") && !self.eat_word("ARRAY") {
                return Ok(found);
            }
            levels += 1;
            if levels > MAX_TYPE_DEPTH {
                let text = format!("lists lie more than {MAX_TYPE_DEPTH} levels deep in each other");
                return Err(Diagnostic::syntax(self.span(), text));
            }
            found = self.list_of(found, not_null)?;
        }
    }

    /// The list type of an item type, with the greatest length where one follows.
    fn list_of(&mut self, item: ValueType, not_null: bool) -> Parsed<ValueType> {
        let mut max = None;
        if self.eat("[") {
            max = Some(self.unsigned("a length")?);
            self.expect("]")?;
        }
        let item = Box::new(item);
        Ok(match (not_null, max) {
            (false, None) => ValueType::List(item),
            _ => ValueType::LimitedList { item, not_null, max },
        })
    }

    /// `INT(p)`: the least width with p binary digits beside the sign.
    fn integer(&mut self, signed: bool, span: Span) -> Parsed<ValueType> {
        let (Some(digits), _) = self.type_arguments()? else {
            return Ok(if signed { ValueType::Int(64) } else { ValueType::Uint(63) });
        };
        let bits = digits + u32::from(signed);
        match [8, 16, 32, 64].into_iter().find(|width| bits <= *width) {
            Some(64) if !signed => Ok(ValueType::Uint(63)),
            Some(width) if digits > 0 && signed => Ok(ValueType::Int(width as u8)),
            Some(width) if digits > 0 => Ok(ValueType::Uint(width as u8)),
            _ => Err(Diagnostic::syntax(
                self.span_since(span),
                "the precision of a whole number is 1 to 63 binary digits",
            )),
        }
    }

    fn record(&mut self) -> Parsed<ValueType> {
        if !self.eat("{") {
            return Ok(ValueType::Record);
        }
        let mut fields: Vec<Field> = vec![];
        while !self.at_punctuation("}") {
            let name = self.property_name()?;
            if fields.iter().any(|f| f.name == name.text) {
                let message = format!("the field {} is declared twice", name.text);
                return Err(Diagnostic::syntax(name.span, message));
            }
            if !self.eat_word("TYPED") && self.eat(":") {
                self.eat(":");
            }
            let value_type = self.value_type()?;
            let not_null = self.eat_words(&["NOT", "NULL"]);
            fields.push(Field { name: name.text, value_type, not_null });
            if !self.eat(",") {
                break;
            }
        }
        self.expect("}")?;
        Ok(ValueType::Fields(fields))
    }

    fn simple_value_type(&mut self) -> Parsed<ValueType> {
        let span = self.span();
        let TokenKind::Word(word) = self.token().kind.clone() else {
            return Err(self.unexpected("a value type such as STRING or INT64"));
        };
        let word = word.to_ascii_uppercase();
        self.bump();
        if let Some((_, simple)) = SIMPLE.iter().find(|(name, _)| *name == word) {
            return Ok(simple.clone());
        }
        match word.as_str() {
            "INT" | "INTEGER" => self.integer(true, span),
            "UINT" => self.integer(false, span),
            "SIGNED" | "UNSIGNED" => {
                let TokenKind::Word(next) = self.token().kind.clone() else {
                    return Err(self.unexpected("an integer type"));
                };
                let next = next.to_ascii_uppercase();
                let named = match (word.as_str(), next.as_str()) {
                    (_, "INT" | "INTEGER") => {
                        self.bump();
                        return self.integer(word == "SIGNED", span);
                    }
                    ("UNSIGNED", name) => format!("U{}", name.replace("INTEGER", "INT")),
                    (_, name) => name.to_string(),
                };
                match SIMPLE
                    .iter()
                    .find(|(name, t)| *name == named && matches!(t, ValueType::Int(_) | ValueType::Uint(_)))
                {
                    Some((_, found)) => {
                        self.bump();
                        Ok(found.clone())
                    }
                    None => Err(self.unexpected("an integer type")),
                }
            }
            "FLOAT" => match self.type_arguments()? {
                (None, _) => Ok(ValueType::Float(64)),
                (Some(1..=24), _) => Ok(ValueType::Float(32)),
                (Some(25..=53), _) => Ok(ValueType::Float(64)),
                _ => Err(Diagnostic::syntax(
                    self.span_since(span),
                    "the precision of a FLOAT is 1 to 53 binary digits",
                )),
            },
            "STRING" | "VARCHAR" | "CHAR" => {
                let (min, max) = self.lengths(word == "CHAR", span)?;
                Ok(ValueType::Text { min, max })
            }
            "BYTES" | "BINARY" | "VARBINARY" => {
                let (min, max) = self.lengths(word == "BINARY", span)?;
                Ok(ValueType::Bytes { min, max })
            }
            "RECORD" => self.record(),
            "ANY" => {
                if self.eat_word("RECORD") {
                    return self.record();
                }
                self.eat_word("VALUE");
                if !self.eat("<") {
                    return Ok(ValueType::Any);
                }
                let found = self.value_type()?;
                self.expect(">")?;
                Ok(found)
            }
            "DURATION" => {
                if !self.eat("(") {
                    return Ok(ValueType::Duration);
                }
                let found = if self.eat_words(&["YEAR", "TO", "MONTH"]) {
                    ValueType::MonthDuration
                } else if self.eat_words(&["DAY", "TO", "SECOND"]) {
                    ValueType::TimeDuration
                } else {
                    return Err(self.unexpected("YEAR TO MONTH or DAY TO SECOND"));
                };
                self.expect(")")?;
                Ok(found)
            }
            "TIME" => {
                if self.eat_words(&["WITH", "TIME", "ZONE"]) {
                    return Ok(ValueType::ZonedTime);
                }
                self.eat_words(&["WITHOUT", "TIME", "ZONE"]);
                Ok(ValueType::LocalTime)
            }
            "DECIMAL" | "DEC" => {
                let (precision, scale) = self.type_arguments()?;
                let Some(precision) = precision else { return Ok(ValueType::DECIMAL) };
                let scale = scale.unwrap_or(0);
                if precision == 0 || precision > MAX_DIGITS || scale > precision {
                    return Err(Diagnostic::syntax(
                        self.span_since(span),
                        format!("a DECIMAL has 1 to {MAX_DIGITS} digits and no more of them after the point"),
                    ));
                }
                Ok(ValueType::Decimal { precision: precision as u8, scale: scale as u8 })
            }
            "DOUBLE" => {
                self.eat_word("PRECISION");
                Ok(ValueType::Float(64))
            }
            "LOCAL" | "ZONED" => {
                let zoned = word == "ZONED";
                if self.eat_word("TIME") {
                    Ok(if zoned { ValueType::ZonedTime } else { ValueType::LocalTime })
                } else if self.eat_word("DATETIME") {
                    Ok(if zoned { ValueType::ZonedDateTime } else { ValueType::LocalDateTime })
                } else {
                    Err(self.unexpected("TIME or DATETIME"))
                }
            }
            "TIMESTAMP" => {
                if self.eat_words(&["WITH", "TIME", "ZONE"]) {
                    return Ok(ValueType::ZonedDateTime);
                }
                self.eat_words(&["WITHOUT", "TIME", "ZONE"]);
                Ok(ValueType::LocalDateTime)
            }
            "LIST" | "ARRAY" => {
                if !self.eat("<") {
                    return Ok(ValueType::List(Box::new(ValueType::Any)));
                }
                let item = self.value_type()?;
                let not_null = self.eat_words(&["NOT", "NULL"]);
                self.expect(">")?;
                self.list_of(item, not_null)
            }
            _ => {
                if let Some((_, instead)) = TOO_WIDE.iter().find(|(name, _)| *name == word) {
                    return Err(self
                        .not_supported(span, &format!("properties of the type {word}"), type_feature(&word))
                        .hint(format!("use {instead}")));
                }
                let known = SIMPLE.iter().map(|(name, _)| *name);
                let others = [
                    "INT",
                    "UINT",
                    "FLOAT",
                    "STRING",
                    "BYTES",
                    "DECIMAL",
                    "TIMESTAMP",
                    "DURATION",
                    "LIST",
                    "RECORD",
                ];
                let hint = match nearest(&word, known.chain(others)) {
                    Some(near) => format!("did you mean {near}?"),
                    None => "the types are BOOL, INT64, FLOAT64, DECIMAL, STRING, BYTES, DATE, LOCAL and ZONED TIME and DATETIME, DURATION, LIST<...>".into(),
                };
                Err(Diagnostic::unknown(span, format!("there is no value type {word}")).hint(hint))
            }
        }
    }

    /// Least and greatest length; with `fixed` one number is both.
    fn lengths(&mut self, fixed: bool, span: Span) -> Parsed<(u32, Option<u32>)> {
        match self.type_arguments()? {
            (None, _) if fixed => Ok((1, Some(1))),
            (None, _) => Ok((0, None)),
            (Some(n), None) if fixed => Ok((n, Some(n))),
            (Some(max), None) => Ok((0, Some(max))),
            (Some(min), Some(max)) if min <= max && !fixed => Ok((min, Some(max))),
            _ => Err(Diagnostic::syntax(self.span_since(span), "the least length is above the greatest")),
        }
    }

    /// `(a)`, `(a, b)` or nothing.
    fn type_arguments(&mut self) -> Parsed<(Option<u32>, Option<u32>)> {
        if !self.eat("(") {
            return Ok((None, None));
        }
        let first = self.unsigned("a length")?;
        let second = if self.eat(",") { Some(self.unsigned("a length")?) } else { None };
        self.expect(")")?;
        Ok((Some(first), second))
    }
}
