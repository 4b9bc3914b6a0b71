//! Values: what a property, a variable or a result cell holds. Nothing is coerced silently: an
//! operation on the wrong type is an error that names the value.

mod written;

use std::cmp::Ordering;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use chrono::{DateTime, FixedOffset, NaiveDate, NaiveDateTime, NaiveTime};
use serde::{Deserialize, Serialize};

use crate::{Code, Decimal, Dense, GraphError};

/// How deep lists and records may lie in each other, in a query and in the graph.
pub const MAX_VALUE_DEPTH: usize = 128;

/// Three-valued logic: `None` is unknown.
pub type Truth = Option<bool>;

/// A duration in GQL keeps months apart from exact time, since a month has no fixed length.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Duration {
    pub months: i32,
    pub nanoseconds: i64,
}

/// A path in one snapshot: `nodes` has one more entry than `edges`.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct PathValue {
    pub nodes: Vec<Dense>,
    pub edges: Vec<Dense>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub enum Value {
    Null,
    Bool(bool),
    Int(i64),
    Float(f64),
    Decimal(Decimal),
    Text(Arc<str>),
    Bytes(Arc<[u8]>),
    Date(NaiveDate),
    LocalTime(NaiveTime),
    ZonedTime(NaiveTime, i32),
    LocalDateTime(NaiveDateTime),
    ZonedDateTime(DateTime<FixedOffset>),
    Duration(Duration),
    List(Arc<[Value]>),
    Record(Arc<[(Arc<str>, Value)]>),
    /// Only within one query over one snapshot; never stored.
    Node(Dense),
    Edge(Dense),
    Path(Arc<PathValue>),
}

impl Value {
    pub fn text(text: impl Into<Arc<str>>) -> Value {
        Value::Text(text.into())
    }

    pub fn list(items: Vec<Value>) -> Value {
        Value::List(items.into())
    }

    pub fn is_null(&self) -> bool {
        matches!(self, Value::Null)
    }

    /// Whether the value may be stored as a property.
    pub fn is_storable(&self) -> bool {
        match self {
            Value::Node(_) | Value::Edge(_) | Value::Path(_) => false,
            Value::List(items) => items.iter().all(Value::is_storable),
            Value::Record(fields) => fields.iter().all(|(_, v)| v.is_storable()),
            _ => true,
        }
    }

    /// Whether lists and records lie at most so many levels deep in each other.
    pub fn is_within_depth(&self, levels: usize) -> bool {
        match self {
            Value::List(_) | Value::Record(_) if levels == 0 => false,
            Value::List(items) => items.iter().all(|v| v.is_within_depth(levels - 1)),
            Value::Record(fields) => fields.iter().all(|(_, v)| v.is_within_depth(levels - 1)),
            _ => true,
        }
    }

    pub fn is_number(&self) -> bool {
        matches!(self, Value::Int(_) | Value::Float(_) | Value::Decimal(_))
    }

    pub fn as_f64(&self) -> Option<f64> {
        match self {
            Value::Int(i) => Some(*i as f64),
            Value::Float(f) => Some(*f),
            Value::Decimal(d) => Some(d.to_f64()),
            _ => None,
        }
    }

