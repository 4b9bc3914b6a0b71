//! The fields of one row, and the values that a mapping makes of them.

use graphodrome_engine::read_by_template;
use graphodrome_graph::{Value, ValueType, parse_text};

use crate::load::RejectKind;
use crate::load::plan::{Computed, Input, PropertyPlan};
use crate::load::rows::RawReject;

/// A field as it stands in the row.
pub(super) enum Fields<'r> {
    Null,
    Text(&'r str),
    Json(&'r serde_json::Value),
    /// Of a source with types of its own.
    Value(Value),
    /// No text, and why.
    Bad(&'r str),
}

/// A row: its fields by column, and how they are shown where they are no good.
pub(super) struct Row<'a, 'r> {
    pub field: &'a dyn Fn(usize) -> Fields<'r>,
    pub raw: &'a dyn Fn(usize) -> Option<String>,
    pub null: &'a [String],
}

/// Why a row cannot be taken, before it is known where it stands.
#[derive(Clone, Debug)]
pub(super) struct FieldError {
    kind: RejectKind,
    column: Option<usize>,
    /// The value, where it is not the column's text.
    value: Option<String>,
    reason: String,
}

impl FieldError {
    pub fn new(kind: RejectKind, input: &Input, reason: String) -> FieldError {
        let value = match input {
            Input::Constant(value) => Some(value.to_string()),
            _ => None,
        };
        FieldError { kind, column: input.column(), value, reason }
    }

    pub fn reject(self, offset: u64, row: &Row<'_, '_>) -> RawReject {
        let value = self.value.or_else(|| self.column.and_then(|column| (row.raw)(column)));
        RawReject { offset, column: self.column, value, kind: self.kind, reason: self.reason }
    }
}

/// What a row gives of a property.
pub(super) fn given_value(property: &PropertyPlan, row: &Row<'_, '_>) -> Result<Value, FieldError> {
    Ok(match (property.date_order, &property.input) {
        (Some(order), Input::Column(column)) => match (row.field)(*column) {
            Fields::Text(text) => match order.read(text) {
                Some(date) => Value::Date(date),
                None => row.value(&property.input, &property.value_type)?,
            },
            _ => row.value(&property.input, &property.value_type)?,
        },
        _ => row.value(&property.input, &property.value_type)?,
    })
}

/// The value of a property, with its default, and not null where it must not be.
pub(super) fn read_value(property: &PropertyPlan, row: &Row<'_, '_>) -> Result<Value, FieldError> {
    let mut value = given_value(property, row)?;
    if value.is_null()
        && let Some(default) = &property.default
    {
        value = default.clone();
    }
    if value.is_null() && property.not_null {
        let reason = format!("property {} must not be null", property.name);
        return Err(FieldError::new(RejectKind::Value, &property.input, reason));
    }
    Ok(value)
}

/// Whether a filter lets a row through: unknown does not.
pub(super) fn truth(filter: &Computed, row: &Row<'_, '_>) -> Result<bool, FieldError> {
    match row.computed(filter)? {
        Value::Bool(holds) => Ok(holds),
        Value::Null => Ok(false),
        other => Err(FieldError {
            kind: RejectKind::Expression,
            column: filter.columns.first().copied(),
            value: Some(other.to_string()),
            reason: format!("a where must be BOOL, found {}", other.type_name()),
        }),
    }
}

impl Row<'_, '_> {
    pub fn value(&self, input: &Input, wanted: &ValueType) -> Result<Value, FieldError> {
        let failed = |reason: String| FieldError::new(RejectKind::Value, input, reason);
        match input {
            Input::Column(column) => of_field(wanted, (self.field)(*column)).map_err(failed),
            Input::Split(column, separator) => match (self.field)(*column) {
                Fields::Text(text) => self.items(text, separator, wanted).map_err(failed),
                field => of_field(wanted, field).map_err(failed),
            },
            Input::Pattern(column, pattern) => match (self.field)(*column) {
                Fields::Text(text) => by_pattern(text, pattern, wanted).map_err(failed),
                field => of_field(wanted, field).map_err(failed),
            },
            Input::Computed(computed) => {
                let value = self.computed(computed)?;
                let shown = value.to_string();
                read_again(wanted, value)
                    .map_err(|reason| FieldError { value: Some(shown), ..failed(reason) })
            }
            Input::Constant(value) => read_again(wanted, value.clone()).map_err(failed),
            Input::Nothing => Ok(Value::Null),
        }
    }

    fn computed(&self, computed: &Computed) -> Result<Value, FieldError> {
        let failed = |column: Option<usize>, reason: String| FieldError {
            kind: RejectKind::Expression,
            column,
            value: None,
            reason,
        };
        let mut values = Vec::with_capacity(computed.columns.len());
        for &column in &computed.columns {
            let value = of_field(&ValueType::Any, (self.field)(column));
            values.push(value.map_err(|reason| failed(Some(column), reason))?);
        }
        let value = computed.expression.value(&values);
        value.map_err(|e| failed(computed.columns.first().copied(), e.message))
    }

    /// A list out of one text. An item that is a word for null is null.
    fn items(&self, text: &str, separator: &str, wanted: &ValueType) -> Result<Value, String> {
        let item_type = match wanted {
            ValueType::List(item) | ValueType::LimitedList { item, .. } => item,
            ValueType::Any => &ValueType::TEXT,
            other => return Err(format!("a list cannot be {other}")),
        };
        let item = |part: &str| match part.trim() {
            part if self.null.iter().any(|null| null == part) => Ok(Value::Null),
            part => of_field(item_type, Fields::Text(part)),
        };
        let items: Vec<Value> = text.split(separator).map(item).collect::<Result<_, _>>()?;
        typed(wanted, Value::list(items))
    }
}

fn by_pattern(text: &str, pattern: &str, wanted: &ValueType) -> Result<Value, String> {
    let read = read_by_template(text, pattern)?;
    Ok(match wanted {
        ValueType::LocalDateTime => Value::LocalDateTime(read),
        ValueType::LocalTime => Value::LocalTime(read.time()),
        ValueType::Date | ValueType::Any => Value::Date(read.date()),
        other => {
            return Err(format!("a pattern reads a DATE, a LOCAL DATETIME or a LOCAL TIME, not {other}"));
        }
    })
}

/// A computed value: a text is read as one that stood in a column.
fn read_again(wanted: &ValueType, value: Value) -> Result<Value, String> {
    match (&value, wanted) {
        (Value::Null, _) => Ok(value),
        (Value::Text(text), _) => of_field(wanted, Fields::Text(text)),
        (Value::List(items), ValueType::List(item)) => {
            let items = items.iter().map(|v| read_again(item, v.clone())).collect::<Result<Vec<_>, _>>()?;
            typed(wanted, Value::list(items))
        }
        _ => typed(wanted, value),
    }
}

fn of_field(wanted: &ValueType, field: Fields<'_>) -> Result<Value, String> {
    match field {
        Fields::Null => Ok(Value::Null),
        Fields::Text(text) => {
            if matches!(wanted, ValueType::Text { .. } | ValueType::Any) && text.contains('\0') {
                return Err("the text has a NUL character".into());
            }
            let structured = matches!(
                wanted,
                ValueType::List(_) | ValueType::LimitedList { .. } | ValueType::Record | ValueType::Fields(_)
            );
            if structured {
                // A list or a record stands in a text as JSON.
                let json = serde_json::from_str::<serde_json::Value>(text)
                    .map_err(|e| format!("not a valid {wanted}, which is written as JSON: {e}"))?;
                return of_json(wanted, &json);
            }
            parse_text(wanted, text).map_err(|reason| format!("not a valid {wanted}: {reason}"))
        }
        Fields::Bad(reason) => Err(reason.into()),
        Fields::Value(value) => typed(wanted, value),
        Fields::Json(json) => of_json(wanted, json),
    }
}

fn of_json(wanted: &ValueType, json: &serde_json::Value) -> Result<Value, String> {
    let value = match json {
        serde_json::Value::Null => return Ok(Value::Null),
        serde_json::Value::String(text) => return of_field(wanted, Fields::Text(text)),
        serde_json::Value::Bool(b) => Value::Bool(*b),
        serde_json::Value::Number(n) => match (wanted, n.as_i64(), n.as_f64()) {
            (ValueType::Decimal { .. }, ..) => {
                return parse_text(wanted, &n.to_string())
                    .map_err(|reason| format!("not a valid {wanted}: {reason}"));
            }
            (_, Some(i), _) => Value::Int(i),
            (_, None, Some(_)) if n.is_u64() => return Err(format!("{n} is too large for a whole number")),
            (_, None, Some(f)) => Value::Float(f),
            _ => return Err("the number is out of range".into()),
        },
        serde_json::Value::Array(items) => {
            let item_type = match wanted {
                ValueType::List(item) | ValueType::LimitedList { item, .. } => item,
                ValueType::Any => &ValueType::Any,
                _ => return Err(format!("expected {wanted}, found a list")),
            };
            Value::list(items.iter().map(|i| of_json(item_type, i)).collect::<Result<_, _>>()?)
        }
        serde_json::Value::Object(fields) => {
            let field = |(name, value): (&String, &serde_json::Value)| {
                let wanted = match wanted {
                    ValueType::Fields(fields) => {
                        fields.iter().find(|f| *f.name == **name).map_or(&ValueType::Any, |f| &f.value_type)
                    }
                    _ => &ValueType::Any,
                };
                Ok::<_, String>((name.as_str().into(), of_json(wanted, value)?))
            };
            Value::Record(fields.iter().map(field).collect::<Result<Vec<_>, _>>()?.into())
        }
    };
    typed(wanted, value)
}

/// A value that has a type already.
fn typed(wanted: &ValueType, value: Value) -> Result<Value, String> {
    let value = wanted.assign(value);
    if wanted.accepts(&value) {
        Ok(value)
    } else {
        Err(format!("expected {wanted}, found {} {}", value.type_name(), value.excerpt()))
    }
}
