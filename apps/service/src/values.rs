//! Values from JSON: parameters of a query, properties of an element.

use std::sync::Arc;

use graphodrome_engine::Parameters;
use graphodrome_graph::{Value, ValueType, parse_text};
use serde_json::Value as Json;

/// A JSON value as it stands; `{"gql": "DATE '2024-05-31'"}` is a literal of the language.
pub fn parameter(json: &Json) -> Result<Value, String> {
    Ok(match json {
        Json::Null => Value::Null,
        Json::Bool(b) => Value::Bool(*b),
        Json::Number(n) => match (n.as_i64(), n.as_f64()) {
            (Some(i), _) => Value::Int(i),
            // Too large for INT64, and exact all the same.
            (None, _) if n.is_u64() => {
                Value::Decimal(n.to_string().parse().map_err(|_| "the number is out of range")?)
            }
            (None, Some(f)) => Value::Float(f),
            _ => return Err(format!("the number {n} is out of range")),
        },
        Json::String(text) => Value::text(text.as_str()),
        Json::Array(items) => Value::list(items.iter().map(parameter).collect::<Result<_, _>>()?),
        Json::Object(fields) => match (fields.get("gql"), fields.len()) {
            (Some(Json::String(text)), 1) => {
                graphodrome_engine::evaluate_constant(text).map_err(|d| d.message)?
            }
            _ => {
                let mut record = vec![];
                for (name, value) in fields {
                    record.push((Arc::from(name.as_str()), parameter(value)?));
                }
                Value::Record(record.into())
            }
        },
    })
}

pub fn parameters(json: &serde_json::Map<String, Json>) -> Result<Parameters, String> {
    json.iter()
        .map(|(name, value)| {
            parameter(value).map(|v| (name.clone(), v)).map_err(|e| format!("the parameter {name}: {e}"))
        })
        .collect()
}

/// A property's value: where its type is declared, texts are read as that type.
pub fn property(json: &Json, declared: Option<&ValueType>) -> Result<Value, String> {
    match (json, declared) {
        (Json::String(text), Some(declared))
            if !matches!(declared, ValueType::Text { .. } | ValueType::Any) =>
        {
            parse_text(declared, text)
                .map_err(|reason| format!("'{text}' is not a valid {declared}: {reason}"))
        }
        _ => parameter(json),
    }
}
