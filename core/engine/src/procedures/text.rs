//! A measure that was asked for by name and arguments, as the query that gives it.

use std::fmt::Write;

use graphodrome_graph::Value;
use graphodrome_language::ast::*;
use graphodrome_language::{Gives, Procedure, Takes, nearest, parse};

use crate::procedures::procedures;

/// A measure to be asked for.
#[derive(Clone, Debug, Default)]
pub struct MeasureRequest {
    pub name: String,
    /// By name; a node is given by a node pattern: `(:Site {code: 'S-001'})`.
    pub arguments: Vec<(String, Value)>,
    /// So many rows, the foremost first; all without it.
    pub top: Option<u64>,
    /// Columns that become properties of the rows' element: (column, property). The query has no rows then.
    pub set: Vec<(String, String)>,
}

/// The measure of this name; a message with the nearest name where there is none.
pub fn measure(name: &str) -> Result<Procedure, String> {
    let all = procedures();
    if let Some(found) = all.iter().find(|p| p.name.eq_ignore_ascii_case(name)) {
        return Ok(found.clone());
    }
    let near = nearest(name, all.iter().map(|p| p.name)).map(|n| format!("; did you mean {n}?"));
    Err(format!("there is no measure {name}{}", near.unwrap_or_default()))
}

impl MeasureRequest {
    /// The text of the query.
    pub fn query(&self) -> Result<String, String> {
        let procedure = measure(&self.name)?;
        let mut text = String::new();
        let mut fields = vec![];
        for (name, value) in &self.arguments {
            let argument = procedure.argument(name).ok_or_else(|| {
                let all: Vec<&str> = procedure.arguments.iter().map(|a| a.name).collect();
                format!("{} has no argument {name}; its arguments are {}", procedure.name, all.join(", "))
            })?;
            let node = matches!(argument.takes, Takes::Node | Takes::Nodes);
            match (value, node) {
                (Value::Text(pattern), true) => {
                    let variable = format!("{name}_node");
                    let (pattern, variable) = named(pattern, &variable).ok_or_else(|| {
                        format!("{name} is '{pattern}': give a node pattern, as in (:Site {{code: 'S-001'}})")
                    })?;
                    if argument.takes == Takes::Node {
                        let _ = writeln!(text, "MATCH {pattern}");
                        fields.push(format!("{name}: {variable}"));
                    } else {
                        let _ = writeln!(
                            text,
                            "LET {name}_nodes = VALUE {{ MATCH {pattern} RETURN COLLECT_LIST({variable}) }}"
                        );
                        fields.push(format!("{name}: {name}_nodes"));
                    }
                }
                (value, _) => fields.push(format!("{name}: {}", value.literal())),
            }
        }
        for missing in procedure.arguments.iter().filter(|a| a.usual.is_none()) {
            if !self.arguments.iter().any(|(name, _)| *name == missing.name) {
                return Err(format!(
                    "{} needs its argument {}: {}, {}",
                    procedure.name,
                    missing.name,
                    missing.takes.describe(),
                    missing.about
                ));
            }
        }
        let record = if fields.is_empty() { String::new() } else { format!("{{{}}}", fields.join(", ")) };
        let columns: Vec<&str> = procedure.yields.iter().map(|c| c.name).collect();
        let _ = write!(text, "CALL {}({record})\nYIELD ", procedure.name);
        if self.set.is_empty() {
            let list = columns.join(", ");
            let _ = write!(text, "{list}\nRETURN {list}");
            if !procedure.order.is_empty() {
                let _ = write!(text, "\nORDER BY {}", procedure.order);
            }
            if let Some(top) = self.top {
                let _ = write!(text, "\nLIMIT {top}");
            }
            return Ok(text);
        }
        let element = procedure.yields.iter().find(|c| matches!(c.gives, Gives::Node | Gives::Edge));
        let element = match element {
            Some(element) if procedure.once_an_element => element.name,
            _ => {
                return Err(format!("{} has no row for each node or edge that could be set", procedure.name));
            }
        };
        let mut wanted = vec![element];
        let mut sets = vec![];
        for (column, property) in &self.set {
            let known = procedure.yields.iter().find(|c| c.name == column);
            let known = known.ok_or_else(|| {
                format!("{} has no column {column}; its columns are {}", procedure.name, columns.join(", "))
            })?;
            if matches!(known.gives, Gives::Node | Gives::Edge | Gives::Nodes) {
                return Err(format!(
                    "the column {column} is {}, which no property can be",
                    known.gives.describe()
                ));
            }
            if !wanted.contains(&known.name) {
                wanted.push(known.name);
            }
            sets.push(format!("{element}.{} = {}", quoted(property), known.name));
        }
        let _ = write!(text, "{}\nSET {}", wanted.join(", "), sets.join(", "));
        Ok(text)
    }
}

/// A name as it is written: in quotes where it is no plain word.
fn quoted(name: &str) -> String {
    let plain = name
        .chars()
        .enumerate()
        .all(|(i, c)| c == '_' || c.is_ascii_alphabetic() || i > 0 && c.is_ascii_digit());
    let reserved = graphodrome_language::KEYWORDS.iter().any(|k| k.eq_ignore_ascii_case(name));
    if plain && !reserved && !name.is_empty() {
        name.into()
    } else {
        format!("`{}`", name.replace('`', "``"))
    }
}

