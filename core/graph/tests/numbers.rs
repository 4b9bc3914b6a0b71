//! Order, equality and hashes of numbers and of what holds them, against references that are slow and plain:
//! numbers written out digit by digit, and three-valued equality as the standard words it.

use std::cmp::Ordering;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

use graphodrome_graph::{Decimal, DecimalSum, Value};
use proptest::prelude::*;

/// Sign, and the digits before and after the point, without zeros that say nothing.
fn written_out(value: &Value) -> (bool, String, String) {
    let text = match value {
        Value::Int(number) => number.to_string(),
        // Enough places for every finite FLOAT64, so that nothing is rounded.
        Value::Float(number) => format!("{number:.1100}"),
        Value::Decimal(number) => number.to_string(),
        other => panic!("{other:?} is no number"),
    };
    let (negative, digits) = match text.strip_prefix('-') {
        Some(digits) => (true, digits),
        None => (false, &text[..]),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let (whole, fraction) = (whole.trim_start_matches('0'), fraction.trim_end_matches('0'));
    (negative && !(whole.is_empty() && fraction.is_empty()), whole.into(), fraction.into())
}

fn reference_order(a: &Value, b: &Value) -> Ordering {
    let ((a_below, a_whole, a_fraction), (b_below, b_whole, b_fraction)) = (written_out(a), written_out(b));
    let sizes =
        a_whole.len().cmp(&b_whole.len()).then(a_whole.cmp(&b_whole)).then(a_fraction.cmp(&b_fraction));
    match (a_below, b_below) {
        (true, false) => Ordering::Less,
        (false, true) => Ordering::Greater,
        (true, true) => sizes.reverse(),
        (false, false) => sizes,
    }
}

fn hash(value: &Value) -> u64 {
    let mut hasher = DefaultHasher::new();
    value.hash(&mut hasher);
    hasher.finish()
}

/// Numbers that lie close together at the places where types differ: zero, 2^53, 2^63, tenths.
fn near() -> impl Strategy<Value = Value> {
    let places =
        prop::sample::select(vec![0i128, 1, 3, 1 << 53, i64::MAX as i128, i64::MIN as i128, 10i128.pow(18)]);
    let steps = prop::sample::select(vec![-1i128, 0, 1]);
    let scale = prop::sample::select(vec![0u32, 1, 2, 17]);
    (places, steps, scale, 0..4).prop_map(|(place, step, scale, kind)| {
        let number = place + step;
        match kind {
            0 => i64::try_from(number).map_or(Value::Float(number as f64), Value::Int),
            1 => Value::Float(number as f64),
            2 => Value::Float(number as f64 / 10f64.powi(scale as i32)),
            _ => Value::Decimal(Decimal::of(number, scale).expect("at most 20 digits")),
        }
    })
}

fn any_number() -> impl Strategy<Value = Value> {
    let decimal =
        (any::<i64>(), 0u32..30).prop_map(|(c, s)| Value::Decimal(Decimal::of(c as i128, s).expect("fits")));
    prop_oneof![
        4 => near(),
        1 => any::<i64>().prop_map(Value::Int),
        1 => any::<f64>().prop_filter("finite", |f| f.is_finite()).prop_map(Value::Float),
        1 => decimal,
    ]
}

/// Lists and records of few different values, nulls among them.
fn nested() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        (0i64..3).prop_map(Value::Int),
        (0i64..3).prop_map(|n| Value::Float(n as f64)),
    ];
    leaf.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(Value::list),
            prop::collection::btree_map("[a-c]", inner, 0..3).prop_map(|fields| {
                let fields: Vec<(Arc<str>, Value)> =
                    fields.into_iter().map(|(name, value)| (name.into(), value)).collect();
                Value::Record(fields.into())
            }),
        ]
    })
}

