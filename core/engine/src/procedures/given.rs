//! The arguments of a call, read from its record.

use std::sync::Arc;

use graphodrome_algorithms::Stopped;
use graphodrome_graph::{Code, Value};
use graphodrome_language::{Diagnostic, Procedure, Span, Takes, nearest};

use crate::evaluate::arithmetic::wrong_type;
use crate::outcome::Outcome;

#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Given {
    fields: Vec<(Arc<str>, Value)>,
    /// Names of all arguments that the procedure takes.
    arguments: Vec<&'static str>,
}

impl Given {
    /// Checks that the record has only arguments of the procedure, of the types they take; null is as if not given.
    pub fn read(value: Value, procedure: &Procedure, span: Span) -> Outcome<Given> {
        let fields = match value {
            Value::Null => vec![],
            Value::Record(fields) => fields.to_vec(),
            other => {
                let what = format!("the arguments of {}", procedure.name);
                return Err(wrong_type(&other, &what, "a RECORD", span));
            }
        };
        let given = Given {
            fields: fields.into_iter().filter(|(_, v)| !v.is_null()).collect(),
            arguments: procedure.arguments.iter().map(|a| a.name).collect(),
        };
        for (name, value) in &given.fields {
            let Some(argument) = procedure.argument(name) else {
                let all = procedure.arguments.iter().map(|a| a.name);
                let near = nearest(name, all).map(|near| format!("did you mean {near}?"));
                let text = format!("{} has no argument {name}", procedure.name);
                return Err(Diagnostic::unknown(span, text).maybe_hint(near));
            };
            let fits = match argument.takes {
                Takes::NodePattern | Takes::EdgePattern | Takes::Text => matches!(value, Value::Text(_)),
                Takes::Number => value.as_f64().is_some_and(f64::is_finite),
                Takes::WholeNumber => matches!(value, Value::Int(n) if *n >= 0),
                Takes::Node => matches!(value, Value::Node(_)),
                Takes::Nodes => match value {
                    Value::List(items) => items.iter().all(|v| matches!(v, Value::Node(_))),
                    other => matches!(other, Value::Node(_)),
                },
            };
            if !fits {
                let wanted = match argument.takes {
                    Takes::WholeNumber => "a whole number from 0 on",
                    takes => takes.describe(),
                };
                return Err(wrong_type(value, &format!("{name} of {}", procedure.name), wanted, span));
            }
        }
        if let Some(missing) =
            procedure.arguments.iter().find(|a| a.usual.is_none() && given.value(a.name).is_none())
        {
            let text = format!("{} needs its argument {}", procedure.name, missing.name);
            return Err(Diagnostic::error(Code::NULL_NOT_ALLOWED, span, text).hint(missing.about));
        }
        Ok(given)
    }

    /// Whether the procedure has this argument at all.
    pub fn takes(&self, name: &str) -> bool {
        self.arguments.contains(&name)
    }

    pub fn value(&self, name: &str) -> Option<&Value> {
        self.fields.iter().find(|(n, _)| **n == *name).map(|(_, v)| v)
    }

    pub fn text(&self, name: &str) -> Option<&str> {
        match self.value(name) {
            Some(Value::Text(text)) => Some(text),
            _ => None,
        }
    }

    pub fn number(&self, name: &str, usual: f64) -> f64 {
        self.value(name).and_then(Value::as_f64).unwrap_or(usual)
    }

    pub fn whole(&self, name: &str, usual: usize) -> usize {
        match self.value(name) {
            Some(Value::Int(n)) => *n as usize,
            _ => usual,
        }
    }

    /// A number that must lie in a range.
    pub fn number_in(
        &self, name: &str, usual: f64, range: std::ops::RangeInclusive<f64>,
    ) -> Result<f64, Stopped> {
        let number = self.number(name, usual);
        if range.contains(&number) {
            return Ok(number);
        }
        Err(Stopped::NoAnswer(format!(
            "{name} is {number}: it must be from {} to {}",
            range.start(),
            range.end()
        )))
    }

    /// Nodes of the graph.
    pub fn nodes(&self, name: &str) -> Vec<u32> {
        let of = |value: &Value| match value {
            Value::Node(n) => Some(*n),
            _ => None,
        };
        match self.value(name) {
            Some(Value::List(items)) => items.iter().filter_map(of).collect(),
            Some(value) => of(value).into_iter().collect(),
            None => vec![],
        }
    }
}