    /// Ordering comparison for `<`, `=` and their kin: unknown with null, an error (22G04) where the
    /// types cannot be compared.
    pub fn compare(&self, other: &Value) -> Result<Option<Ordering>, GraphError> {
        use Value::*;
        Ok(match (self, other) {
            (Null, _) | (_, Null) => None,
            (Int(a), Int(b)) => Some(a.cmp(b)),
            (a, b) if a.is_number() && b.is_number() => compare_numbers(a, b),
            (Bool(a), Bool(b)) => Some(a.cmp(b)),
            (Text(a), Text(b)) => Some(a.cmp(b)),
            (Bytes(a), Bytes(b)) => Some(a.cmp(b)),
            (Date(a), Date(b)) => Some(a.cmp(b)),
            (LocalTime(a), LocalTime(b)) => Some(a.cmp(b)),
            (ZonedTime(a, za), ZonedTime(b, zb)) => {
                Some(utc_nanoseconds(*a, *za).cmp(&utc_nanoseconds(*b, *zb)))
            }
            (LocalDateTime(a), LocalDateTime(b)) => Some(a.cmp(b)),
            (ZonedDateTime(a), ZonedDateTime(b)) => Some(a.cmp(b)),
            (Duration(a), Duration(b)) => Some(a.cmp(b)),
            (Node(a), Node(b)) | (Edge(a), Edge(b)) => Some(a.cmp(b)),
            (Path(a), Path(b)) => Some(a.cmp(b)),
            (List(a), List(b)) => {
                for (x, y) in a.iter().zip(b.iter()) {
                    match x.compare(y)? {
                        Some(Ordering::Equal) => {}
                        other => return Ok(other),
                    }
                }
                Some(a.len().cmp(&b.len()))
            }
            (Record(a), Record(b)) => {
                let (a, b) = (sorted(a), sorted(b));
                for ((ka, x), (kb, y)) in a.iter().zip(b.iter()) {
                    if ka != kb {
                        return Ok(Some(ka.cmp(kb)));
                    }
                    match x.compare(y)? {
                        Some(Ordering::Equal) => {}
                        other => return Ok(other),
                    }
                }
                Some(a.len().cmp(&b.len()))
            }
            (a, b) => {
                return Err(GraphError::new(
                    Code::NOT_COMPARABLE,
                    format!(
                        "{} {} cannot be compared with {} {}",
                        a.type_name(),
                        a.excerpt(),
                        b.type_name(),
                        b.excerpt()
                    ),
                )
                .hint("CAST one side to the other's type"));
            }
        })
    }

    /// `=`: unknown where a null decides. Lists of different lengths and records of different fields are not
    /// equal, whatever is in them; fields have no order.
    pub fn equals(&self, other: &Value) -> Result<Truth, GraphError> {
        match (self, other) {
            (Value::List(a), Value::List(b)) => {
                if a.len() != b.len() {
                    return Ok(Some(false));
                }
                all_equal(a.iter().zip(b.iter()))
            }
            (Value::Record(a), Value::Record(b)) => {
                let (a, b) = (sorted(a), sorted(b));
                if a.len() != b.len() || a.iter().zip(b.iter()).any(|((ka, _), (kb, _))| ka != kb) {
                    return Ok(Some(false));
                }
                all_equal(a.iter().map(|(_, v)| v).zip(b.iter().map(|(_, v)| v)))
            }
            _ => Ok(self.compare(other)?.map(Ordering::is_eq)),
        }
    }

    /// Whether `=` of the value with itself is true: it has no null and no NaN in it.
    pub fn equals_itself(&self) -> bool {
        match self {
            Value::Null => false,
            Value::Float(f) => !f.is_nan(),
            Value::List(items) => items.iter().all(Value::equals_itself),
            Value::Record(fields) => fields.iter().all(|(_, v)| v.equals_itself()),
            _ => true,
        }
    }

    /// A total order for sorting: by type rank, then value; null is the greatest.
    pub fn order(&self, other: &Value) -> Ordering {
        let rank = self.rank().cmp(&other.rank());
        if rank != Ordering::Equal {
            return rank;
        }
        match (self, other) {
            (Value::Null, Value::Null) => Ordering::Equal,
            (Value::List(a), Value::List(b)) => {
                for (x, y) in a.iter().zip(b.iter()) {
                    let step = x.order(y);
                    if step != Ordering::Equal {
                        return step;
                    }
                }
                a.len().cmp(&b.len())
            }
            (Value::Record(a), Value::Record(b)) => {
                let (a, b) = (sorted(a), sorted(b));
                for ((ka, va), (kb, vb)) in a.iter().zip(b.iter()) {
                    let step = ka.cmp(kb).then_with(|| va.order(vb));
                    if step != Ordering::Equal {
                        return step;
                    }
                }
                a.len().cmp(&b.len())
            }
            (a, b) => match a.compare(b) {
                Ok(Some(order)) => order,
                // NaN: after every other number, equal to itself.
                _ => nan_rank(a).cmp(&nan_rank(b)),
            },
        }
    }

    /// How the kinds of two values are sorted: equal where they can be compared.
    pub fn kind_order(&self, other: &Value) -> Ordering {
        self.rank().cmp(&other.rank())
    }

