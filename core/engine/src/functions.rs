//! Functions of the language, by name with their number of arguments, and CAST.

mod like;
mod signature;
mod texts;
mod times;

use graphodrome_graph::{Code, Decimal, Direction, GraphError, Value, ValueType, Zone, parse_text};
use graphodrome_language::ast::NormalForm;

use crate::functions;
use crate::scope::Scope;
use crate::template::read_by_template;

pub(crate) use like::LikePattern;
pub(crate) use signature::{FUNCTIONS, Function};
use signature::{domain, exact, number, text, wrong};
pub(crate) use texts::normalized;
use texts::{replace, substring, trim};
pub(crate) use times::temporal_arithmetic;
use times::{absolute, date_of, duration_between, field_of, moment};

pub(crate) fn call(function: Function, arguments: Vec<Value>, snapshot: &Scope) -> Result<Value, GraphError> {
    use Function::*;
    match function {
        Coalesce => return Ok(arguments.into_iter().find(|v| !v.is_null()).unwrap_or(Value::Null)),
        CurrentDate | CurrentTime | CurrentTimestamp | LocalTimestamp => {
            return Ok(moment(function, snapshot.now));
        }
        Date | LocalTime | ZonedTime | LocalDateTime | ZonedDateTime if arguments.is_empty() => {
            return Ok(moment(function, snapshot.now));
        }
        Nullif => {
            let same = arguments[0].equals(&arguments[1])? == Some(true);
            return Ok(if same { Value::Null } else { arguments[0].clone() });
        }
        _ => {}
    }
    if arguments.iter().any(Value::is_null) {
        return Ok(Value::Null);
    }
    let first = &arguments.first().cloned().unwrap_or(Value::Null);
    Ok(match function {
        CharLength => Value::Int(text(function, first)?.chars().count() as i64),
        Substring => substring(function, &arguments)?,
        Position => {
            let (part, source) = (text(function, first)?, text(function, &arguments[1])?);
            // Counted from 1, in characters; 0 where it is not there.
            let place = source.find(&**part).map_or(0, |at| source[..at].chars().count() + 1);
            Value::Int(place as i64)
        }
        Replace => replace(function, &arguments, snapshot)?,
        Round => round(function, &arguments)?,
        Extract => {
            let field = text(function, &arguments[1])?;
            field_of(first, field).ok_or_else(|| {
                let text = format!("there is no {field} in {} {}", first.type_name(), first.excerpt());
                GraphError::new(Code::WRONG_TYPE, text).hint(
                    "YEAR, MONTH and DAY are of dates, HOUR, MINUTE and SECOND of times, all of durations",
                )
            })?
        }
        Upper => Value::text(text(function, first)?.to_uppercase()),
        Lower => Value::text(text(function, first)?.to_lowercase()),
        Trim | Ltrim | Rtrim => trim(function, &arguments)?,
        Left | Right if matches!(first, Value::Bytes(_)) => {
            let (Value::Bytes(source), Value::Int(n)) = (first, &arguments[1]) else {
                return Err(wrong(function, &arguments[1], "a whole number"));
            };
            let n = usize::try_from(*n).map_err(|_| domain("the length is negative"))?.min(source.len());
            let cut = if function == Left { &source[..n] } else { &source[source.len() - n..] };
            Value::Bytes(cut.into())
        }
        Left | Right => {
            let source: Vec<char> = text(function, first)?.chars().collect();
            let Value::Int(n) = arguments[1] else {
                return Err(wrong(function, &arguments[1], "a whole number"));
            };
            let n = usize::try_from(n).map_err(|_| domain("the length is negative"))?.min(source.len());
            let cut = if function == Left { &source[..n] } else { &source[source.len() - n..] };
            Value::text(cut.iter().collect::<String>())
        }
        Abs => {
            match first {
                Value::Int(i) => Value::Int(i.checked_abs().ok_or_else(|| {
                    GraphError::new(Code::NUMBER_OUT_OF_RANGE, "the result is out of range")
                })?),
                Value::Float(f) => Value::Float(f.abs()),
                Value::Decimal(d) => Value::Decimal(d.abs()),
                Value::Duration(d) => absolute(*d)?,
                other => return Err(wrong(function, other, "a number or a DURATION")),
            }
        }
        Mod => match (first, &arguments[1]) {
            (_, Value::Int(0)) => return Err(GraphError::new(Code::DIVISION_BY_ZERO, "division by zero")),
            (Value::Int(a), Value::Int(b)) => Value::Int(a.wrapping_rem(*b)),
            (Value::Int(_) | Value::Decimal(_), Value::Int(_) | Value::Decimal(_)) => {
                let rest = exact(first).zip(exact(&arguments[1])).and_then(|(a, b)| a.checked_rem(b));
                Value::Decimal(
                    rest.ok_or_else(|| GraphError::new(Code::DIVISION_BY_ZERO, "division by zero"))?,
                )
            }
            (a, b) => {
                let (x, y) = (number(function, a)?, number(function, b)?);
                if y == 0.0 {
                    return Err(GraphError::new(Code::DIVISION_BY_ZERO, "division by zero"));
                }
                Value::Float(x % y)
            }
        },
        Floor | Ceil => match first {
            Value::Int(i) => Value::Int(*i),
            Value::Float(f) => Value::Float(if function == Floor { f.floor() } else { f.ceil() }),
            Value::Decimal(d) => Value::Decimal(if function == Floor { d.floor() } else { d.ceil() }),
            other => return Err(wrong(function, other, "a number")),
        },
        Sqrt | Exp | Ln | Log10 | Sin | Cos | Tan | Cot | Sinh | Cosh | Tanh | Asin | Acos | Atan
        | Degrees | Radians => {
            let x = number(function, first)?;
            let result = match function {
                Sqrt if x < 0.0 => return Err(domain("the square root of a negative number")),
                Ln | Log10 if x <= 0.0 => {
                    return Err(domain("the logarithm of a number that is not positive"));
                }
                Sqrt => x.sqrt(),
                Exp => x.exp(),
                Ln => x.ln(),
                Log10 => x.log10(),
                Sin => x.sin(),
                Cos => x.cos(),
                Cot if x.tan() == 0.0 => return Err(domain("COT of a multiple of pi")),
                Cot => 1.0 / x.tan(),
                Sinh => x.sinh(),
                Cosh => x.cosh(),
                Tanh => x.tanh(),
                Asin | Acos if x.abs() > 1.0 => {
                    return Err(domain("ASIN and ACOS take a number from -1 to 1"));
                }
                Asin => x.asin(),
                Acos => x.acos(),
                Atan => x.atan(),
                Degrees => x.to_degrees(),
                Radians => x.to_radians(),
                _ => x.tan(),
            };
            if result.is_infinite() && x.is_finite() {
                return Err(GraphError::new(Code::NUMBER_OUT_OF_RANGE, "the result is out of range"));
            }
            Value::Float(result)
        }
        Log => {
            let (base, x) = (number(function, first)?, number(function, &arguments[1])?);
            if base <= 0.0 || base == 1.0 || x <= 0.0 {
                return Err(domain("LOG(base, x) needs positive numbers and a base other than 1"));
            }
            Value::Float(x.ln() / base.ln())
        }
        Power => {
            let (base, exponent) = (number(function, first)?, number(function, &arguments[1])?);
            let result = base.powf(exponent);
            if result.is_nan() && !base.is_nan() && !exponent.is_nan() {
                return Err(domain("a negative number to a power that is not whole"));
            }
            if result.is_infinite() && base.is_finite() && exponent.is_finite() {
                return Err(GraphError::new(Code::NUMBER_OUT_OF_RANGE, "the result is out of range"));
            }
            Value::Float(result)
        }
        ByteLength => match first {
            Value::Bytes(bytes) => Value::Int(bytes.len() as i64),
            other => return Err(wrong(function, other, "BYTES")),
        },
        Normalize => {
            let form = match arguments.get(1) {
                None => NormalForm::Nfc,
                Some(given) => match &**text(function, given)? {
                    "NFC" => NormalForm::Nfc,
                    "NFD" => NormalForm::Nfd,
                    "NFKC" => NormalForm::Nfkc,
                    "NFKD" => NormalForm::Nfkd,
                    _ => return Err(wrong(function, given, "NFC, NFD, NFKC or NFKD")),
                },
            };
            Value::text(normalized(text(function, first)?, form))
        }
        Cardinality => match first {
            Value::List(items) => Value::Int(items.len() as i64),
            Value::Record(fields) => Value::Int(fields.len() as i64),
            Value::Path(path) => Value::Int((path.nodes.len() + path.edges.len()) as i64),
            Value::Text(_) => {
                return Err(wrong(function, first, "a LIST, RECORD or PATH").hint("CHAR_LENGTH is for texts"));
            }
            other => return Err(wrong(function, other, "a LIST, RECORD or PATH")),
        },
        ElementId => match first {
            Value::Node(n) => Value::text(format!("n{}", snapshot.node_id(*n))),
            Value::Edge(e) => Value::text(format!("e{}", snapshot.edge_id(*e))),
            other => return Err(wrong(function, other, "a node or an edge")),
        },
        PathLength | Elements | Nodes | Edges => {
            let Value::Path(path) = first else { return Err(wrong(function, first, "a PATH")) };
            match function {
                PathLength => Value::Int(path.edges.len() as i64),
                Nodes => Value::list(path.nodes.iter().map(|n| Value::Node(*n)).collect()),
                Edges => Value::list(path.edges.iter().map(|e| Value::Edge(*e)).collect()),
                _ => {
                    let mut items = vec![];
                    for (i, node) in path.nodes.iter().enumerate() {
                        items.push(Value::Node(*node));
                        items.extend(path.edges.get(i).map(|e| Value::Edge(*e)));
                    }
                    Value::list(items)
                }
            }
        }
        Labels => {
            let labels = match first {
                Value::Node(n) => snapshot.node_labels(*n),
                Value::Edge(e) => snapshot.edge_labels(*e),
                other => return Err(wrong(function, other, "a node or an edge")),
            };
            Value::list(labels.iter().map(|l| Value::Text(l.clone())).collect())
        }
        Properties => match first {
            Value::Node(n) => Value::Record(snapshot.node_properties(*n)),
            Value::Edge(e) => Value::Record(snapshot.edge_properties(*e)),
            other => return Err(wrong(function, other, "a node or an edge")),
        },
        Degree | InDegree | OutDegree => {
            let Value::Node(n) = first else { return Err(wrong(function, first, "a node")) };
            let direction = match function {
                Degree => Direction::Any,
                InDegree => Direction::InOrUndirected,
                _ => Direction::OutOrUndirected,
            };
            Value::Int(snapshot.degree(*n, direction, &snapshot.edge_test(None)) as i64)
        }
        AllDifferent => {
            let different = (0..arguments.len()).all(|i| !arguments[..i].contains(&arguments[i]));
            Value::Bool(different)
        }
        Same => Value::Bool(arguments.iter().all(|v| v == first)),
        Date if matches!(first, Value::Record(_)) => date_of(first)?,
        Date => cast(first.clone(), &ValueType::Date)?,
        LocalTime => cast(first.clone(), &ValueType::LocalTime)?,
        ZonedTime => cast(first.clone(), &ValueType::ZonedTime)?,
        LocalDateTime | ZonedDateTime if arguments.len() == 2 => {
            let name = text(function, &arguments[1])?;
            let zone = Zone::parse(name).ok_or_else(|| {
                GraphError::new(Code::INVALID_ZONE, format!("'{name}' is no time zone"))
                    .hint("write a region such as 'Europe/London', or a displacement such as '+01:00'")
            })?;
            match (function, first) {
                (LocalDateTime, Value::ZonedDateTime(t)) => {
                    Value::LocalDateTime(zone.at(t.to_utc()).naive_local())
                }
                (ZonedDateTime, Value::LocalDateTime(t)) => {
                    let moment = zone.moment_of(*t);
                    Value::ZonedDateTime(moment.map_err(|reason| GraphError::new(Code::DATA, reason))?)
                }
                (LocalDateTime, _) => return Err(wrong(function, first, "a ZONED DATETIME and a time zone")),
                _ => return Err(wrong(function, first, "a LOCAL DATETIME and a time zone")),
            }
        }
        LocalDateTime => cast(first.clone(), &ValueType::LocalDateTime)?,
        ZonedDateTime => cast(first.clone(), &ValueType::ZonedDateTime)?,
        DurationOf => cast(first.clone(), &ValueType::Duration)?,
        DurationBetween => {
            let months = matches!(arguments.get(2), Some(Value::Bool(true)));
            duration_between(first, &arguments[1], months)
                .ok_or_else(|| wrong(function, &arguments[1], "two temporal values of one kind"))?
        }
        Split => {
            let (source, delimiter) = (text(function, first)?, text(function, &arguments[1])?);
            if delimiter.is_empty() {
                return Err(domain("SPLIT needs a delimiter that is not empty"));
            }
            Value::list(source.split(&**delimiter).map(Value::text).collect())
        }
        ToDate | ToDateTime => {
            let (source, template) = (text(function, first)?, text(function, &arguments[1])?);
            let read = read_by_template(source, template);
            let read = read.map_err(|reason| GraphError::new(Code::INVALID_TEXT, reason))?;
            if function == ToDate { Value::Date(read.date()) } else { Value::LocalDateTime(read) }
        }
        Coalesce | Nullif | CurrentDate | CurrentTime | CurrentTimestamp | LocalTimestamp => Value::Null,
    })
}

