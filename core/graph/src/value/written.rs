//! Values as text.

use std::fmt;

use chrono::FixedOffset;

use super::{Duration, Value};

impl fmt::Display for Duration {
    /// ISO 8601 with the sign in front, where all parts have one sign: `-P1DT2H`; otherwise each part has its
    /// own: `P1M-2D`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let negative = self.months <= 0 && self.nanoseconds <= 0 && (self.months, self.nanoseconds) != (0, 0);
        let sign = if negative { -1 } else { 1 };
        let (months, nanoseconds) =
            (i64::from(self.months) * sign, i128::from(self.nanoseconds) * sign as i128);
        f.write_str(if negative { "-P" } else { "P" })?;
        let (years, months) = (months / 12, months % 12);
        if years != 0 {
            write!(f, "{years}Y")?;
        }
        if months != 0 {
            write!(f, "{months}M")?;
        }
        let days = nanoseconds / 86_400_000_000_000;
        let rest = nanoseconds % 86_400_000_000_000;
        if days != 0 {
            write!(f, "{days}D")?;
        }
        if rest != 0 || (self.months == 0 && days == 0) {
            f.write_str("T")?;
            let seconds = rest / 1_000_000_000;
            let (h, m, s) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
            if h != 0 {
                write!(f, "{h}H")?;
            }
            if m != 0 {
                write!(f, "{m}M")?;
            }
            let fraction = (rest % 1_000_000_000).abs();
            if fraction != 0 {
                let sign = if rest < 0 && s == 0 { "-" } else { "" };
                let digits = format!("{fraction:09}");
                write!(f, "{sign}{s}.{}S", digits.trim_end_matches('0'))?;
            } else if s != 0 || (h == 0 && m == 0) {
                write!(f, "{s}S")?;
            }
        }
        Ok(())
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Null => f.write_str("null"),
            Value::Bool(b) => f.write_str(if *b { "TRUE" } else { "FALSE" }),
            Value::Int(i) => write!(f, "{i}"),
            Value::Float(x) => write_float(f, *x),
            Value::Decimal(d) => write!(f, "{d}"),
            Value::Text(t) => f.write_str(t),
            Value::Bytes(bytes) => {
                f.write_str("X'")?;
                for byte in bytes.iter() {
                    write!(f, "{byte:02x}")?;
                }
                f.write_str("'")
            }
            Value::Date(d) => write!(f, "{d}"),
            Value::LocalTime(t) => write!(f, "{t}"),
            Value::ZonedTime(t, offset) => match FixedOffset::east_opt(*offset) {
                Some(offset) => write!(f, "{t}{offset}"),
                None => write!(f, "{t}"),
            },
            Value::LocalDateTime(t) => write!(f, "{}", t.format("%Y-%m-%dT%H:%M:%S%.f")),
            Value::ZonedDateTime(t) => write!(f, "{}", t.to_rfc3339()),
            Value::Duration(d) => write!(f, "{d}"),
            Value::List(items) => {
                f.write_str("[")?;
                for (i, item) in items.iter().enumerate() {
                    if i > 0 {
                        f.write_str(", ")?;
                    }
                    write!(f, "{item}")?;
                }
                f.write_str("]")
            }
            Value::Record(fields) => {
                f.write_str("{")?;
                for (i, (name, value)) in fields.iter().enumerate() {
                    if i > 0 {
                        f.write_str(", ")?;
                    }
                    write!(f, "{name}: {value}")?;
                }
                f.write_str("}")
            }
            Value::Node(n) => write!(f, "node {n}"),
            Value::Edge(e) => write!(f, "edge {e}"),
            Value::Path(p) => write!(f, "path of {} edges", p.edges.len()),
        }
    }
}

fn write_float(f: &mut fmt::Formatter<'_>, x: f64) -> fmt::Result {
    if x.is_nan() {
        f.write_str("NaN")
    } else if x.is_infinite() {
        f.write_str(if x > 0.0 { "Infinity" } else { "-Infinity" })
    } else if x != 0.0 && (x.abs() >= 1e16 || x.abs() < 1e-6) {
        write!(f, "{x:E}")
    } else if x.fract() == 0.0 {
        write!(f, "{x:.1}")
    } else {
        write!(f, "{x}")
    }
}