    fn rank(&self) -> u8 {
        match self {
            Value::Bool(_) => 0,
            Value::Int(_) | Value::Float(_) | Value::Decimal(_) => 1,
            Value::Text(_) => 2,
            Value::Bytes(_) => 3,
            Value::Date(_) => 4,
            Value::LocalTime(_) => 5,
            Value::ZonedTime(..) => 6,
            Value::LocalDateTime(_) => 7,
            Value::ZonedDateTime(_) => 8,
            Value::Duration(_) => 9,
            Value::Node(_) => 10,
            Value::Edge(_) => 11,
            Value::Path(_) => 12,
            Value::List(_) => 13,
            Value::Record(_) => 14,
            Value::Null => 15,
        }
    }

    /// The value as text, cut to a readable length: for messages.
    pub fn excerpt(&self) -> String {
        let full = match self {
            Value::Text(t) => format!("'{t}'"),
            other => other.to_string(),
        };
        if full.chars().count() > 60 {
            let mut cut: String = full.chars().take(57).collect();
            cut.push_str("...");
            cut
        } else {
            full
        }
    }

    /// The value as a literal of the language, so that it can be pasted into a query.
    pub fn literal(&self) -> String {
        match self {
            Value::Text(t) => format!("'{}'", t.replace('\\', "\\\\").replace('\'', "\\'")),
            Value::Date(d) => format!("DATE '{d}'"),
            Value::LocalTime(t) => format!("LOCAL_TIME('{t}')"),
            Value::LocalDateTime(t) => format!("LOCAL_DATETIME('{}')", t.format("%Y-%m-%dT%H:%M:%S%.f")),
            Value::ZonedDateTime(t) => format!("ZONED_DATETIME('{}')", t.to_rfc3339()),
            Value::List(items) => {
                let items: Vec<String> = items.iter().map(Value::literal).collect();
                format!("[{}]", items.join(", "))
            }
            Value::Record(fields) => {
                let fields: Vec<String> =
                    fields.iter().map(|(k, v)| format!("{k}: {}", v.literal())).collect();
                format!("{{{}}}", fields.join(", "))
            }
            Value::Duration(_) => format!("DURATION '{self}'"),
            Value::ZonedTime(..) => format!("ZONED_TIME('{self}')"),
            Value::Null => "NULL".into(),
            other => other.to_string(),
        }
    }
}

fn utc_nanoseconds(time: NaiveTime, offset_seconds: i32) -> i64 {
    use chrono::Timelike;
    (time.num_seconds_from_midnight() as i64 - offset_seconds as i64) * 1_000_000_000
        + time.nanosecond() as i64
}

fn nan_rank(value: &Value) -> u8 {
    matches!(value, Value::Float(f) if f.is_nan()) as u8
}

type Fields = [(Arc<str>, Value)];

/// A record's fields in the order of their names.
fn sorted(fields: &Fields) -> std::borrow::Cow<'_, Fields> {
    if fields.is_sorted_by(|a, b| a.0 <= b.0) {
        return fields.into();
    }
    let mut sorted = fields.to_vec();
    sorted.sort_by(|a, b| a.0.cmp(&b.0));
    sorted.into()
}

/// False where one pair is not equal, unknown where that cannot be said.
fn all_equal<'v>(pairs: impl Iterator<Item = (&'v Value, &'v Value)>) -> Result<Truth, GraphError> {
    let mut unknown = false;
    for (a, b) in pairs {
        match a.equals(b)? {
            Some(true) => {}
            Some(false) => return Ok(Some(false)),
            None => unknown = true,
        }
    }
    Ok((!unknown).then_some(true))
}

/// Exact, and so transitive: numbers of different types are never rounded to be compared. `None` for NaN.
fn compare_numbers(a: &Value, b: &Value) -> Option<Ordering> {
    match (a, b) {
        (Value::Decimal(x), Value::Decimal(y)) => Some(x.cmp(y)),
        (Value::Decimal(x), Value::Float(y)) => x.compare_float(*y),
        (Value::Float(x), Value::Decimal(y)) => y.compare_float(*x).map(Ordering::reverse),
        (Value::Decimal(x), Value::Int(y)) => Some(x.cmp(&Decimal::from(*y))),
        (Value::Int(x), Value::Decimal(y)) => Some(Decimal::from(*x).cmp(y)),
        (Value::Int(x), Value::Float(y)) => compare_int_float(*x, *y),
        (Value::Float(x), Value::Int(y)) => compare_int_float(*y, *x).map(Ordering::reverse),
        _ => a.as_f64()?.partial_cmp(&b.as_f64()?),
    }
}

