//! Signature of a module: `name(argument TYPE, ...) YIELD column TYPE, ...`, and its description.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

use graphodrome_graph::Value;
use graphodrome_language::ast::ExpressionKind;
use graphodrome_language::{Argument, Gives, Procedure, Takes, YieldColumn, parse_expression};

/// Arguments that every procedure has: they say which part of the graph is looked at.
const OF_THE_PART: [&str; 4] = ["nodes", "edges", "view", "weight"];
const MOST_ARGUMENTS: usize = 32;
const LONGEST: usize = 4096;

#[derive(Clone, Debug)]
pub struct Signature {
    pub procedure: Procedure,
    /// What is taken where an argument is not given.
    pub defaults: BTreeMap<String, Value>,
    /// As it was written, in one line.
    pub text: String,
}

/// Texts of signatures, which live as long as the process: the same text is kept once, however often its module is read.
fn kept(text: &str) -> &'static str {
    static KEPT: Mutex<BTreeMap<String, &'static str>> = Mutex::new(BTreeMap::new());
    let mut all = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = all.get(text) {
        return known;
    }
    let leaked: &'static str = Box::leak(text.to_string().into_boxed_str());
    all.insert(text.into(), leaked);
    leaked
}

/// The parts of a list with commas between, outside of what is in angle brackets or quotes.
fn parts(list: &str) -> Vec<&str> {
    let (mut found, mut from, mut depth, mut quoted) = (vec![], 0, 0, false);
    for (at, c) in list.char_indices() {
        match c {
            '\'' => quoted = !quoted,
            '<' if !quoted => depth += 1,
            '>' if !quoted => depth -= 1,
            ',' if !quoted && depth == 0 => {
                found.push(list[from..at].trim());
                from = at + 1;
            }
            _ => {}
        }
    }
    found.push(list[from..].trim());
    if found == [""] { vec![] } else { found }
}

fn is_name(text: &str) -> bool {
    let mut letters = text.chars();
    letters.next().is_some_and(|c| c.is_ascii_lowercase())
        && letters.all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
        && text.len() <= 64
}

/// A name and a type.
fn typed(text: &str) -> Result<(&str, String), String> {
    let (name, value_type) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
    if !is_name(name) {
        return Err(format!("'{text}': a name is small letters, digits and _, and begins with a letter"));
    }
    Ok((name, value_type.split_whitespace().collect::<String>().to_uppercase()))
}

fn argument(text: &str) -> Result<(Argument, Option<Value>), String> {
    let (declared, default) = match text.split_once('=') {
        Some((declared, default)) => (declared.trim(), Some(default.trim())),
        None => (text, None),
    };
    let (name, value_type) = typed(declared)?;
    if OF_THE_PART.contains(&name) {
        return Err(format!(
            "{name} says which part of the graph is looked at, and is an argument of every procedure"
        ));
    }
    let takes = match value_type.as_str() {
        "NODE" => Takes::Node,
        "LIST<NODE>" => Takes::Nodes,
        "INT64" => Takes::WholeNumber,
        "FLOAT64" => Takes::Number,
        "STRING" => Takes::Text,
        _ => {
            return Err(format!(
                "'{text}': an argument is a NODE, a LIST<NODE>, an INT64, a FLOAT64 or a STRING"
            ));
        }
    };
    let value = match default {
        None => None,
        Some(written) => match parse_expression(written).map(|e| e.kind) {
            Ok(ExpressionKind::Literal(value)) => Some(value),
            _ => {
                return Err(format!(
                    "'{text}': what is taken where none is given is a number or a text in quotes"
                ));
            }
        },
    };
    let fits = match (&value, takes) {
        (None, _) => true,
        (Some(Value::Text(_)), Takes::Text) => true,
        (Some(Value::Int(n)), Takes::WholeNumber) => *n >= 0,
        (Some(value), Takes::Number) => value.as_f64().is_some_and(f64::is_finite),
        _ => false,
    };
    if !fits {
        return Err(format!("'{text}': what is taken where none is given is of another type"));
    }
    let usual = default.map(kept);
    Ok((Argument { name: kept(name), takes, usual, about: kept(&format!("{name} of the procedure")) }, value))
}

fn column(text: &str) -> Result<YieldColumn, String> {
    let (name, value_type) = typed(text)?;
    let gives = match value_type.as_str() {
        "NODE" => Gives::Node,
        "EDGE" => Gives::Edge,
        "FLOAT64" => Gives::Float,
        "INT64" => Gives::WholeNumber,
        "BOOL" => Gives::Truth,
        "STRING" => Gives::Text,
        _ => {
            return Err(format!(
                "'{text}': a column is a NODE, an EDGE, a FLOAT64, an INT64, a BOOL or a STRING"
            ));
        }
    };
    Ok(YieldColumn { name: kept(name), gives, about: kept(&format!("{name} of the procedure")) })
}

