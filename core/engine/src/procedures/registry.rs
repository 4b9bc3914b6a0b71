//! Every measure with its arguments and columns, and how it is run.

mod centrality;
mod communities;
mod connection;
mod orders;
mod shapes;
mod ways;

use std::sync::{Arc, OnceLock};

use graphodrome_algorithms::*;
use graphodrome_graph::Value;
use graphodrome_language::{Argument, Gives, Procedure, Takes, YieldColumn};

use crate::batch::Vector;
use crate::procedures::{Call, Entry, Holds, Run, RunMeasure, Table};

pub(super) fn entries() -> &'static [Arc<Entry>] {
    static ENTRIES: OnceLock<Vec<Arc<Entry>>> = OnceLock::new();
    ENTRIES.get_or_init(|| {
        let mut all = vec![];
        all.extend(centrality::centrality());
        all.extend(connection::connection());
        all.extend(communities::communities());
        all.extend(orders::orders());
        all.extend(ways::ways());
        all.extend(shapes::shapes());
        all.sort_by_key(|e| e.procedure.name);
        all.into_iter().map(Arc::new).collect()
    })
}

pub(super) fn procedures() -> &'static Arc<[Procedure]> {
    static PROCEDURES: OnceLock<Arc<[Procedure]>> = OnceLock::new();
    PROCEDURES.get_or_init(|| entries().iter().map(|e| e.procedure.clone()).collect())
}

const fn takes(name: &'static str, takes: Takes, usual: &'static str, about: &'static str) -> Argument {
    Argument { name, takes, usual: Some(usual), about }
}

pub(super) const WEIGHT: Argument = takes(
    "weight",
    Takes::Text,
    "1 for every edge",
    "property with an edge's weight; edges without it are left out",
);
const SEED: Argument = takes("seed", Takes::WholeNumber, "1", "the same seed gives the same result");
const ITERATIONS: Argument = takes("iterations", Takes::WholeNumber, "100", "maximum number of iterations");
const TOLERANCE: Argument = takes(
    "tolerance",
    Takes::Number,
    "0.000000001",
    "stops when scores change by less than this for each node",
);
const RESOLUTION: Argument =
    takes("resolution", Takes::Number, "1", "greater values give smaller communities");

const fn gives(name: &'static str, gives: Gives, about: &'static str) -> YieldColumn {
    YieldColumn { name, gives, about }
}

const NODE: YieldColumn = gives("node", Gives::Node, "the node");
const EDGE: YieldColumn = gives("edge", Gives::Edge, "the edge");
const SCORE: YieldColumn = gives("score", Gives::Float, "centrality of the node");
const COMPONENT: YieldColumn =
    gives("component", Gives::WholeNumber, "number of the node's component, starting at 0");
const COMMUNITY: YieldColumn =
    gives("community", Gives::WholeNumber, "number of the node's community, starting at 0");
const SIZE: YieldColumn = gives("size", Gives::WholeNumber, "number of nodes in it");
const MODULARITY: YieldColumn = gives(
    "modularity",
    Gives::Float,
    "modularity of the partition: the share of weight inside communities minus its expectation",
);

/// Measures that give an element more than one row, or none at all.
const MANY_ROWS: &[&str] = &["similar_nodes", "distances", "random_walks", "diameter", "assortativity"];

struct About {
    name: &'static str,
    order: &'static str,
    about: &'static str,
    source: &'static str,
    cost: &'static str,
}

/// The arguments that say which part of the graph is looked at.
pub(super) fn part_arguments() -> [Argument; 3] {
    [
        takes(
            "nodes",
            Takes::NodePattern,
            "all nodes",
            "the nodes looked at, as a pattern: (n:Site WHERE n.population > 0)",
        ),
        takes(
            "edges",
            Takes::EdgePattern,
            "all edges, directed ones from source to target",
            "the edges looked at and how they are read: -[e:PIPE]-> along, <-[:PIPE]- against, -[:PIPE]- both ways",
        ),
        takes(
            "view",
            Takes::Text,
            "none",
            "name of a view of the graph that says which nodes and edges are looked at, instead of nodes and edges",
        ),
    ]
}

fn entry(
    about: About, own: impl IntoIterator<Item = Argument>, yields: impl IntoIterator<Item = YieldColumn>,
    holds: (usize, usize), work: f64, run: RunMeasure,
) -> Entry {
    let About { name, order, about, source, cost } = about;
    let arguments = part_arguments().into_iter().chain(own).collect();
    let once_an_element = !MANY_ROWS.contains(&name);
    let yields = yields.into_iter().collect();
    let procedure = Procedure { name, about, arguments, yields, order, once_an_element, source, cost };
    let holds = Holds { node: holds.0, edge: holds.1 };
    Entry { procedure, holds, work, run: Run::Measure(run) }
}

// Columns.

fn all_nodes(call: &Call<'_>) -> Vector {
    Vector::Nodes(call.graph.nodes().to_vec())
}

fn nodes(call: &Call<'_>, own: impl Iterator<Item = u32>) -> Vector {
    Vector::Nodes(own.map(|n| call.graph.node(n as usize)).collect())
}

fn edges(call: &Call<'_>, own: &[u32]) -> Vector {
    Vector::Edges(own.iter().map(|e| call.graph.edge(*e as usize)).collect())
}

fn floats(numbers: impl IntoIterator<Item = f64>) -> Vector {
    Vector::Values(numbers.into_iter().map(Value::Float).collect())
}

fn wholes(numbers: impl IntoIterator<Item = u64>) -> Vector {
    Vector::Values(numbers.into_iter().map(|n| Value::Int(n as i64)).collect())
}

/// Nodes, their groups and the groups' sizes.
fn grouped(call: &Call<'_>, groups: &[u32], count: usize) -> Table {
    let mut sizes = vec![0u64; count];
    groups.iter().for_each(|g| sizes[*g as usize] += 1);
    let numbers = wholes(groups.iter().map(|g| u64::from(*g)));
    vec![all_nodes(call), numbers, wholes(groups.iter().map(|g| sizes[*g as usize]))]
}

/// The subgraph's numbers of the nodes that an argument names.
fn own_numbers(call: &Call<'_>, name: &str) -> Result<Vec<u32>, Stopped> {
    let outside =
        || Stopped::NoAnswer(format!("{name} has a node that is not in the part looked at: see `nodes`"));
    call.given.nodes(name).into_iter().map(|n| (call.number)(n).ok_or_else(outside)).collect()
}

fn own_number(call: &Call<'_>, name: &str) -> Result<u32, Stopped> {
    own_numbers(call, name)?.first().copied().ok_or_else(|| Stopped::NoAnswer(format!("{name} is not given")))
}
