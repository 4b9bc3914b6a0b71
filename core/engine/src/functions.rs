//! Functions of the language, by name with their number of arguments, and CAST.

use std::sync::Arc;

use chrono::{Datelike, Months};
use graphodrome_graph::{Code, Decimal, Direction, Duration, GraphError, Value, ValueType, Zone};
use graphodrome_language::ast::{BinaryOperator, NormalForm};
use unicode_normalization::UnicodeNormalization;

use crate::budget::Budget;
use crate::context::{CHECK_EVERY, Outcome};
use crate::evaluate::{Scope, read_text};
use crate::template::read_by_template;

macro_rules! functions {
    ($($variant:ident: [$($name:literal),+] $least:literal..=$most:expr;)+) => {
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub(crate) enum Function { $($variant),+ }

        /// Name, function, least and most arguments.
        pub(crate) const FUNCTIONS: &[(&str, Function, usize, usize)] =
            &[$($(($name, Function::$variant, $least, $most),)+)+];
    };
}

functions! {
    CharLength: ["CHAR_LENGTH", "CHARACTER_LENGTH"] 1..=1;
    Substring: ["SUBSTRING"] 2..=3;
    Position: ["POSITION"] 2..=2;
    Replace: ["REPLACE"] 3..=3;
    Round: ["ROUND"] 1..=2;
    Extract: ["EXTRACT"] 2..=2;
    Upper: ["UPPER"] 1..=1;
    Lower: ["LOWER"] 1..=1;
    Trim: ["TRIM", "BTRIM"] 1..=2;
    Ltrim: ["LTRIM"] 1..=2;
    Rtrim: ["RTRIM"] 1..=2;
    Left: ["LEFT"] 2..=2;
    Right: ["RIGHT"] 2..=2;
    Abs: ["ABS"] 1..=1;
    Mod: ["MOD"] 2..=2;
    Floor: ["FLOOR"] 1..=1;
    Ceil: ["CEIL", "CEILING"] 1..=1;
    Sqrt: ["SQRT"] 1..=1;
    Exp: ["EXP"] 1..=1;
    Ln: ["LN"] 1..=1;
    Log: ["LOG"] 2..=2;
    Log10: ["LOG10"] 1..=1;
    Power: ["POWER"] 2..=2;
    Sin: ["SIN"] 1..=1;
    Cos: ["COS"] 1..=1;
    Tan: ["TAN"] 1..=1;
    Cot: ["COT"] 1..=1;
    Sinh: ["SINH"] 1..=1;
    Cosh: ["COSH"] 1..=1;
    Tanh: ["TANH"] 1..=1;
    Asin: ["ASIN"] 1..=1;
    Acos: ["ACOS"] 1..=1;
    Atan: ["ATAN"] 1..=1;
    Degrees: ["DEGREES"] 1..=1;
    Radians: ["RADIANS"] 1..=1;
    ByteLength: ["BYTE_LENGTH", "OCTET_LENGTH"] 1..=1;
    Normalize: ["NORMALIZE"] 1..=2;
    Cardinality: ["CARDINALITY", "SIZE"] 1..=1;
    ElementId: ["ELEMENT_ID"] 1..=1;
    PathLength: ["PATH_LENGTH"] 1..=1;
    Elements: ["ELEMENTS"] 1..=1;
    Coalesce: ["COALESCE"] 1..=64;
    Nullif: ["NULLIF"] 2..=2;
    Labels: ["LABELS"] 1..=1;
    Properties: ["PROPERTIES"] 1..=1;
    Nodes: ["NODES"] 1..=1;
    Edges: ["EDGES"] 1..=1;
    Degree: ["DEGREE"] 1..=1;
    InDegree: ["IN_DEGREE"] 1..=1;
    OutDegree: ["OUT_DEGREE"] 1..=1;
    AllDifferent: ["ALL_DIFFERENT"] 2..=64;
    Same: ["SAME"] 2..=64;
    CurrentDate: ["CURRENT_DATE"] 0..=0;
    CurrentTime: ["CURRENT_TIME"] 0..=0;
    CurrentTimestamp: ["CURRENT_TIMESTAMP"] 0..=0;
    LocalTimestamp: ["LOCAL_TIMESTAMP"] 0..=0;
    Date: ["DATE"] 0..=1;
    LocalTime: ["LOCAL_TIME"] 0..=1;
    ZonedTime: ["ZONED_TIME"] 0..=1;
    LocalDateTime: ["LOCAL_DATETIME"] 0..=2;
    ZonedDateTime: ["ZONED_DATETIME"] 0..=2;
    DurationOf: ["DURATION"] 1..=1;
    DurationBetween: ["DURATION_BETWEEN"] 2..=3;
    Split: ["SPLIT"] 2..=2;
    ToDate: ["TO_DATE"] 2..=2;
    ToDateTime: ["TO_DATETIME"] 2..=2;
}

