//! Distances, flows, walks.

use graphodrome_algorithms::{Arcs, Stopped, Walks, distances, maximum_flow, random_walks};
use graphodrome_graph::Value;
use graphodrome_language::{Argument, Gives, Takes};

use crate::batch::Vector;
use crate::procedures::{Call, Entry, Table};

use super::{
    About, EDGE, NODE, SEED, WEIGHT, edges, entry, floats, gives, nodes, own_number, own_numbers, takes,
};

pub(super) fn ways() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "distances",
                order: "distance",
                about: "Least distances from given nodes to all nodes reachable from them.",
                source: "breadth-first search; Dijkstra, A note on two problems in connexion with graphs, 1959",
                cost: "O(m) a node, with weights O(m log n)",
            },
            [WEIGHT, Argument { name: "from", takes: Takes::Nodes, usual: None, about: "start nodes" }],
            [
                gives("source", Gives::Node, "the start node"),
                NODE,
                gives("distance", Gives::Float, "number of edges, or sum of weights"),
            ],
            (48, 16),
            10.0,
            distances_of,
        ),
        entry(
            About {
                name: "maximum_flow",
                order: "in_cut DESC, flow DESC",
                about: "Maximum flow between two nodes, the flow through each edge, and the edges of a minimum cut.",
                source: "Dinic, 1970; Ford and Fulkerson, Maximal flow through a network, 1956",
                cost: "O(n² m) at worst, far less on most graphs",
            },
            [
                Argument { name: "source", takes: Takes::Node, usual: None, about: "start of the flow" },
                Argument { name: "target", takes: Takes::Node, usual: None, about: "end of the flow" },
                takes(
                    "capacity",
                    Takes::Text,
                    "1 for every edge",
                    "property with an edge's capacity; edges without it are left out",
                ),
            ],
            [
                EDGE,
                gives(
                    "flow",
                    Gives::Float,
                    "flow through the edge; negative if it runs against an edge that is read both ways",
                ),
                gives("in_cut", Gives::Truth, "whether it belongs to a minimum cut"),
                gives("total", Gives::Float, "value of the maximum flow"),
            ],
            (40, 40),
            100.0,
            flow_of,
        ),
        entry(
            About {
                name: "random_walks",
                order: "",
                about: "Random walks along edges, weighted if there are weights.",
                source: "Pearson, The problem of the random walk, 1905",
                cost: "O(length) for each walk",
            },
            [
                WEIGHT,
                takes("from", Takes::Nodes, "all nodes", "start nodes"),
                takes("each", Takes::WholeNumber, "1", "number of walks from each node"),
                takes("length", Takes::WholeNumber, "10", "maximum number of edges in a walk"),
                SEED,
            ],
            [
                gives("source", Gives::Node, "the start node"),
                gives("stops", Gives::Nodes, "its nodes in order"),
            ],
            (300, 0),
            30.0,
            walks_of,
        ),
    ]
}

fn distances_of(call: &Call<'_>) -> Result<Table, Stopped> {
    let (mut sources, mut targets, mut far) = (vec![], vec![], vec![]);
    for from in own_numbers(call, "from")? {
        let found = distances(call.graph, Arcs::Out, from, call.ask)?;
        (call.hold)(found.reached.len() * (2 * size_of::<u32>() + size_of::<Value>()))?;
        for node in found.reached {
            sources.push(call.graph.node(from as usize));
            targets.push(call.graph.node(node as usize));
            far.push(found.to[node as usize]);
        }
        (call.ask)(0.0)?;
    }
    Ok(vec![Vector::Nodes(sources), Vector::Nodes(targets), floats(far)])
}

fn flow_of(call: &Call<'_>) -> Result<Table, Stopped> {
    let (source, target) = (own_number(call, "source")?, own_number(call, "target")?);
    let found = maximum_flow(call.graph, source, target, call.ask)?;
    let used: Vec<u32> = (0..found.through.len() as u32)
        .filter(|e| found.through[*e as usize] != 0.0 || found.cut.binary_search(e).is_ok())
        .collect();
    let in_cut = used.iter().map(|e| Value::Bool(found.cut.binary_search(e).is_ok()));
    Ok(vec![
        edges(call, &used),
        floats(used.iter().map(|e| found.through[*e as usize])),
        Vector::Values(in_cut.collect()),
        floats(std::iter::repeat_n(found.value, used.len())),
    ])
}

fn walks_of(call: &Call<'_>) -> Result<Table, Stopped> {
    let from = match call.given.value("from") {
        Some(_) => own_numbers(call, "from")?,
        None => (0..call.graph.node_count() as u32).collect(),
    };
    let options = Walks {
        each: call.given.whole("each", 1),
        length: call.given.whole("length", 10),
        seed: call.given.whole("seed", 1) as u64,
    };
    // What is walked is held whole, as numbers and as values.
    let steps = from.len().saturating_mul(options.each).saturating_mul(options.length.saturating_add(1));
    (call.hold)(steps.saturating_mul(size_of::<u32>() + size_of::<Value>()))?;
    let found = random_walks(call.graph, &from, options, call.ask)?;
    let walk = |walk: &Vec<u32>| {
        Value::list(walk.iter().map(|n| Value::Node(call.graph.node(*n as usize))).collect())
    };
    Ok(vec![nodes(call, found.iter().map(|w| w[0])), Vector::Values(found.iter().map(walk).collect())])
}
