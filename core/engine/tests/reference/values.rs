//! Values of the reference: numbers are halves, which is all that its graphs hold.

use std::cmp::Ordering;

use graphodrome_graph::Value;

use super::{Element, Graph, Trouble};

#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Datum {
    Null,
    Truth(bool),
    /// So many halves.
    Number(i64),
    Element(Element),
    List(Vec<Datum>),
    /// What a variable under a quantifier stands for outside of it.
    Group(Vec<Element>),
}

impl Datum {
    pub fn whole(i: i64) -> Datum {
        Datum::Number(2 * i)
    }

    /// None of a value that the reference has no place for.
    pub fn of(value: &Value) -> Option<Datum> {
        let halves = |text: String| {
            let twice = text.parse::<f64>().ok()? * 2.0;
            (twice.fract() == 0.0).then_some(Datum::Number(twice as i64))
        };
        match value {
            Value::Null => Some(Datum::Null),
            Value::Bool(b) => Some(Datum::Truth(*b)),
            Value::Int(i) => Some(Datum::whole(*i)),
            Value::Float(f) => halves(f.to_string()),
            Value::Decimal(d) => halves(d.to_string()),
            Value::List(items) => Some(Datum::List(items.iter().map(Datum::of).collect::<Option<_>>()?)),
            _ => None,
        }
    }

    pub fn number(&self) -> Result<Option<i64>, Trouble> {
        match self {
            Datum::Null => Ok(None),
            Datum::Number(halves) => Ok(Some(*halves)),
            _ => Err(Trouble::Data),
        }
    }

    /// Three-valued equality.
    pub fn equals(&self, other: &Datum) -> Result<Option<bool>, Trouble> {
        match (self, other) {
            (Datum::Null, _) | (_, Datum::Null) => Ok(None),
            (Datum::List(a), Datum::List(b)) if a.len() != b.len() => Ok(Some(false)),
            (Datum::List(a), Datum::List(b)) => {
                let mut all = Some(true);
                for (a, b) in a.iter().zip(b) {
                    match a.equals(b)? {
                        Some(false) => return Ok(Some(false)),
                        None => all = None,
                        Some(true) => {}
                    }
                }
                Ok(all)
            }
            (Datum::Truth(a), Datum::Truth(b)) => Ok(Some(a == b)),
            (Datum::Number(a), Datum::Number(b)) => Ok(Some(a == b)),
            (Datum::Element(a), Datum::Element(b)) => Ok(Some(a == b)),
            _ => Err(Trouble::Data),
        }
    }

    /// Three-valued order, of numbers alone.
    pub fn order(&self, other: &Datum) -> Result<Option<Ordering>, Trouble> {
        let (a, b) = (self.number()?, other.number()?);
        Ok(a.zip(b).map(|(a, b)| a.cmp(&b)))
    }

    /// As the tests write down an answer.
    pub fn text(&self, graph: &Graph) -> String {
        let all = |items: Vec<String>| items.join(", ");
        match self {
            Datum::Null => "NULL".into(),
            Datum::Truth(b) => if *b { "TRUE" } else { "FALSE" }.into(),
            Datum::Number(halves) if halves % 2 == 0 => (halves / 2).to_string(),
            Datum::Number(halves) => (*halves as f64 / 2.0).to_string(),
            Datum::Element(element) => element.text(graph),
            Datum::List(items) => format!("[{}]", all(items.iter().map(|i| i.text(graph)).collect())),
            Datum::Group(items) => format!("[{}]", all(items.iter().map(|i| i.text(graph)).collect())),
        }
    }
}

impl Element {
    fn text(&self, graph: &Graph) -> String {
        let id = |properties: &[(&str, Datum)]| {
            properties.iter().find(|(name, _)| *name == "id").map_or("?".into(), |(_, d)| d.text(graph))
        };
        match self {
            Element::Node(n) => format!("n{}", id(&graph.nodes[*n].properties)),
            Element::Edge(e) => format!("e{}", id(&graph.edges[*e].properties)),
            Element::Path(nodes, edges) => {
                let nodes: Vec<_> = nodes.iter().map(|n| Element::Node(*n).text(graph)).collect();
                let edges: Vec<_> = edges.iter().map(|e| Element::Edge(*e).text(graph)).collect();
                format!("path {} {}", nodes.join(" "), edges.join(" "))
            }
        }
    }
}
