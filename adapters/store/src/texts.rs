//! Texts as PostgreSQL can hold them: it has no U+0000.

use serde_json::Value;

/// The sign for that character.
const SHOWN: &str = "\u{2400}";

/// The text, with a sign in the place of each U+0000: for what people read.
pub(crate) fn legible(text: &str) -> String {
    text.replace('\0', SHOWN)
}

/// The same of every text in it.
pub(crate) fn legible_json(value: Value) -> Value {
    match value {
        Value::String(text) if text.contains('\0') => Value::String(legible(&text)),
        Value::Array(items) => items.into_iter().map(legible_json).collect(),
        Value::Object(fields) => {
            fields.into_iter().map(|(name, value)| (legible(&name), legible_json(value))).collect()
        }
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_cannot_be_held_is_shown_by_a_sign() {
        assert_eq!(legible("a\0b"), "a\u{2400}b");
        let made = legible_json(json!({ "a\0": ["x\0", 1, null], "b": { "c": "plain" } }));
        assert_eq!(made, json!({ "a\u{2400}": ["x\u{2400}", 1, null], "b": { "c": "plain" } }));
    }
}
