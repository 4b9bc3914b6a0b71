//! Orders, and the edges that are enough.

use graphodrome_algorithms::{layers, longest_paths, spanning_forest, transitive_reduction};
use graphodrome_language::Gives;

use crate::batch::{NO_ELEMENT, Vector};
use crate::procedures::Entry;

use super::{About, EDGE, NODE, WEIGHT, all_nodes, edges, entry, floats, gives, nodes, wholes};

pub(super) fn orders() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "topological_order",
                order: "position",
                about: "An order in which every edge points forward; an error if there is a cycle.",
                source: "Kahn, Topological sorting of large networks, 1962",
                cost: "O(n + m)",
            },
            [],
            [
                NODE,
                gives("position", Gives::WholeNumber, "position in the order, starting at 1"),
                gives("layer", Gives::WholeNumber, "number of edges of the longest path to it"),
            ],
            (48, 0),
            3.0,
            |call| {
                let found = layers(call.graph, call.ask)?;
                let layer = wholes(found.order.iter().map(|n| u64::from(found.layer[*n as usize])));
                Ok(vec![
                    nodes(call, found.order.iter().copied()),
                    wholes(1..=found.order.len() as u64),
                    layer,
                ])
            },
        ),
        entry(
            About {
                name: "longest_paths",
                order: "length DESC",
                about: "The longest path to each node of an acyclic graph.",
                source: "dynamic programming over a topological order (textbook)",
                cost: "O(n + m)",
            },
            [WEIGHT],
            [
                NODE,
                gives("length", Gives::Float, "sum of weights along the longest path to it"),
                gives("before", Gives::Node, "predecessor on that path; null at its start"),
            ],
            (48, 0),
            4.0,
            |call| {
                let found = longest_paths(call.graph, call.ask)?;
                let before = found.iter().map(|(_, b)| b.map_or(NO_ELEMENT, |b| call.graph.node(b as usize)));
                let before = Vector::Nodes(before.collect());
                Ok(vec![all_nodes(call), floats(found.iter().map(|f| f.0)), before])
            },
        ),
        entry(
            About {
                name: "transitive_reduction",
                order: "",
                about: "The edges of an acyclic graph that no longer path replaces.",
                source: "Aho, Garey, Ullman, The transitive reduction of a directed graph, 1972",
                cost: "O(n m) at worst",
            },
            [],
            [EDGE],
            (48, 0),
            50.0,
            |call| Ok(vec![edges(call, &transitive_reduction(call.graph, call.ask)?)]),
        ),
        entry(
            About {
                name: "spanning_forest",
                order: "weight",
                about: "Edges of least total weight that keep every component connected; edges are read both ways.",
                source: "Kruskal, On the shortest spanning subtree of a graph, 1956",
                cost: "O(m log m)",
            },
            [WEIGHT],
            [EDGE, gives("weight", Gives::Float, "its weight")],
            (16, 8),
            20.0,
            |call| {
                let found = spanning_forest(call.graph, call.ask)?;
                let weights = floats(found.iter().map(|e| call.graph.weight(*e as usize)));
                Ok(vec![edges(call, &found), weights])
            },
        ),
    ]
}
