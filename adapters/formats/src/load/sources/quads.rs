//! N-Quads and N-Triples as JSON Lines. Every subject and every object that is no literal is a node
//! (`@id`, `@types`: the local names of its types); its literals are its properties, under the local names
//! of their predicates (the whole IRI where two would have one name; `name@de` for a text with a
//! language; a list where a predicate is given more than once). Every other triple is an edge (`@source`,
//! `@target`, `@label`, `@graph`). A resource of type rdf:Statement is the edge that it describes: its
//! literals are the edge's properties.

use std::collections::HashMap;
use std::io::Write;

use oxrdf::{GraphName, Literal, NamedOrBlankNode, Term};
use oxttl::NQuadsParser;
use serde_json::{Map, Value, json};

use crate::load::Progress;
use crate::mapping::Part;

/// Quads between two questions whether to go on.
const ASK_EVERY: u64 = 1 << 14;

const RDF: &str = "http://www.w3.org/1999/02/22-rdf-syntax-ns#";
const XSD: &str = "http://www.w3.org/2001/XMLSchema#";

#[derive(Default)]
struct Resource {
    types: Vec<String>,
    properties: Map<String, Value>,
    /// Subject, predicate and object, where it describes an edge.
    statement: [Option<String>; 3],
    is_statement: bool,
}

#[derive(Default)]
struct Graph {
    numbers: HashMap<String, usize>,
    resources: Vec<(String, Resource)>,
    /// Subject, predicate, object, graph.
    edges: Vec<(usize, String, usize, Option<String>)>,
    /// The predicate that has a name.
    names: HashMap<String, String>,
}

impl Graph {
    fn number(&mut self, id: String) -> usize {
        let next = self.resources.len();
        *self.numbers.entry(id).or_insert_with_key(|id| {
            self.resources.push((id.clone(), Resource::default()));
            next
        })
    }

    /// The short name of an IRI, which no other IRI has.
    fn name(&mut self, iri: &str) -> String {
        let local = iri.rsplit(['#', '/', ':']).next().filter(|l| !l.is_empty()).unwrap_or(iri);
        let owner = self.names.entry(local.to_string()).or_insert_with(|| iri.to_string());
        if owner == iri { local.to_string() } else { iri.to_string() }
    }

    fn add_literal(&mut self, subject: usize, predicate: &str, literal: &Literal) {
        let mut name = self.name(predicate);
        if let Some(language) = literal.language() {
            name = format!("{name}@{language}");
        }
        let value = value(literal);
        match self.resources[subject].1.properties.get_mut(&name) {
            None => {
                self.resources[subject].1.properties.insert(name, value);
            }
            Some(Value::Array(items)) => items.push(value),
            Some(known) => *known = json!([known.take(), value]),
        }
    }
}

fn value(literal: &Literal) -> Value {
    let text = literal.value();
    let typed = match literal.datatype().as_str().strip_prefix(XSD) {
        Some("boolean") => match text {
            "true" | "1" => Some(json!(true)),
            "false" | "0" => Some(json!(false)),
            _ => None,
        },
        Some("integer" | "int" | "long" | "short" | "byte" | "nonNegativeInteger" | "positiveInteger") => {
            text.parse::<i64>().ok().map(Value::from)
        }
        Some("double" | "float") => text.parse::<f64>().ok().filter(|f| f.is_finite()).map(Value::from),
        _ => None,
    };
    typed.unwrap_or_else(|| json!(text))
}

fn resource(subject: &NamedOrBlankNode) -> String {
    match subject {
        NamedOrBlankNode::NamedNode(node) => node.as_str().to_string(),
        NamedOrBlankNode::BlankNode(node) => node.to_string(),
    }
}

fn read(bytes: &[u8], progress: &Progress) -> Result<Graph, String> {
    let mut graph = Graph::default();
    let mut count = 0u64;
    for quad in NQuadsParser::new().for_slice(bytes) {
        let quad = quad.map_err(|e| {
            let place = e.location().start;
            format!("line {}, column {}: {e}", place.line + 1, place.column + 1)
        })?;
        count += 1;
        if count.is_multiple_of(ASK_EVERY) {
            progress.check().map_err(|e| e.to_string())?;
        }
        let subject = graph.number(resource(&quad.subject));
        let predicate = quad.predicate.as_str();
        let of_rdf = predicate.strip_prefix(RDF);
        let object = match &quad.object {
            Term::Literal(literal) => {
                graph.add_literal(subject, predicate, literal);
                continue;
            }
            Term::NamedNode(node) => node.as_str().to_string(),
            Term::BlankNode(node) => node.to_string(),
            #[allow(unreachable_patterns)] // Triple terms are there with another feature set of the library.
            _ => return Err("a triple inside a triple is not read".into()),
        };
        let place = ["subject", "predicate", "object"].iter().position(|p| of_rdf == Some(p));
        if let Some(place) = place {
            graph.resources[subject].1.statement[place] = Some(object);
        } else if of_rdf == Some("type") {
            if object == format!("{RDF}Statement") {
                graph.resources[subject].1.is_statement = true;
            } else {
                let name = graph.name(&object);
                graph.resources[subject].1.types.push(name);
            }
        } else {
            let object = graph.number(object);
            let name = match &quad.graph_name {
                GraphName::NamedNode(node) => Some(node.as_str().to_string()),
                GraphName::BlankNode(node) => Some(node.to_string()),
                GraphName::DefaultGraph => None,
            };
            graph.edges.push((subject, predicate.to_string(), object, name));
        }
    }
    Ok(graph)
}