/// Equality as the standard has it: false where a part differs, otherwise unknown if a part is. `Err` where
/// some part cannot be compared: then it is an error, or false if a part that differs is looked at before.
fn reference_equals(a: &Value, b: &Value) -> Result<Option<bool>, ()> {
    let of_parts = |pairs: Vec<(&Value, &Value)>| {
        let parts: Vec<Option<bool>> =
            pairs.into_iter().map(|(x, y)| reference_equals(x, y)).collect::<Result<_, ()>>()?;
        Ok(match parts.contains(&Some(false)) {
            true => Some(false),
            false => (!parts.contains(&None)).then_some(true),
        })
    };
    match (a, b) {
        (Value::Null, _) | (_, Value::Null) => Ok(None),
        (Value::List(x), Value::List(y)) if x.len() != y.len() => Ok(Some(false)),
        (Value::List(x), Value::List(y)) => of_parts(x.iter().zip(y.iter()).collect()),
        (Value::Record(x), Value::Record(y)) => {
            let names = |fields: &[(Arc<str>, Value)]| {
                let mut names: Vec<Arc<str>> = fields.iter().map(|(name, _)| name.clone()).collect();
                names.sort();
                names
            };
            if names(x) != names(y) {
                return Ok(Some(false));
            }
            let other = |name: &str| y.iter().find(|(n, _)| **n == *name).map(|(_, v)| v);
            of_parts(x.iter().filter_map(|(name, v)| Some((v, other(name)?))).collect())
        }
        (Value::List(_) | Value::Record(_), _) | (_, Value::List(_) | Value::Record(_)) => Err(()),
        _ => Ok(Some(reference_order(a, b) == Ordering::Equal)),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn numbers_are_ordered_as_their_digits_are(a in any_number(), b in any_number()) {
        let wanted = reference_order(&a, &b);
        prop_assert_eq!(a.order(&b), wanted, "{:?} and {:?}", a, b);
        prop_assert_eq!(a.compare(&b).expect("numbers"), Some(wanted));
        prop_assert_eq!(a.equals(&b).expect("numbers"), Some(wanted == Ordering::Equal));
        if wanted == Ordering::Equal {
            prop_assert_eq!(hash(&a), hash(&b), "{:?} and {:?} are equal", a, b);
        }
    }

    #[test]
    fn sorting_numbers_of_all_types_sorts_their_digits(mut numbers in prop::collection::vec(any_number(), 0..12)) {
        numbers.sort_by(Value::order);
        for pair in numbers.windows(2) {
            prop_assert_ne!(reference_order(&pair[0], &pair[1]), Ordering::Greater, "{:?}", pair);
        }
    }

    #[test]
    fn equality_of_nested_values_is_unknown_only_where_a_null_decides(a in nested(), b in nested()) {
        match reference_equals(&a, &b) {
            Ok(wanted) => prop_assert_eq!(a.equals(&b).ok(), Some(wanted), "{:?} = {:?}", a, b),
            Err(()) => prop_assert!(!matches!(a.equals(&b), Ok(Some(true) | None)), "{:?} = {:?}", a, b),
        }
        if a == b {
            prop_assert_eq!(hash(&a), hash(&b));
        }
    }

    #[test]
    fn sums_of_decimals_do_not_depend_on_their_order(
        parts in prop::collection::vec((any::<i32>(), 0u32..6), 1..20), turn in 0usize..20,
    ) {
        let of = |&(c, s): &(i32, u32)| Decimal::of(c as i128, s).expect("fits");
        let total = |parts: &[(i32, u32)]| {
            let mut sum = DecimalSum::default();
            parts.iter().for_each(|part| sum.add(of(part)).expect("fits"));
            sum.finish().expect("fits")
        };
        let mut turned = parts.clone();
        turned.rotate_left(turn % parts.len());
        turned.reverse();
        prop_assert_eq!(total(&parts), total(&turned));
        // In millionths, as whole numbers.
        let exact: i128 = parts.iter().map(|&(c, s)| c as i128 * 10i128.pow(6 - s)).sum();
        prop_assert_eq!(total(&parts), Decimal::of(exact, 6).expect("fits"));
    }
}