/// Exact: an INT64 above 2^53 is not equal to the FLOAT64 it would round to.
fn compare_int_float(int: i64, float: f64) -> Option<Ordering> {
    if float.is_nan() {
        return None;
    }
    if float >= 9_223_372_036_854_775_808.0 {
        return Some(Ordering::Less);
    }
    if float < -9_223_372_036_854_775_808.0 {
        return Some(Ordering::Greater);
    }
    let whole = float.trunc();
    Some(
        int.cmp(&(whole as i64))
            .then_with(|| 0.0f64.partial_cmp(&(float - whole)).unwrap_or(Ordering::Equal)),
    )
}

/// Distinctness, as grouping and `DISTINCT` see it: nulls are the same, NaN is the same as NaN, and
/// numbers are the same where their values are.
impl Value {
    /// Of a date the days since 1970-01-01.
    pub fn days(&self) -> Option<i32> {
        match self {
            Value::Date(date) => {
                i32::try_from(date.signed_duration_since(chrono::NaiveDate::default()).num_days()).ok()
            }
            _ => None,
        }
    }
}

impl PartialEq for Value {
    fn eq(&self, other: &Value) -> bool {
        self.order(other) == Ordering::Equal
    }
}

impl Eq for Value {}

impl Hash for Value {
    fn hash<H: Hasher>(&self, state: &mut H) {
        match self {
            Value::Null => state.write_u8(0),
            Value::Bool(b) => b.hash(state),
            Value::Int(_) | Value::Float(_) | Value::Decimal(_) => hash_number(self, state),
            Value::Text(t) => t.hash(state),
            Value::Bytes(b) => b.hash(state),
            Value::Date(d) => d.hash(state),
            Value::LocalTime(t) => t.hash(state),
            Value::ZonedTime(t, z) => utc_nanoseconds(*t, *z).hash(state),
            Value::LocalDateTime(t) => t.hash(state),
            Value::ZonedDateTime(t) => t.timestamp_nanos_opt().hash(state),
            Value::Duration(d) => d.hash(state),
            Value::List(items) => items.iter().for_each(|v| v.hash(state)),
            Value::Record(fields) => sorted(fields).iter().for_each(|(k, v)| {
                k.hash(state);
                v.hash(state);
            }),
            Value::Node(n) | Value::Edge(n) => n.hash(state),
            Value::Path(p) => p.hash(state),
        }
    }
}