fn wrong(function: Function, value: &Value, wanted: &str) -> GraphError {
    let name = FUNCTIONS.iter().find(|f| f.1 == function).map_or("", |f| f.0);
    GraphError::new(
        Code::WRONG_TYPE,
        format!("{name} takes {wanted}, found {} {}", value.type_name(), value.excerpt()),
    )
}

fn domain(message: &str) -> GraphError {
    GraphError::new(Code::DATA, message)
}

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

/// `SUBSTRING(text FROM start FOR length)`: characters, counted from 1; what lies outside the text is left out.
fn substring(function: Function, arguments: &[Value]) -> Result<Value, GraphError> {
    let source = text(function, &arguments[0])?;
    let number = |value: &Value| match value {
        Value::Int(i) => Ok(*i),
        other => Err(wrong(function, other, "whole numbers")),
    };
    let start = number(&arguments[1])?;
    let end = match arguments.get(2).map(number).transpose()? {
        Some(length) if length < 0 => return Err(GraphError::new(Code("22011"), "the length is negative")),
        Some(length) => start.saturating_add(length),
        None => i64::MAX,
    };
    let skip = usize::try_from(start.saturating_sub(1)).unwrap_or(0);
    let take = usize::try_from(end.saturating_sub(start.max(1))).unwrap_or(0);
    Ok(Value::text(source.chars().skip(skip).take(take).collect::<String>()))
}

