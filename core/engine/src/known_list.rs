//! Lists that are known before the rows, as hash tables: whether a value is in one is one lookup, however long the list.

use std::sync::{Arc, OnceLock};

use graphodrome_graph::{Truth, Value};
use hashbrown::HashSet;

/// The values of a list that are all of one type and can be compared with each other.
#[derive(Debug)]
pub(crate) struct KnownList {
    /// Values of whole numbers are in both.
    ints: HashSet<i64>,
    texts: HashSet<Arc<str>>,
    values: HashSet<Value>,
    of_type: Value,
    with_null: bool,
}

/// Types whose equality is that of single values: two are equal, or not, and never unknown.
fn is_plain(value: &Value) -> bool {
    match value {
        Value::Float(float) => !float.is_nan(),
        Value::Bool(_)
        | Value::Int(_)
        | Value::Decimal(_)
        | Value::Text(_)
        | Value::Bytes(_)
        | Value::Date(_)
        | Value::LocalTime(_)
        | Value::ZonedTime(..)
        | Value::LocalDateTime(_)
        | Value::ZonedDateTime(_) => true,
        _ => false,
    }
}

impl KnownList {
    /// `None` where values are of several types, or none.
    pub fn of(items: &[Value]) -> Option<KnownList> {
        let of_type = items.iter().find(|value| !value.is_null())?.clone();
        let mut list = KnownList {
            ints: HashSet::new(),
            texts: HashSet::new(),
            values: HashSet::new(),
            of_type,
            with_null: false,
        };
        for item in items {
            match item {
                Value::Null => list.with_null = true,
                item if !is_plain(item) || item.kind_order(&list.of_type).is_ne() => return None,
                Value::Int(int) => {
                    list.ints.insert(*int);
                    list.values.insert(item.clone());
                }
                Value::Text(text) => {
                    list.texts.insert(text.clone());
                }
                item => {
                    list.values.insert(item.clone());
                }
            }
        }
        Some(list)
    }

    /// Whether all values are INT64 or null.
    pub fn is_whole(&self) -> bool {
        self.texts.is_empty() && self.ints.len() == self.values.len()
    }

    /// Of a list of whole numbers.
    #[inline]
    pub fn has_int(&self, int: i64) -> Truth {
        if self.ints.contains(&int) { Some(true) } else { self.otherwise() }
    }

    /// `None` if the list has no texts.
    #[inline]
    pub fn has_text(&self, text: &str) -> Option<Truth> {
        if self.texts.is_empty() {
            return None;
        }
        Some(if self.texts.contains(text) { Some(true) } else { self.otherwise() })
    }

    /// What a value that equals none is said to be.
    fn otherwise(&self) -> Truth {
        if self.with_null { None } else { Some(false) }
    }

    /// Whether a value is in the list; the outer `None` where values must be compared one by one.
    #[inline]
    pub fn has(&self, value: &Value) -> Option<Truth> {
        match value {
            Value::Null => Some(None),
            Value::Int(int) if self.is_whole() => Some(self.has_int(*int)),
            Value::Text(text) => self.has_text(text),
            value if is_plain(value) && value.kind_order(&self.of_type).is_eq() => {
                Some(if self.values.contains(value) { Some(true) } else { self.otherwise() })
            }
            _ => None,
        }
    }
}

/// The table of a list in a plan, made when it is asked for first.
#[derive(Clone, Debug, Default)]
pub(crate) struct ListTable(Arc<OnceLock<Option<KnownList>>>);

impl ListTable {
    /// `None` where values must be compared one by one.
    pub fn of(&self, items: &[Value]) -> Option<&KnownList> {
        self.0.get_or_init(|| KnownList::of(items)).as_ref()
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use proptest::prelude::*;

    fn value() -> impl Strategy<Value = Value> {
        prop_oneof![
            4 => (-6i64..6).prop_map(Value::Int),
            2 => (-12i32..12).prop_map(|n| Value::Float(f64::from(n) / 2.0)),
            1 => (-9i32..9).prop_map(|n| Value::Decimal(format!("{n}.50").parse().unwrap())),
            1 => Just(Value::Float(f64::NAN)),
            1 => Just(Value::Null),
            1 => Just(Value::Int(i64::MAX)),
            1 => "[a-c]".prop_map(|t| Value::text(t.as_str())),
        ]
    }

    proptest! {
        /// As IN has it: true if one is equal, otherwise unknown if one comparison is.
        #[test]
        fn a_lookup_says_what_comparisons_say(
            items in prop_oneof![
                prop::collection::vec((-6i64..6).prop_map(Value::Int), 0..20),
                prop::collection::vec(value(), 0..20),
            ],
            value in value(),
        ) {
            let found = KnownList::of(&items).and_then(|list| list.has(&value));
            if let Some(found) = found {
                let mut expected = Some(false);
                for item in &items {
                    match value.equals(item).unwrap() {
                        Some(true) => {
                            expected = Some(true);
                            break;
                        }
                        Some(false) => {}
                        None => expected = None,
                    }
                }
                prop_assert_eq!(found, expected, "{:?} in {:?}", value, items);
            }
        }
    }

    #[test]
    fn lists_of_one_type_are_tables() {
        let ints: Vec<Value> = (0..10).map(Value::Int).collect();
        assert!(KnownList::of(&ints).unwrap().is_whole());
        assert!(KnownList::of(&[]).is_none());
        let mixed: Vec<Value> = ints.iter().cloned().chain([Value::text("x")]).collect();
        assert!(KnownList::of(&mixed).is_none());
        assert!(KnownList::of(&vec![Value::Null; 9]).is_none());
        let texts: Vec<Value> = (0..10).map(|n| Value::text(n.to_string())).collect();
        let texts = KnownList::of(&texts).unwrap();
        assert_eq!(texts.has(&Value::text("3")), Some(Some(true)));
        assert_eq!(texts.has(&Value::text("x")), Some(Some(false)));
        assert_eq!(texts.has(&Value::Int(3)), None);
    }
}
