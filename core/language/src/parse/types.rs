//! Value types (ISO/IEC 39075, 18.9).

use graphodrome_graph::ValueType;

use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, TokenKind, nearest};

const SIMPLE: &[(&str, ValueType)] = &[
    ("ANY", ValueType::Any),
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
    ("INT", ValueType::Int(64)),
    ("INTEGER", ValueType::Int(64)),
    ("BIGINT", ValueType::Int(64)),
    ("UINT8", ValueType::Uint(8)),
    ("UINT16", ValueType::Uint(16)),
    ("UINT32", ValueType::Uint(32)),
    ("UINT64", ValueType::Uint(63)),
    ("UINT", ValueType::Uint(63)),
    ("FLOAT32", ValueType::Float(32)),
    ("FLOAT64", ValueType::Float(64)),
    ("FLOAT", ValueType::Float(64)),
    ("REAL", ValueType::Float(32)),
    ("DATE", ValueType::Date),
    ("DURATION", ValueType::Duration),
    ("RECORD", ValueType::Record),
];

impl Parser<'_> {
    pub(super) fn value_type(&mut self) -> Parsed<ValueType> {
        let mut found = self.deeper(Self::simple_value_type)?;
        while self.at_word("LIST") || self.at_word("ARRAY") {
            self.bump();
            found = ValueType::List(Box::new(found));
        }
        Ok(found)
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
            "STRING" | "VARCHAR" | "CHAR" => {
                let (a, b) = self.type_arguments()?;
                Ok(match (a, b) {
                    (None, _) => ValueType::TEXT,
                    (Some(n), None) if word == "CHAR" => ValueType::Text { min: n, max: Some(n) },
                    (Some(max), None) => ValueType::Text { min: 0, max: Some(max) },
                    (Some(min), Some(max)) if min <= max => ValueType::Text { min, max: Some(max) },
                    _ => {
                        return Err(Diagnostic::syntax(
                            self.span_since(span),
                            "the least length is above the greatest",
                        ));
                    }
                })
            }
            "BYTES" | "BINARY" | "VARBINARY" => {
                let (max, _) = self.type_arguments()?;
                Ok(ValueType::Bytes { max })
            }
            "DECIMAL" | "DEC" => {
                let (precision, scale) = self.type_arguments()?;
                let (precision, scale) =
                    (precision.unwrap_or(28), scale.unwrap_or(if precision.is_none() { 10 } else { 0 }));
                if precision == 0 || precision > 28 || scale > precision {
                    return Err(Diagnostic::syntax(
                        self.span_since(span),
                        "a DECIMAL has 1 to 28 digits and no more of them after the point",
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
                self.expect(">")?;
                Ok(ValueType::List(Box::new(item)))
            }
            _ => {
                let known = SIMPLE.iter().map(|(name, _)| *name);
                let others = ["STRING", "BYTES", "DECIMAL", "LOCAL DATETIME", "ZONED DATETIME", "LIST"];
                let hint = match nearest(&word, known.chain(others)) {
                    Some(near) => format!("did you mean {near}?"),
                    None => "the types are BOOL, INT64, FLOAT64, DECIMAL, STRING, BYTES, DATE, LOCAL and ZONED TIME and DATETIME, DURATION, LIST<...>".into(),
                };
                Err(Diagnostic::unknown(span, format!("there is no value type {word}")).hint(hint))
            }
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
