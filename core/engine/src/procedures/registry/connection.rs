//! What hangs together, and what would be cut off.

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
                about: "What hangs together, whatever way edges lead.",
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
                about: "Nodes that can all be reached from each other along edges: a component of two and more holds a cycle.",
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
                about: "Edges without which a part is cut off, read both ways.",
                source: "Hopcroft and Tarjan, Algorithm 447, 1973",
                cost: "O(n + m)",
            },
            [],
            [EDGE, gives("cut_off", Gives::WholeNumber, "how many nodes are on the smaller side")],
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
                about: "Nodes without which what hangs together falls apart, edges read both ways.",
                source: "Hopcroft and Tarjan, Algorithm 447, 1973",
                cost: "O(n + m)",
            },
            [],
            [NODE, gives("parts", Gives::WholeNumber, "into how many parts more it falls")],
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
                about: "By node the nearest other node that every way from a root to it leads through.",
                source: "Cooper, Harvey, Kennedy, A simple, fast dominance algorithm, 2001",
                cost: "O(n + m) on most graphs",
            },
            [Argument { name: "root", takes: Takes::Node, usual: None, about: "where all ways begin" }],
            [NODE, gives("dominator", Gives::Node, "what its ways all lead through")],
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
                about: "How densely woven a node's surroundings are: the greatest k for which it is in a part where each has k neighbours.",
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
                about: "Of how many triangles a node is a corner, and how many of its neighbours are neighbours.",
                source: "Schank and Wagner, Finding, counting and listing all triangles in large graphs, 2005",
                cost: "O(m^1.5)",
            },
            [],
            [
                NODE,
                gives("triangles", Gives::WholeNumber, "triangles with it"),
                gives("clustering", Gives::Float, "the share of pairs of its neighbours that are neighbours"),
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
