//! A saved query as a text: its name, folder, description and parameters as comments before it, so that
//! a library is a folder of files that can be read, compared and run as they are.
//!
//! ```text
//! -- name: sites_above
//! -- folder: reports
//! -- description: Sites higher than a level
//! -- parameter: $level INT NOT NULL = 100
//! MATCH (s:Site) WHERE s.elevation_m > $level RETURN s.code AS code
//! ```

use graphodrome_engine::evaluate_constant;
use graphodrome_graph::{Value, ValueType};
use graphodrome_language::parse_value_type;
use serde::{Deserialize, Serialize};

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SavedQuery {
    #[serde(default)]
    pub name: String,
    /// Names with `/` between them; empty for none.
    #[serde(default)]
    pub folder: String,
    #[serde(default)]
    pub description: String,
    #[serde(default)]
    pub parameters: Vec<SavedParameter>,
    pub text: String,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SavedParameter {
    pub name: String,
    /// A value type of the language, such as STRING or INT64.
    #[serde(rename = "type")]
    pub value_type: String,
    #[serde(default)]
    pub not_null: bool,
    /// A literal of the language; without it the parameter must be given.
    #[serde(default)]
    pub default: Option<String>,
}

impl SavedParameter {
    pub fn value_type(&self) -> Result<ValueType, String> {
        parse_value_type(&self.value_type)
            .map_err(|e| format!("the parameter ${}: {} is no type: {e}", self.name, self.value_type))
    }

    /// The value where none is given.
    pub fn default_value(&self) -> Result<Option<Value>, String> {
        let Some(text) = &self.default else { return Ok(None) };
        let value = evaluate_constant(text).map_err(|e| {
            format!("the parameter ${}: the default {text} is no literal: {}", self.name, e.message)
        })?;
        self.check(value).map(Some)
    }

    /// The value, if it is of the parameter's type.
    pub fn check(&self, value: Value) -> Result<Value, String> {
        let wanted = self.value_type()?;
        let null = if self.not_null { " NOT NULL" } else { "" };
        let fits = if value.is_null() { !self.not_null } else { wanted.accepts(&value) };
        if fits {
            return Ok(wanted.assign(value));
        }
        Err(format!(
            "the parameter ${} must be {wanted}{null}, found {} {}",
            self.name,
            value.type_name(),
            value.excerpt()
        ))
    }
}

fn is_name(text: &str) -> bool {
    let mut characters = text.chars();
    characters.next().is_some_and(char::is_alphabetic)
        && text.len() <= 100
        && characters.all(|c| c.is_alphanumeric() || c == '_' || c == '-')
}

impl SavedQuery {
    /// What is wrong with it, if anything.
    pub fn check(&self) -> Result<(), String> {
        if !is_name(&self.name) {
            return Err(format!(
                "'{}' is no name for a query: letters, digits, _ and -, beginning with a letter, at most 100",
                self.name
            ));
        }
        let folders = self.folder.split('/').filter(|_| !self.folder.is_empty());
        if let Some(wrong) = folders.into_iter().find(|f| !is_name(f)) {
            return Err(format!("'{wrong}' in the folder {} is no name", self.folder));
        }
        for (i, parameter) in self.parameters.iter().enumerate() {
            parameter.value_type()?;
            parameter.default_value()?;
            if self.parameters[..i].iter().any(|p| p.name == parameter.name) {
                return Err(format!("the parameter ${} is declared twice", parameter.name));
            }
        }
        Ok(())
    }

    /// The query with its header.
    pub fn to_text(&self) -> String {
        let mut out = format!("-- name: {}\n", self.name);
        if !self.folder.is_empty() {
            out.push_str(&format!("-- folder: {}\n", self.folder));
        }
        for line in self.description.lines() {
            out.push_str(&format!("-- description: {line}\n"));
        }
        for p in &self.parameters {
            let null = if p.not_null { " NOT NULL" } else { "" };
            let default = p.default.as_ref().map(|d| format!(" = {d}")).unwrap_or_default();
            out.push_str(&format!("-- parameter: ${} {}{null}{default}\n", p.name, p.value_type));
        }
        if self.text.trim_start().starts_with("--") {
            out.push('\n'); // So that a comment of the query stays one.
        }
        out.push_str(self.text.trim_end());
        out.push('\n');
        out
    }

    /// Reads a text with its header: the comments before the query. What the header does not say is empty,
    /// and a comment that is none of its lines describes the query.
    pub fn from_text(text: &str) -> Result<SavedQuery, String> {
        let mut query = SavedQuery::default();
        let mut rest = text;
        while let Some(line) = rest.lines().next() {
            let Some(comment) = line.trim().strip_prefix("--") else { break };
            let (key, value) = comment.split_once(':').unwrap_or(("", comment));
            let (key, value) = match key.trim() {
                "name" | "folder" | "parameter" => (key.trim(), value.trim()),
                "description" => ("description", value.trim()),
                _ => ("description", comment.trim()),
            };
            match key {
                "name" => query.name = value.into(),
                "folder" => query.folder = value.into(),
                "parameter" => query.parameters.push(parameter(value)?),
                _ => {
                    if !query.description.is_empty() {
                        query.description.push('\n');
                    }
                    query.description.push_str(value);
                }
            }
            rest = rest[line.len()..]
                .strip_prefix("\r\n")
                .or(rest[line.len()..].strip_prefix('\n'))
                .unwrap_or("");
        }
        query.text = rest.trim().to_string();
        if query.text.is_empty() {
            return Err("there is no query after the header".into());
        }
        Ok(query)
    }
}

/// `$level INT NOT NULL = 100`.
fn parameter(text: &str) -> Result<SavedParameter, String> {
    let wrong = || format!("the parameter '{text}' is not written as $name TYPE [NOT NULL] [= literal]");
    let (name, rest) = text.strip_prefix('$').and_then(|t| t.split_once(' ')).ok_or_else(wrong)?;
    let (value_type, default) = match rest.split_once('=') {
        Some((value_type, default)) => (value_type.trim(), Some(default.trim().to_string())),
        None => (rest.trim(), None),
    };
    let (value_type, not_null) = match value_type.strip_suffix("NOT NULL") {
        Some(value_type) => (value_type.trim(), true),
        None => (value_type, false),
    };
    if value_type.is_empty() {
        return Err(wrong());
    }
    Ok(SavedParameter { name: name.into(), value_type: value_type.into(), not_null, default })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_saved_query_and_its_text_are_one() {
        let text = "-- name: sites_above\n-- folder: reports/levels\n-- description: Sites higher\n-- description: than a level\n-- parameter: $level INT NOT NULL = 100\n-- parameter: $name STRING\nMATCH (s:Site)\nRETURN s.code AS code\n";
        let query = SavedQuery::from_text(text).expect("text");
        assert_eq!(query.to_text(), text);
        query.check().expect("well formed");
        assert_eq!(query.parameters[0].default_value(), Ok(Some(Value::Int(100))));
        assert!(query.parameters[0].check(Value::Null).is_err());
        assert!(query.parameters[1].check(Value::Int(1)).is_err());
        let plain = SavedQuery::from_text("-- Sites above a level:\n-- parameter: $level INT\nRETURN 1")
            .expect("text");
        assert_eq!((plain.description.as_str(), plain.parameters.len()), ("Sites above a level:", 1));
        let commented =
            SavedQuery { name: "c".into(), text: "-- one\nRETURN 1".into(), ..SavedQuery::default() };
        assert_eq!(SavedQuery::from_text(&commented.to_text()), Ok(commented));
        for wrong in ["-- parameter: level INT\nRETURN 1", "-- name: x\n"] {
            assert!(SavedQuery::from_text(wrong).is_err(), "{wrong}");
        }
        assert!(SavedQuery { name: "a b".into(), ..query }.check().is_err());
    }
}
