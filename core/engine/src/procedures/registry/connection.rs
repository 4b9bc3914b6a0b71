//! Components, bridges and articulation points.

use graphodrome_algorithms::{core_numbers, cuts, dominators, strong_components, triangles, weak_components};
use graphodrome_language::{Argument, Gives, Takes};

use crate::procedures::Entry;

use super::{
    About, COMPONENT, EDGE, NODE, SIZE, all_nodes, edges, entry, floats, gives, grouped, nodes, own_number,
    wholes,
};

pub(super) fn connection() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "weak_components",
                order: "size DESC, component",
                about: "Connected components, ignoring the direction of edges.",
                source: "Tarjan, Efficiency of a good but not linear set union algorithm, 1975",
                cost: "O(n + m)",
            },
            [],
            [NODE, COMPONENT, SIZE],
            (32, 0),
            2.0,
            |call| weak_components(call.graph, call.ask).map(|(groups, count)| grouped(call, &groups, count)),
        ),
        entry(
            About {
                name: "strong_components",
                order: "size DESC, component",
                about: "Sets of nodes that reach each other along edges; a component of two or more nodes contains a cycle.",
                source: "Tarjan, Depth-first search and linear graph algorithms, 1972",
                cost: "O(n + m)",
            },
            [],
            [NODE, COMPONENT, SIZE],
            (48, 0),
            3.0,
            |call| {
                strong_components(call.graph, call.ask).map(|(groups, count)| grouped(call, &groups, count))
            },
        ),
        entry(
            About {
                name: "bridges",
                order: "cut_off DESC",
                about: "Edges whose removal disconnects their component; edges are read both ways.",
                source: "Hopcroft and Tarjan, Algorithm 447, 1973",
                cost: "O(n + m)",
            },
            [],
            [EDGE, gives("cut_off", Gives::WholeNumber, "number of nodes on the smaller side")],
            (48, 0),
            4.0,
            |call| {
                let found = cuts(call.graph, call.ask)?;
                let cut_off = wholes(found.cut_off.iter().map(|n| u64::from(*n)));
                Ok(vec![edges(call, &found.bridges), cut_off])
            },
        ),
        entry(
            About {
                name: "articulation_points",
                order: "parts DESC",
                about: "Nodes whose removal disconnects their component; edges are read both ways.",
                source: "Hopcroft and Tarjan, Algorithm 447, 1973",
                cost: "O(n + m)",
            },
            [],
            [NODE, gives("parts", Gives::WholeNumber, "number of additional components after its removal")],
            (48, 0),
            4.0,
            |call| {
                let found = cuts(call.graph, call.ask)?;
                let points = (0..found.parts.len() as u32).filter(|n| found.parts[*n as usize] > 0);
                let parts = wholes(found.parts.iter().filter(|p| **p > 0).map(|p| u64::from(*p)));
                Ok(vec![nodes(call, points), parts])
            },
        ),
        entry(
            About {
                name: "dominators",
                order: "",
                about: "The closest other node that every path from a root to a node passes through.",
                source: "Cooper, Harvey, Kennedy, A simple, fast dominance algorithm, 2001",
                cost: "O(n + m) on most graphs",
            },
            [Argument {
                name: "root",
                takes: Takes::Node,
                usual: None,
                about: "the node where all paths begin",
            }],
            [NODE, gives("dominator", Gives::Node, "the immediate dominator")],
            (32, 0),
            4.0,
            |call| {
                let found = dominators(call.graph, own_number(call, "root")?, call.ask)?;
                let known =
                    || found.iter().enumerate().filter_map(|(node, above)| Some((node as u32, (*above)?)));
                Ok(vec![nodes(call, known().map(|k| k.0)), nodes(call, known().map(|k| k.1))])
            },
        ),
        entry(
            About {
                name: "core_numbers",
                order: "core DESC",
                about: "The greatest k for which a node belongs to a subgraph in which every node has at least k neighbours.",
                source: "Batagelj and Zaveršnik, An O(m) algorithm for cores decomposition of networks, 2003",
                cost: "O(n + m)",
            },
            [],
            [NODE, gives("core", Gives::WholeNumber, "its core number")],
            (48, 8),
            4.0,
            |call| {
                let found = core_numbers(call.graph, call.ask)?;
                Ok(vec![all_nodes(call), wholes(found.into_iter().map(u64::from))])
            },
        ),
        entry(
            About {
                name: "triangles",
                order: "triangles DESC",
                about: "Triangles through each node, and the share of its neighbour pairs that are connected.",
                source: "Schank and Wagner, Finding, counting and listing all triangles in large graphs, 2005",
                cost: "O(m^1.5)",
            },
            [],
            [
                NODE,
                gives("triangles", Gives::WholeNumber, "number of triangles through it"),
                gives("clustering", Gives::Float, "share of connected pairs among its neighbours"),
            ],
            (160, 16),
            20.0,
            |call| {
                let found = triangles(call.graph, call.ask)?;
                Ok(vec![all_nodes(call), wholes(found.of_nodes), floats(found.clustering)])
            },
        ),
    ]
}