pub(super) fn rows(
    bytes: &[u8], part: Part, out: &mut impl Write, progress: &Progress,
) -> Result<(), String> {
    let mut graph = read(bytes, progress)?;
    let mut write = |row: Map<String, Value>| -> Result<(), String> {
        serde_json::to_writer(&mut *out, &Value::Object(row)).map_err(|e| e.to_string())?;
        out.write_all(b"\n").map_err(super::cannot_keep)
    };
    let mut described: HashMap<(String, String, String), Vec<usize>> = HashMap::new();
    for (number, (id, resource)) in graph.resources.iter().enumerate() {
        if !resource.is_statement {
            continue;
        }
        let [Some(subject), Some(predicate), Some(object)] = &resource.statement else {
            return Err(format!("the statement {id} lacks its subject, predicate or object"));
        };
        let triple = (subject.clone(), predicate.clone(), object.clone());
        described.entry(triple).or_default().push(number);
    }
    if part == Part::Nodes {
        // What only statements speak of is a node too.
        let ends: Vec<String> = described.keys().flat_map(|(s, _, o)| [s.clone(), o.clone()]).collect();
        ends.into_iter().for_each(|end| {
            graph.number(end);
        });
        for (id, resource) in graph.resources.into_iter().filter(|(_, r)| !r.is_statement) {
            let mut row = Map::new();
            row.insert("@id".into(), json!(id));
            row.insert("@types".into(), json!(resource.types));
            row.extend(resource.properties);
            write(row)?;
        }
        return Ok(());
    }
    let edges = std::mem::take(&mut graph.edges);
    let mut named: HashMap<(String, String, String), Option<String>> = HashMap::new();
    for (subject, predicate, object, name) in edges {
        let ends = (graph.resources[subject].0.clone(), graph.resources[object].0.clone());
        let triple = (ends.0, predicate, ends.1);
        if described.contains_key(&triple) {
            named.insert(triple, name);
            continue;
        }
        let label = graph.name(&triple.1);
        write(edge(&triple, label, &name, Map::new()))?;
    }
    let mut described: Vec<_> = described.into_iter().collect();
    described.sort();
    for (triple, statements) in described {
        let label = graph.name(&triple.1);
        for number in statements {
            let properties = std::mem::take(&mut graph.resources[number].1.properties);
            write(edge(&triple, label.clone(), named.get(&triple).unwrap_or(&None), properties))?;
        }
    }
    Ok(())
}

fn edge(
    triple: &(String, String, String), label: String, graph: &Option<String>, properties: Map<String, Value>,
) -> Map<String, Value> {
    let mut row = Map::new();
    row.insert("@source".into(), json!(triple.0));
    row.insert("@target".into(), json!(triple.2));
    row.insert("@label".into(), json!(label));
    row.insert("@graph".into(), json!(graph));
    row.extend(properties);
    row
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    const FILE: &str = r#"<http://a.example/s1> <http://www.w3.org/1999/02/22-rdf-syntax-ns#type> <http://a.example/ns#Site> .
<http://a.example/s1> <http://a.example/ns#name> "Mill"@en .
<http://a.example/s1> <http://a.example/ns#level> "3"^^<http://www.w3.org/2001/XMLSchema#integer> .
<http://a.example/s1> <http://a.example/ns#tag> "x" .
<http://a.example/s1> <http://a.example/ns#tag> "y" .
<http://a.example/s1> <http://b.example/tag> "z" .
<http://a.example/s1> <http://a.example/ns#feeds> _:p <http://a.example/g> .
_:p <http://a.example/ns#feeds> <http://a.example/s1> .
_:e <http://www.w3.org/1999/02/22-rdf-syntax-ns#type> <http://www.w3.org/1999/02/22-rdf-syntax-ns#Statement> .
_:e <http://www.w3.org/1999/02/22-rdf-syntax-ns#subject> _:p .
_:e <http://www.w3.org/1999/02/22-rdf-syntax-ns#predicate> <http://a.example/ns#feeds> .
_:e <http://www.w3.org/1999/02/22-rdf-syntax-ns#object> <http://a.example/s1> .
_:e <http://a.example/ns#length> "2.5"^^<http://www.w3.org/2001/XMLSchema#double> .
"#;

    fn lines(text: &str, part: Part) -> Result<Vec<String>, String> {
        let mut out = vec![];
        rows(text.as_bytes(), part, &mut out, &Progress::default())?;
        Ok(String::from_utf8(out).unwrap().lines().map(str::to_string).collect())
    }

    #[test]
    fn triples_become_rows() {
        let nodes = lines(FILE, Part::Nodes).unwrap();
        assert_eq!(
            nodes,
            [
                r#"{"@id":"http://a.example/s1","@types":["Site"],"name@en":"Mill","level":3,"tag":["x","y"],"http://b.example/tag":"z"}"#,
                r#"{"@id":"_:p","@types":[]}"#,
            ]
        );
        let edges = lines(FILE, Part::Edges).unwrap();
        assert_eq!(
            edges,
            [
                r#"{"@source":"http://a.example/s1","@target":"_:p","@label":"feeds","@graph":"http://a.example/g"}"#,
                r#"{"@source":"_:p","@target":"http://a.example/s1","@label":"feeds","@graph":null,"length":2.5}"#,
            ]
        );
    }

    #[test]
    fn a_fault_has_its_line() {
        let error = lines(&format!("{FILE}<broken"), Part::Nodes).unwrap_err();
        assert!(error.starts_with("line 14"), "{error}");
    }
}
