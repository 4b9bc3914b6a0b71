//! Functions of texts.

use graphodrome_graph::{Code, GraphError, Value};
use graphodrome_language::ast::NormalForm;
use unicode_normalization::UnicodeNormalization;

use super::signature::{Function, domain, text, wrong};
use crate::scope::Scope;

/// `SUBSTRING(text FROM start FOR length)`: characters, counted from 1; what lies outside the text is left out.
pub(super) fn substring(function: Function, arguments: &[Value]) -> Result<Value, GraphError> {
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

pub(super) fn replace(function: Function, arguments: &[Value], scope: &Scope) -> Result<Value, GraphError> {
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

/// A text in one of Unicode's normal forms.
pub(crate) fn normalized(text: &str, form: NormalForm) -> String {
    match form {
        NormalForm::Nfc => text.nfc().collect(),
        NormalForm::Nfd => text.nfd().collect(),
        NormalForm::Nfkc => text.nfkc().collect(),
        NormalForm::Nfkd => text.nfkd().collect(),
    }
}

pub(super) fn trim(function: Function, arguments: &[Value]) -> Result<Value, GraphError> {
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