/// A node pattern with a variable, and the variable: its own or this one.
fn named(pattern: &str, variable: &str) -> Option<(String, String)> {
    let statements = parse(&format!("MATCH {pattern} RETURN 1")).ok()?;
    let [Statement::Query(query)] = &statements[..] else { return None };
    let [part] = &query.parts[..] else { return None };
    let [Clause::Match { pattern: graph_pattern, .. }, Clause::Return(_)] = &part.composite.first.clauses[..]
    else {
        return None;
    };
    let [path] = &graph_pattern.paths[..] else { return None };
    let [PathElement::Node(node)] = &path.term.elements[..] else { return None };
    match &node.filter.variable {
        Some(own) => Some((pattern.into(), own.text.to_string())),
        None => {
            let rest = pattern.trim().strip_prefix('(')?;
            Some((format!("({variable}{rest}"), variable.into()))
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    fn request(name: &str, arguments: &[(&str, Value)]) -> MeasureRequest {
        let arguments = arguments.iter().map(|(n, v)| (n.to_string(), v.clone())).collect();
        MeasureRequest { name: name.into(), arguments, ..Default::default() }
    }

    #[test]
    fn a_measure_becomes_a_query() {
        let plain =
            request("Page_Rank", &[("edges", Value::text("-[:PIPE]->")), ("damping", Value::Float(0.5))]);
        let text = MeasureRequest { top: Some(3), ..plain.clone() }.query().unwrap();
        assert_eq!(
            text,
            "CALL page_rank({edges: '-[:PIPE]->', damping: 0.5})\nYIELD node, score\nRETURN node, score\nORDER BY score DESC\nLIMIT 3"
        );
        let set = vec![("score".into(), "rank".into()), ("score".into(), "order".into())];
        let text = MeasureRequest { set, ..plain }.query().unwrap();
        assert!(text.ends_with("YIELD node, score\nSET node.rank = score, node.`order` = score"), "{text}");
    }

    #[test]
    fn nodes_are_given_by_patterns() {
        let flow = request(
            "maximum_flow",
            &[
                ("source", Value::text("(:Site {code: 'S1'})")),
                ("target", Value::text("(t:Site WHERE t.code = 'S2')")),
            ],
        );
        let text = flow.query().unwrap();
        assert!(
            text.starts_with("MATCH (source_node:Site {code: 'S1'})\nMATCH (t:Site WHERE t.code = 'S2')\n"),
            "{text}"
        );
        assert!(text.contains("{source: source_node, target: t}"), "{text}");
        let text = request("distances", &[("from", Value::text("(:Site)"))]).query().unwrap();
        assert!(text.contains("VALUE { MATCH (from_node:Site) RETURN COLLECT_LIST(from_node) }"), "{text}");
    }

    #[test]
    fn what_cannot_be_asked_for_is_said() {
        let said = |name: &str, arguments: &[(&str, Value)]| request(name, arguments).query().unwrap_err();
        assert!(said("page_rnk", &[]).contains("did you mean page_rank?"));
        assert!(
            said("page_rank", &[("dumping", Value::Float(0.5))]).contains("its arguments are nodes, edges")
        );
        assert!(said("distances", &[]).contains("needs its argument from"));
        assert!(said("distances", &[("from", Value::text("Site"))]).contains("give a node pattern"));
        assert!(said("distances", &[("from", Value::text("(a)-[:X]->(b)"))]).contains("give a node pattern"));
        let set = |name: &str, column: &str| {
            let set = vec![(column.to_string(), "p".into())];
            MeasureRequest { set, ..request(name, &[]) }.query().unwrap_err()
        };
        assert!(set("page_rank", "rank").contains("no column rank"));
        assert!(set("longest_paths", "before").contains("no property can be"));
        assert!(set("diameter", "least").contains("no row for each node or edge"));
        assert!(set("similar_nodes", "score").contains("no row for each node or edge"));
    }

    /// Every text that a request gives is a query that is checked without an error.
    #[test]
    fn every_measure_has_a_query() {
        for procedure in procedures().iter() {
            let needed = procedure.arguments.iter().filter(|a| a.usual.is_none());
            let arguments = needed.map(|a| (a.name.to_string(), Value::text("(:Site)"))).collect();
            let request =
                MeasureRequest { name: procedure.name.into(), arguments, top: Some(5), set: vec![] };
            let text = request.query().unwrap();
            let statements = parse(&text).unwrap();
            let [Statement::Query(query)] = &statements[..] else { panic!("{text}") };
            let known = graphodrome_language::Known { procedures: procedures(), ..Default::default() };
            let errors = graphodrome_language::check_query(query, &known, Some(&[]));
            assert!(
                errors.iter().all(|e| e.severity != graphodrome_language::Severity::Error),
                "{text}: {errors:?}"
            );
        }
    }
}