impl Signature {
    /// Reads what a module says; the message says what is wrong with it.
    pub fn read(said: &str) -> Result<Signature, String> {
        if said.len() > LONGEST {
            return Err(format!("it is longer than {LONGEST} bytes"));
        }
        let (first, about) = said.trim().split_once('\n').unwrap_or((said.trim(), ""));
        let form = || format!("'{first}' is not of the form name(argument TYPE, ...) YIELD column TYPE, ...");
        let (name, rest) = first.split_once('(').ok_or_else(form)?;
        let (arguments, columns) = rest.rsplit_once(')').ok_or_else(form)?;
        let columns = columns.trim().strip_prefix("YIELD ").ok_or_else(form)?;
        let name = name.trim();
        if !is_name(name) {
            return Err(format!("'{name}': a name is small letters, digits and _, and begins with a letter"));
        }
        let given = parts(arguments).into_iter().map(argument).collect::<Result<Vec<_>, _>>()?;
        let yields = parts(columns).into_iter().map(column).collect::<Result<Vec<_>, _>>()?;
        let mut names: Vec<&str> = given.iter().map(|(a, _)| a.name).collect();
        names.sort_unstable();
        let mut columns: Vec<&str> = yields.iter().map(|c| c.name).collect();
        columns.sort_unstable();
        for all in [&names, &columns] {
            if let Some(twice) = all.windows(2).find(|pair| pair[0] == pair[1]) {
                return Err(format!("{} is there twice", twice[0]));
            }
        }
        if yields.is_empty() || given.len() > MOST_ARGUMENTS || yields.len() > MOST_ARGUMENTS {
            return Err(format!("it has from one to {MOST_ARGUMENTS} columns, and no more arguments"));
        }
        let defaults = given.iter().filter_map(|(a, v)| Some((a.name.to_string(), v.clone()?))).collect();
        let about = about.split_whitespace().collect::<Vec<_>>().join(" ");
        let procedure = Procedure {
            name: kept(name),
            about: if about.is_empty() { "a procedure of one's own" } else { kept(&about) },
            arguments: given.into_iter().map(|(argument, _)| argument).collect(),
            yields,
            order: "",
            once_an_element: false,
            source: "a WebAssembly module",
            cost: "its own",
        };
        Ok(Signature { procedure, defaults, text: first.split_whitespace().collect::<Vec<_>>().join(" ") })
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[test]
    fn a_signature_says_names_types_and_values() {
        let read = Signature::read(
            "spread(from LIST<NODE>, share FLOAT64 = 0.5, word STRING = 'a, b', most INT64 = 3)  YIELD node NODE, seen BOOL\nHow far\n  it goes.",
        )
        .unwrap();
        let procedure = &read.procedure;
        assert_eq!((procedure.name, procedure.about), ("spread", "How far it goes."));
        let arguments: Vec<_> = procedure.arguments.iter().map(|a| (a.name, a.takes, a.usual)).collect();
        assert_eq!(
            arguments,
            [
                ("from", Takes::Nodes, None),
                ("share", Takes::Number, Some("0.5")),
                ("word", Takes::Text, Some("'a, b'")),
                ("most", Takes::WholeNumber, Some("3")),
            ]
        );
        assert_eq!(read.defaults.get("word"), Some(&Value::text("a, b")));
        let columns: Vec<_> = procedure.yields.iter().map(|c| (c.name, c.gives)).collect();
        assert_eq!(columns, [("node", Gives::Node), ("seen", Gives::Truth)]);
        assert!(Signature::read("f() YIELD n NODE").unwrap().procedure.arguments.is_empty());
    }

    #[test]
    fn what_is_wrong_with_a_signature_is_said() {
        for (text, said) in [
            ("", "is not of the form"),
            ("spread YIELD node NODE", "is not of the form"),
            ("spread() RETURN node NODE", "is not of the form"),
            ("Spread() YIELD node NODE", "small letters"),
            ("spread(of) YIELD node NODE", "an argument is a NODE"),
            ("spread(of DATE) YIELD node NODE", "an argument is a NODE"),
            ("spread(of INT64 = 'a') YIELD node NODE", "of another type"),
            ("spread(of INT64 = x) YIELD node NODE", "a number or a text in quotes"),
            ("spread(of NODE = 1) YIELD node NODE", "of another type"),
            ("spread(nodes STRING) YIELD node NODE", "is an argument of every procedure"),
            ("spread(a INT64, a INT64) YIELD node NODE", "a is there twice"),
            ("spread() YIELD node NODE, node EDGE", "node is there twice"),
            ("spread() YIELD node LIST", "a column is a NODE"),
            ("spread() YIELD ", "is not of the form"),
        ] {
            let error = Signature::read(text).unwrap_err();
            assert!(error.contains(said), "{text}: {error}");
        }
        assert!(Signature::read(&"x".repeat(5000)).is_err());
    }
}
