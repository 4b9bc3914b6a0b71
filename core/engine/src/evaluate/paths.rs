//! Paths out of what a pattern has bound, and out of listed elements.

use std::sync::Arc;

use graphodrome_graph::{Code, PathValue, Value};
use graphodrome_language::{Diagnostic, Span};

use super::Evaluator;
use super::arithmetic::wrong_type;
use crate::expression::{Expr, Piece};
use crate::outcome::Outcome;
use crate::row::Row;

impl Evaluator<'_> {
    /// A path out of its nodes and edges in turn: each edge must join its neighbours.
    pub(super) fn path_of(&mut self, items: &[Expr], row: Row<'_>, span: Span) -> Outcome<Value> {
        let mut path = PathValue { nodes: vec![], edges: vec![] };
        for item in items {
            match (self.value(item, row)?, path.nodes.len() == path.edges.len()) {
                (Value::Null, _) => return Ok(Value::Null),
                (Value::Node(n), true) => path.nodes.push(n),
                (Value::Edge(e), false) => path.edges.push(e),
                (other, node) => {
                    let wanted = if node { "a NODE" } else { "an EDGE" };
                    return Err(wrong_type(&other, "an element of a PATH", wanted, item.span)
                        .hint("nodes and edges take turns: PATH [a, e, b]"));
                }
            }
        }
        if path.nodes.len() != path.edges.len() + 1 {
            return Err(Diagnostic::error(Code("22G0Y"), span, "a PATH ends with a node"));
        }
        for (i, edge) in path.edges.iter().enumerate() {
            let (a, b) = self.scope.edge_ends(*edge);
            let (x, y) = (path.nodes[i], path.nodes[i + 1]);
            if (a, b) != (x, y) && (a, b) != (y, x) {
                let text = format!("edge {} of the PATH does not join the nodes beside it", i + 1);
                return Err(Diagnostic::error(Code("22G0Z"), span, text));
            }
        }
        Ok(Value::Path(Arc::new(path)))
    }

    pub(super) fn path(&self, pieces: &[Piece], row: Row<'_>) -> Value {
        let mut path = PathValue { nodes: vec![], edges: vec![] };
        for piece in pieces {
            match piece {
                Piece::Node(slot) => match row.get(*slot) {
                    Value::Node(n) => {
                        // The node after a path piece is that piece's last one.
                        if path.nodes.len() == path.edges.len() {
                            path.nodes.push(n);
                        }
                    }
                    _ => return Value::Null,
                },
                Piece::Edge(slot) => match row.get(*slot) {
                    Value::Edge(e) => path.edges.push(e),
                    _ => return Value::Null,
                },
                Piece::Path(slot) => match row.get(*slot) {
                    Value::Path(inner) => {
                        let skip = path.nodes.len() > path.edges.len();
                        path.nodes.extend(inner.nodes.iter().skip(skip as usize));
                        path.edges.extend(&inner.edges);
                    }
                    _ => return Value::Null,
                },
            }
        }
        Value::Path(Arc::new(path))
    }
}

/// How many edges the path has of these pieces; a search of which no more is wanted gives the length of its path.
pub(super) fn path_length(pieces: &[Piece], row: Row<'_>) -> Value {
    let mut edges = 0;
    for piece in pieces {
        match piece {
            Piece::Node(slot) => match row.get(*slot) {
                Value::Node(_) => {}
                _ => return Value::Null,
            },
            Piece::Edge(slot) => match row.get(*slot) {
                Value::Edge(_) => edges += 1,
                _ => return Value::Null,
            },
            Piece::Path(slot) => match row.get(*slot) {
                Value::Path(inner) => edges += inner.edges.len() as i64,
                Value::Int(length) => edges += length,
                _ => return Value::Null,
            },
        }
    }
    Value::Int(edges)
}