/// To so many digits after the point, half to even for DECIMAL and away from zero for FLOAT64.
fn round(function: Function, arguments: &[Value]) -> Result<Value, GraphError> {
    let digits = match arguments.get(1) {
        None => 0,
        Some(Value::Int(n)) if (0..=30).contains(n) => *n as u32,
        Some(other) => return Err(wrong(function, other, "a number of digits from 0 to 30")),
    };
    Ok(match &arguments[0] {
        Value::Int(i) => Value::Int(*i),
        Value::Decimal(d) => Value::Decimal(d.round(digits)),
        Value::Float(f) if digits == 0 => Value::Float(f.round()),
        Value::Float(f) => {
            // The nearest float to the digits, which multiplying and dividing would miss.
            Value::Float(format!("{f:.0$}", digits as usize).parse().unwrap_or(*f))
        }
        other => return Err(wrong(function, other, "a number")),
    })
}

/// `CAST`: exact or an error, never a guess.
pub(crate) fn cast(value: Value, wanted: &ValueType) -> Result<Value, GraphError> {
    let refuse = |value: &Value| {
        let numeric = ValueType::of(value).is_numeric() && wanted.is_numeric();
        let (code, reason) = match numeric {
            true => (Code::NUMBER_OUT_OF_RANGE, "is out of range for"),
            false => (Code::INVALID_TEXT, "cannot be cast to"),
        };
        GraphError::new(code, format!("{} {} {reason} {wanted}", value.type_name(), value.excerpt()))
    };
    if value.is_null() {
        return Ok(value);
    }
    let converted = match (wanted, &value) {
        (ValueType::Any, _) => return Ok(value),
        (_, Value::Text(t)) => return read_text(wanted, t),
        (
            ValueType::Text { .. },
            Value::Node(_) | Value::Edge(_) | Value::Path(_) | Value::List(_) | Value::Record(_),
        ) => {
            return Err(refuse(&value));
        }
        (ValueType::Text { .. }, Value::Bool(b)) => Value::text(if *b { "true" } else { "false" }),
        (ValueType::Text { .. }, v) => Value::text(v.to_string()),
        (ValueType::Int(_) | ValueType::Uint(_), Value::Float(f)) => {
            let whole = f.round_ties_even();
            // The bounds of INT64 are powers of two, which a FLOAT64 holds.
            if !(-9_223_372_036_854_775_808.0..9_223_372_036_854_775_808.0).contains(&whole) {
                return Err(refuse(&value));
            }
            Value::Int(whole as i64)
        }
        (ValueType::Int(_) | ValueType::Uint(_), Value::Decimal(d)) => {
            Value::Int(d.round(0).to_whole().ok_or_else(|| refuse(&value))?)
        }
        (ValueType::Float(32), v) if v.is_number() => {
            let nearest = v.as_f64().map(|f| (f, f64::from(f as f32)));
            match nearest {
                Some((f, nearest)) if nearest.is_finite() || !f.is_finite() => Value::Float(nearest),
                _ => return Err(refuse(&value)),
            }
        }
        (ValueType::Float(_), v) if v.is_number() => Value::Float(v.as_f64().ok_or_else(|| refuse(&value))?),
        // The shortest digits that mean this very number, or as many as are asked for.
        (ValueType::Decimal { precision: 0, .. }, Value::Float(f)) => {
            let read = f.to_string().parse();
            Value::Decimal(read.map_err(|_| refuse(&value))?)
        }
        (ValueType::Decimal { precision: 0, .. }, Value::Decimal(d)) => Value::Decimal(*d),
        (ValueType::Decimal { scale, .. }, Value::Float(f)) => {
            Value::Decimal(Decimal::from_f64(*f, *scale as u32).ok_or_else(|| refuse(&value))?)
        }
        (ValueType::Decimal { .. }, Value::Int(i)) => Value::Decimal((*i).into()),
        (ValueType::Decimal { scale, .. }, Value::Decimal(d)) => Value::Decimal(d.round(*scale as u32)),
        (ValueType::Date, Value::LocalDateTime(t)) => Value::Date(t.date()),
        (ValueType::Date, Value::ZonedDateTime(t)) => Value::Date(t.date_naive()),
        (ValueType::LocalTime, Value::LocalDateTime(t)) => Value::LocalTime(t.time()),
        (ValueType::LocalDateTime, Value::Date(d)) => {
            Value::LocalDateTime(d.and_time(chrono::NaiveTime::MIN))
        }
        (ValueType::LocalDateTime, Value::ZonedDateTime(t)) => Value::LocalDateTime(t.naive_local()),
        _ => value.clone(),
    };
    if wanted.accepts(&converted) { Ok(converted) } else { Err(refuse(&value)) }
}