/// Numbers that are equal across types hash alike: whole ones that an INT64 holds as that, the rest by the
/// nearest FLOAT64.
fn hash_number<H: Hasher>(value: &Value, state: &mut H) {
    let whole = match value {
        Value::Int(i) => Some(*i),
        Value::Decimal(d) => d.to_whole(),
        Value::Float(f) if f.fract() == 0.0 && f.abs() < 9_223_372_036_854_775_808.0 => Some(*f as i64),
        Value::Float(f) if *f == -9_223_372_036_854_775_808.0 => Some(i64::MIN),
        _ => None,
    };
    if let Some(whole) = whole {
        return state.write_i64(whole);
    }
    let float = value.as_f64().unwrap_or(f64::NAN);
    if float == 0.0 {
        state.write_u64(0)
    } else if float.is_nan() {
        state.write_u64(u64::MAX)
    } else {
        state.write_u64(float.to_bits())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::hash::DefaultHasher;

    fn hashed(value: &Value) -> u64 {
        let mut hasher = DefaultHasher::new();
        value.hash(&mut hasher);
        hasher.finish()
    }

    #[test]
    fn equal_numbers_of_different_types_are_the_same_and_hash_alike() {
        let same = [Value::Int(3), Value::Float(3.0), Value::Decimal(Decimal::of(30, 1).expect("short"))];
        for a in &same {
            for b in &same {
                assert_eq!(a, b);
                assert_eq!(hashed(a), hashed(b));
            }
        }
    }

    #[test]
    fn a_large_integer_is_not_equal_to_the_float_it_rounds_to() {
        let int = Value::Int(9_007_199_254_740_993);
        let float = Value::Float(9_007_199_254_740_992.0);
        assert_eq!(int.compare(&float), Ok(Some(Ordering::Greater)));
    }

    #[test]
    fn text_and_number_cannot_be_compared_and_null_is_unknown() {
        let error = Value::text("7").compare(&Value::Int(7)).expect_err("not comparable");
        assert_eq!(error.code, Code::NOT_COMPARABLE);
        assert!(error.message.contains("'7'"), "{}", error.message);
        assert_eq!(Value::Null.compare(&Value::Int(7)), Ok(None));
    }

    #[test]
    fn null_sorts_last_and_nan_after_the_numbers() {
        let mut values = [Value::Null, Value::Float(f64::NAN), Value::Int(2), Value::Float(1.5)];
        values.sort_by(Value::order);
        assert_eq!(values[0], Value::Float(1.5));
        assert_eq!(values[1], Value::Int(2));
        assert!(matches!(values[2], Value::Float(f) if f.is_nan()));
        assert!(values[3].is_null());
    }

    #[test]
    fn durations_print_as_iso_8601() {
        let show = |months, nanoseconds| Duration { months, nanoseconds }.to_string();
        assert_eq!(show(14, 0), "P1Y2M");
        assert_eq!(show(0, 90_061_500_000_000), "P1DT1H1M1.5S");
        assert_eq!(show(0, 0), "PT0S");
    }

    #[test]
    fn durations_print_their_sign_once() {
        let show = |months, nanoseconds| Duration { months, nanoseconds }.to_string();
        assert_eq!(show(0, -86_400_000_000_000), "-P1D");
        assert_eq!(show(-14, -1_500_000_000), "-P1Y2MT1.5S");
        assert_eq!(show(1, -86_400_000_000_000), "P1M-1D");
        assert_eq!(show(0, i64::MIN), "-P106751DT23H47M16.854775808S");
    }

    #[test]
    fn equality_of_lists_and_records_is_unknown_only_where_a_null_decides() {
        let (n, i) = (Value::Null, Value::Int);
        let list = |items: &[Value]| Value::list(items.to_vec());
        assert_eq!(list(&[n.clone(), i(0)]).equals(&list(&[i(2), i(1)])), Ok(Some(false)));
        assert_eq!(list(std::slice::from_ref(&n)).equals(&list(&[n.clone(), i(1)])), Ok(Some(false)));
        assert_eq!(list(&[n.clone(), i(1)]).equals(&list(&[i(2), i(1)])), Ok(None));
        let record = |fields: &[(&str, Value)]| {
            Value::Record(fields.iter().map(|(k, v)| (Arc::from(*k), v.clone())).collect())
        };
        assert_eq!(record(&[("a", n.clone())]).equals(&record(&[("a", n)])), Ok(None));
        let (ab, ba) = (record(&[("a", i(1)), ("b", i(2))]), record(&[("b", i(2)), ("a", i(1))]));
        assert_eq!(ab.equals(&ba), Ok(Some(true)));
        assert_eq!((ab == ba, hashed(&ab) == hashed(&ba)), (true, true));
        assert_eq!(ab.equals(&record(&[("a", i(1))])), Ok(Some(false)));
    }

    /// Numbers that lie close together in all three types, and far out.
    fn any_number() -> impl Strategy<Value = Value> {
        let near = prop_oneof![
            Just(0i64),
            Just(1),
            Just(1 << 53),
            Just(-(1 << 53)),
            Just(i64::MAX),
            Just(i64::MIN),
            -5i64..5
        ];
        let small = -3i64..4;
        (near, small, 0u32..20, 0u8..4).prop_map(|(base, add, scale, form)| {
            let whole = base.saturating_add(add);
            match form {
                0 => Value::Int(whole),
                1 => Value::Float(whole as f64),
                2 => Value::Float(whole as f64 / 10f64.powi(scale as i32)),
                _ => Value::Decimal(Decimal::of(whole.into(), scale).expect("short")),
            }
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]

        #[test]
        fn numbers_of_all_types_have_one_order(a in any_number(), b in any_number(), c in any_number()) {
            let order = |x: &Value, y: &Value| x.order(y);
            prop_assert_eq!(order(&a, &b), order(&b, &a).reverse());
            if order(&a, &b).is_le() && order(&b, &c).is_le() {
                prop_assert!(order(&a, &c).is_le(), "{a:?} <= {b:?} <= {c:?}");
            }
            if a == b {
                prop_assert_eq!(hashed(&a), hashed(&b));
                prop_assert_eq!(order(&a, &c), order(&b, &c));
            }
            prop_assert_eq!(a.equals(&b).unwrap_or(None), Some(order(&a, &b).is_eq()));
        }
    }
}