fn replace(function: Function, arguments: &[Value], scope: &Scope) -> Result<Value, GraphError> {
    let [source, old, new] = [0, 1, 2].map(|i| text(function, &arguments[i]));
    let (source, old, new) = (source?, old?, new?);
    if old.is_empty() {
        return Ok(Value::Text(source.clone()));
    }
    let added = source.matches(&**old).count().saturating_mul(new.len());
    scope
        .budget
        .fits(source.len().saturating_add(added))
        .map_err(|d| GraphError::new(Code(d.code), d.message))?;
    Ok(Value::text(source.replace(&**old, new)))
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

/// A part of a temporal value, as EXTRACT has it.
fn field_of(value: &Value, field: &str) -> Option<Value> {
    use chrono::Timelike;
    let date = match value {
        Value::Date(d) => Some(*d),
        Value::LocalDateTime(t) => Some(t.date()),
        Value::ZonedDateTime(t) => Some(t.date_naive()),
        _ => None,
    };
    let time = match value {
        Value::LocalTime(t) | Value::ZonedTime(t, _) => Some(*t),
        Value::LocalDateTime(t) => Some(t.time()),
        Value::ZonedDateTime(t) => Some(t.time()),
        _ => None,
    };
    let seconds = |whole: i64, nanoseconds: i128| {
        let exact = Decimal::of(whole as i128 * 1_000_000_000 + nanoseconds, 9)?;
        Some(match exact.to_whole() {
            Some(whole) => Value::Int(whole),
            None => Value::Decimal(exact.normalize()),
        })
    };
    if let Value::Duration(d) = value {
        let rest = i128::from(d.nanoseconds);
        let unit = |size: i128, count: i128| Value::Int((rest / size % count) as i64);
        return match field {
            "YEAR" => Some(Value::Int((d.months / 12).into())),
            "MONTH" => Some(Value::Int((d.months % 12).into())),
            "DAY" => Some(Value::Int((rest / 86_400_000_000_000) as i64)),
            "HOUR" => Some(unit(3_600_000_000_000, 24)),
            "MINUTE" => Some(unit(60_000_000_000, 60)),
            "SECOND" => seconds(0, rest % 60_000_000_000),
            _ => None,
        };
    }
    match field {
        "YEAR" => date.map(|d| Value::Int(d.year().into())),
        "QUARTER" => date.map(|d| Value::Int(i64::from(d.month0() / 3) + 1)),
        "MONTH" => date.map(|d| Value::Int(d.month().into())),
        "DAY" => date.map(|d| Value::Int(d.day().into())),
        "HOUR" => time.map(|t| Value::Int(t.hour().into())),
        "MINUTE" => time.map(|t| Value::Int(t.minute().into())),
        "SECOND" => time.and_then(|t| seconds(t.second().into(), t.nanosecond().into())),
        _ => None,
    }
}

/// `DATE({year: 2026, month: 2, day: 28})`; a month or day that is not given is the first.
fn date_of(record: &Value) -> Result<Value, GraphError> {
    let Value::Record(fields) = record else { return Err(wrong(Function::Date, record, "a RECORD")) };
    let (mut year, mut month, mut day) = (None, 1, 1);
    for (name, value) in fields.iter() {
        let Value::Int(number) = value else { return Err(wrong(Function::Date, value, "whole numbers")) };
        let place = match &**name {
            "year" => year.insert(*number),
            "month" => {
                month = *number;
                continue;
            }
            "day" => {
                day = *number;
                continue;
            }
            _ => {
                return Err(GraphError::new(Code("22G05"), format!("a date has no field {name}"))
                    .hint("its fields are year, month and day"));
            }
        };
        *place = *number;
    }
    let found = year.zip(u32::try_from(month).ok()).zip(u32::try_from(day).ok());
    let date = found.and_then(|((y, m), d)| chrono::NaiveDate::from_ymd_opt(i32::try_from(y).ok()?, m, d));
    date.map(Value::Date).ok_or_else(|| {
        GraphError::new(Code::INVALID_DATE_TIME, format!("there is no such day: {}", record.excerpt()))
    })
}

/// A value of the query's moment.
fn moment(function: Function, now: chrono::DateTime<chrono::FixedOffset>) -> Value {
    match function {
        Function::CurrentDate | Function::Date => Value::Date(now.date_naive()),
        Function::CurrentTime | Function::ZonedTime => {
            Value::ZonedTime(now.time(), now.offset().local_minus_utc())
        }
        Function::LocalTime => Value::LocalTime(now.time()),
        Function::LocalTimestamp | Function::LocalDateTime => Value::LocalDateTime(now.naive_local()),
        _ => Value::ZonedDateTime(now),
    }
}

/// A text in one of Unicode's normal forms.
pub(crate) fn normalized(text: &str, form: NormalForm) -> String {
    match form {
        NormalForm::Nfc => text.nfc().collect(),
        NormalForm::Nfd => text.nfd().collect(),
        NormalForm::Nfkc => text.nfkc().collect(),
        NormalForm::Nfkd => text.nfkd().collect(),
    }
}

fn text(function: Function, value: &Value) -> Result<&Arc<str>, GraphError> {
    match value {
        Value::Text(t) => Ok(t),
        other => Err(wrong(function, other, "STRING")),
    }
}

fn number(function: Function, value: &Value) -> Result<f64, GraphError> {
    value.as_f64().ok_or_else(|| wrong(function, value, "a number"))
}

fn trim(function: Function, arguments: &[Value]) -> Result<Value, GraphError> {
    if let (Value::List(items), Some(Value::Int(n))) = (&arguments[0], arguments.get(1)) {
        let n = usize::try_from(*n).map_err(|_| domain("the number of elements to trim is negative"))?;
        let kept = items
            .len()
            .checked_sub(n)
            .ok_or_else(|| domain("the list has fewer elements than are trimmed"))?;
        return Ok(Value::list(items[..kept].to_vec()));
    }
    if let Value::Bytes(source) = &arguments[0] {
        let cut = match arguments.get(1) {
            None => 0,
            Some(Value::Bytes(one)) if one.len() == 1 => one[0],
            Some(other) => return Err(wrong(function, other, "a single byte such as X'00'")),
        };
        let mut kept = &source[..];
        while function != Function::Rtrim && kept.first() == Some(&cut) {
            kept = &kept[1..];
        }
        while function != Function::Ltrim && kept.last() == Some(&cut) {
            kept = &kept[..kept.len() - 1];
        }
        return Ok(Value::Bytes(kept.into()));
    }
    let source = text(function, &arguments[0])?;
    let cut: Vec<char> = match arguments.get(1) {
        Some(given) => text(function, given)?.chars().collect(),
        None => vec![' '],
    };
    let drop = |c: char| cut.contains(&c);
    Ok(Value::text(match function {
        Function::Ltrim => source.trim_start_matches(drop),
        Function::Rtrim => source.trim_end_matches(drop),
        _ => source.trim_matches(drop),
    }))
}

/// `LIKE`: `%` for any run of characters, `_` for one; `escape` makes either itself.
pub(crate) fn like(text: &str, pattern: &str, escape: char, budget: &Budget) -> Outcome<bool> {
    let text: Vec<char> = text.chars().collect();
    let mut parts: Vec<Option<char>> = vec![];
    let mut any_run: Vec<bool> = vec![];
    let mut characters = pattern.chars();
    while let Some(c) = characters.next() {
        let (part, run) = match c {
            c if c == escape => (characters.next().or(Some(escape)), false),
            '%' => (None, true),
            '_' => (None, false),
            c => (Some(c), false),
        };
        parts.push(part);
        any_run.push(run);
    }
    // Greedy with one point to come back to: linear in practice, quadratic at worst.
    let (mut t, mut p) = (0, 0);
    let mut back: Option<(usize, usize)> = None;
    let mut steps = 0u64;
    while t < text.len() {
        steps += 1;
        if steps.is_multiple_of(CHECK_EVERY) {
            budget.check()?;
        }
        if p < parts.len() && any_run[p] {
            back = Some((p, t));
            p += 1;
        } else if p < parts.len() && parts[p].is_none_or(|c| c == text[t]) {
            p += 1;
            t += 1;
        } else if let Some((star, from)) = back {
            back = Some((star, from + 1));
            p = star + 1;
            t = from + 1;
        } else {
            return Ok(false);
        }
    }
    Ok(any_run[p..].iter().all(|run| *run))
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

/// `YEAR TO MONTH`: whole months; otherwise the exact time.
fn duration_between(from: &Value, to: &Value, months: bool) -> Option<Value> {
    if months {
        let months = match (from, to) {
            (Value::Date(a), Value::Date(b)) => {
                whole_months(a.and_time(chrono::NaiveTime::MIN), b.and_time(chrono::NaiveTime::MIN))
            }
            (Value::LocalDateTime(a), Value::LocalDateTime(b)) => whole_months(*a, *b),
            (Value::ZonedDateTime(a), Value::ZonedDateTime(b)) => whole_months(a.naive_utc(), b.naive_utc()),
            _ => return None,
        };
        return Some(Value::Duration(Duration { months, nanoseconds: 0 }));
    }
    let nanoseconds = match (from, to) {
        (Value::Date(a), Value::Date(b)) => (*b - *a).num_nanoseconds()?,
        (Value::LocalDateTime(a), Value::LocalDateTime(b)) => (*b - *a).num_nanoseconds()?,
        (Value::ZonedDateTime(a), Value::ZonedDateTime(b)) => (*b - *a).num_nanoseconds()?,
        (Value::LocalTime(a), Value::LocalTime(b)) => (*b - *a).num_nanoseconds()?,
        (Value::ZonedTime(a, za), Value::ZonedTime(b, zb)) => {
            let apart = chrono::Duration::seconds((*za - *zb) as i64);
            (*b - *a + apart).num_nanoseconds()?
        }
        _ => return None,
    };
    Some(Value::Duration(Duration { months: 0, nanoseconds }))
}

/// The most months that, added to the earlier of the two, do not go beyond the later.
fn whole_months(from: chrono::NaiveDateTime, to: chrono::NaiveDateTime) -> i32 {
    let (early, late, sign) = if from <= to { (from, to, 1) } else { (to, from, -1) };
    let mut months = (late.year() - early.year()) * 12 + late.month() as i32 - early.month() as i32;
    while months > 0 && early.checked_add_months(Months::new(months as u32)).is_none_or(|t| t > late) {
        months -= 1;
    }
    sign * months
}

/// Adding and subtracting durations; `None` where the operands are of other kinds.
pub(crate) fn temporal_arithmetic(
    operator: BinaryOperator, a: &Value, b: &Value,
) -> Option<Result<Value, GraphError>> {
    let out_of_range = || GraphError::new(Code("22008"), "the result is out of the calendar's range");
    let (value, duration) = match (operator, a, b) {
        (BinaryOperator::Add | BinaryOperator::Subtract, Value::Duration(x), Value::Duration(y)) => {
            let (months, nanoseconds) = if operator == BinaryOperator::Add {
                (x.months.checked_add(y.months), x.nanoseconds.checked_add(y.nanoseconds))
            } else {
                (x.months.checked_sub(y.months), x.nanoseconds.checked_sub(y.nanoseconds))
            };
            let both = months.zip(nanoseconds).ok_or_else(out_of_range);
            return Some(both.map(|(months, nanoseconds)| Value::Duration(Duration { months, nanoseconds })));
        }
        (BinaryOperator::Multiply, Value::Duration(d), number)
        | (BinaryOperator::Multiply, number, Value::Duration(d))
        | (BinaryOperator::Divide, Value::Duration(d), number) => {
            return scaled(*d, number, operator == BinaryOperator::Divide);
        }
        (BinaryOperator::Subtract, Value::Date(_), Value::Date(_))
        | (BinaryOperator::Subtract, Value::LocalDateTime(_), Value::LocalDateTime(_))
        | (BinaryOperator::Subtract, Value::ZonedDateTime(_), Value::ZonedDateTime(_))
        | (BinaryOperator::Subtract, Value::LocalTime(_), Value::LocalTime(_))
        | (BinaryOperator::Subtract, Value::ZonedTime(..), Value::ZonedTime(..)) => {
            return Some(duration_between(b, a, false).ok_or_else(out_of_range));
        }
        (BinaryOperator::Add, value, Value::Duration(d))
        | (BinaryOperator::Add, Value::Duration(d), value) => (value, *d),
        (BinaryOperator::Subtract, value, Value::Duration(d)) => {
            (value, Duration { months: d.months.checked_neg()?, nanoseconds: d.nanoseconds.checked_neg()? })
        }
        _ => return None,
    };
    if duration.months != 0 && matches!(value, Value::LocalTime(_) | Value::ZonedTime(..)) {
        return Some(Err(GraphError::new(Code::WRONG_TYPE, "a time of day has no months to add to")));
    }
    let exact = chrono::Duration::nanoseconds(duration.nanoseconds);
    let shifted = match value {
        Value::Date(date) => {
            let months = Months::new(duration.months.unsigned_abs());
            let moved = if duration.months >= 0 {
                date.checked_add_months(months)
            } else {
                date.checked_sub_months(months)
            };
            moved
                .and_then(|d| d.checked_add_signed(exact))
                .filter(|d| d.year().abs() < 100_000)
                .map(Value::Date)
        }
        Value::LocalDateTime(t) => {
            let months = Months::new(duration.months.unsigned_abs());
            let moved = if duration.months >= 0 {
                t.checked_add_months(months)
            } else {
                t.checked_sub_months(months)
            };
            moved.and_then(|t| t.checked_add_signed(exact)).map(Value::LocalDateTime)
        }
        Value::ZonedDateTime(t) => {
            let months = Months::new(duration.months.unsigned_abs());
            let moved = if duration.months >= 0 {
                t.checked_add_months(months)
            } else {
                t.checked_sub_months(months)
            };
            moved.and_then(|t| t.checked_add_signed(exact)).map(Value::ZonedDateTime)
        }
        Value::LocalTime(t) => Some(Value::LocalTime(t.overflowing_add_signed(exact).0)),
        Value::ZonedTime(t, offset) => Some(Value::ZonedTime(t.overflowing_add_signed(exact).0, *offset)),
        _ => return None,
    };
    Some(shifted.ok_or_else(out_of_range))
}

/// A duration times a number, or divided by it. A part of a month has no fixed length, so that months must
/// come out whole; nanoseconds are rounded.
fn scaled(d: Duration, number: &Value, divide: bool) -> Option<Result<Value, GraphError>> {
    if !number.is_number() {
        return None;
    }
    let Some(factor) = exact(number).or_else(|| Decimal::from_f64(number.as_f64()?, 18)) else {
        return Some(Err(GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range")));
    };
    if divide && factor.is_zero() {
        return Some(Err(GraphError::new(Code::DIVISION_BY_ZERO, "division by zero")));
    }
    let times = |n: i64| {
        let n = Decimal::from(n);
        let scaled = if divide { n.checked_div(factor) } else { n.checked_mul(factor) };
        scaled.ok_or_else(|| GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range"))
    };
    let whole = |d: Decimal| {
        d.to_whole().ok_or_else(|| GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range"))
    };
    let scale = || {
        let months = times(d.months.into())?;
        if !months.is_whole() {
            let text = format!("{} months are not a whole number of them", months.normalize());
            return Err(GraphError::new(Code::DATA, text)
                .hint("a part of a month has no fixed length; divide durations of days and time"));
        }
        let out_of_range = |_| GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range");
        let months = i32::try_from(whole(months)?).map_err(out_of_range)?;
        Ok(Value::Duration(Duration { months, nanoseconds: whole(times(d.nanoseconds)?.round(0))? }))
    };
    Some(scale())
}

/// A number that is kept exactly.
fn exact(value: &Value) -> Option<Decimal> {
    match value {
        Value::Int(i) => Some((*i).into()),
        Value::Decimal(d) => Some(*d),
        _ => None,
    }
}

/// A duration without its sign; where its parts have two, it has no absolute value.
fn absolute(d: Duration) -> Result<Value, GraphError> {
    let out_of_range = || GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range");
    if d.months < 0 && d.nanoseconds > 0 || d.months > 0 && d.nanoseconds < 0 {
        return Err(GraphError::new(
            Code::DATA,
            format!("{d} has parts of both signs and no absolute value"),
        ));
    }
    let months = d.months.checked_abs().ok_or_else(out_of_range)?;
    let nanoseconds = d.nanoseconds.checked_abs().ok_or_else(out_of_range)?;
    Ok(Value::Duration(Duration { months, nanoseconds }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn like_matches_runs_and_single_characters() {
        for (text, pattern, expected) in [
            ("Tarn End", "Tarn%", true),
            ("Tarn End", "%End", true),
            ("Tarn End", "T_rn%", true),
            ("Tarn End", "tarn%", false),
            ("100%", "100\\%", true),
            ("1000", "100\\%", false),
            ("", "%", true),
            ("", "_", false),
            ("abcabd", "%abd", true),
        ] {
            let budget = Budget::new(&Default::default());
            assert_eq!(like(text, pattern, '\\', &budget), Ok(expected), "{text} LIKE {pattern}");
        }
    }

    #[test]
    fn a_cast_is_exact_or_an_error() {
        assert_eq!(cast(Value::text("12"), &ValueType::Int(64)), Ok(Value::Int(12)));
        assert!(cast(Value::text("12x"), &ValueType::Int(64)).is_err());
        assert!(cast(Value::Int(300), &ValueType::Int(8)).is_err());
        assert_eq!(cast(Value::Int(3), &ValueType::TEXT), Ok(Value::text("3")));
    }
}