/// Text to a value of a type, as CAST does it.
pub(crate) fn read_text(wanted: &graphodrome_graph::ValueType, text: &str) -> Result<Value, GraphError> {
    use graphodrome_graph::ValueType;
    // Space around a number or a date is no part of it; of a text it is.
    let trimmed = if matches!(wanted, ValueType::Text { .. } | ValueType::Any) { text } else { text.trim() };
    let read = match wanted {
        // Rounded, as a number is.
        ValueType::Decimal { .. } => match trimmed.parse::<Decimal>() {
            Ok(decimal) => return functions::cast(Value::Decimal(decimal), wanted),
            Err(reason) => Err(reason.to_string()),
        },
        _ => parse_text(wanted, trimmed),
    };
    read.map_err(|reason| {
        let out_of_range = reason.contains("out of range") || reason.contains("more than");
        let code = match wanted {
            ValueType::Int(_) | ValueType::Uint(_) | ValueType::Float(_) | ValueType::Decimal { .. }
                if out_of_range =>
            {
                Code::NUMBER_OUT_OF_RANGE
            }
            _ => Code::INVALID_TEXT,
        };
        GraphError::new(code, format!("'{text}' is not a valid {wanted}: {reason}"))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cast_is_exact_or_an_error() {
        assert_eq!(cast(Value::text("12"), &ValueType::Int(64)), Ok(Value::Int(12)));
        assert!(cast(Value::text("12x"), &ValueType::Int(64)).is_err());
        assert!(cast(Value::Int(300), &ValueType::Int(8)).is_err());
        assert_eq!(cast(Value::Int(3), &ValueType::TEXT), Ok(Value::text("3")));
    }
}
