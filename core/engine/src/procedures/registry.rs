//! Every measure with its arguments and columns, and how it is run.

use std::sync::{Arc, OnceLock};

use graphodrome_algorithms::*;
use graphodrome_graph::Value;
use graphodrome_language::{Argument, Gives, Procedure, Takes, YieldColumn};

use crate::batch::{NO_ELEMENT, Vector};
use crate::procedures::{Call, Entry, Holds, Run, Table};

pub(super) fn entries() -> &'static [Entry] {
    static ENTRIES: OnceLock<Vec<Entry>> = OnceLock::new();
    ENTRIES.get_or_init(|| {
        let mut all = vec![];
        all.extend(centrality());
        all.extend(connection());
        all.extend(communities());
        all.extend(orders());
        all.extend(ways());
        all.extend(shapes());
        all.sort_by_key(|e| e.procedure.name);
        all
    })
}

pub(super) fn procedures() -> &'static Arc<[Procedure]> {
    static PROCEDURES: OnceLock<Arc<[Procedure]>> = OnceLock::new();
    PROCEDURES.get_or_init(|| entries().iter().map(|e| e.procedure.clone()).collect())
}

const fn takes(name: &'static str, takes: Takes, usual: &'static str, about: &'static str) -> Argument {
    Argument { name, takes, usual: Some(usual), about }
}

const WEIGHT: Argument = takes(
    "weight",
    Takes::Text,
    "1 for every edge",
    "property with an edge's weight; edges without it are left out",
);
const SEED: Argument = takes("seed", Takes::WholeNumber, "1", "the same seed gives the same result");
const ITERATIONS: Argument =
    takes("iterations", Takes::WholeNumber, "100", "how often scores are computed anew at most");
const TOLERANCE: Argument =
    takes("tolerance", Takes::Number, "0.000000001", "ends when scores change by less, a node");
const RESOLUTION: Argument =
    takes("resolution", Takes::Number, "1", "more gives smaller communities, less gives larger ones");

const fn gives(name: &'static str, gives: Gives, about: &'static str) -> YieldColumn {
    YieldColumn { name, gives, about }
}

const NODE: YieldColumn = gives("node", Gives::Node, "the node");
const EDGE: YieldColumn = gives("edge", Gives::Edge, "the edge");
const SCORE: YieldColumn = gives("score", Gives::Float, "how central the node is");
const COMPONENT: YieldColumn =
    gives("component", Gives::WholeNumber, "number of the node's component, from 0 on");
const COMMUNITY: YieldColumn =
    gives("community", Gives::WholeNumber, "number of the node's community, from 0 on");
const SIZE: YieldColumn = gives("size", Gives::WholeNumber, "how many nodes are in it");
const MODULARITY: YieldColumn = gives(
    "modularity",
    Gives::Float,
    "of the whole division: the share of weight inside, less what chance would put there",
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

fn entry(
    about: About, own: impl IntoIterator<Item = Argument>, yields: impl IntoIterator<Item = YieldColumn>,
    holds: (usize, usize), work: f64, run: Run,
) -> Entry {
    let About { name, order, about, source, cost } = about;
    let part = [
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
    ];
    let arguments = part.into_iter().chain(own).collect();
    let once_an_element = !MANY_ROWS.contains(&name);
    let yields = yields.into_iter().collect();
    let procedure = Procedure { name, about, arguments, yields, order, once_an_element, source, cost };
    Entry { procedure, holds: Holds { node: holds.0, edge: holds.1 }, work, run }
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

fn centrality() -> Vec<Entry> {
    let numbers = [
        ("degree", "all of a node's edges; a loop counts twice"),
        ("in_degree", "edges that lead to it, as edges are read"),
        ("out_degree", "edges that lead from it, as edges are read"),
    ];
    vec![
        entry(
            About {
                name: "degree",
                order: "degree DESC",
                about: "How many edges a node has.",
                source: "textbook",
                cost: "O(n + m)",
            },
            [],
            std::iter::once(NODE).chain(numbers.map(|(name, about)| gives(name, Gives::WholeNumber, about))),
            (24, 0),
            1.0,
            degree,
        ),
        entry(
            About {
                name: "page_rank",
                order: "score DESC",
                about: "The share of time that a random walk along edges spends in a node.",
                source: "Page, Brin, Motwani, Winograd, The PageRank Citation Ranking, 1999",
                cost: "O(m) an iteration",
            },
            [
                WEIGHT,
                takes("damping", Takes::Number, "0.85", "how often a walk goes on instead of beginning anew"),
                takes(
                    "begin",
                    Takes::Nodes,
                    "any node",
                    "where walks begin: for what is central seen from there",
                ),
                ITERATIONS,
                TOLERANCE,
            ],
            [NODE, SCORE],
            (40, 0),
            30.0,
            page_rank_of,
        ),
        entry(
            About {
                name: "eigenvector",
                order: "score DESC",
                about: "Central is what central nodes have edges to.",
                source: "Bonacich, Factoring and weighting approaches to status scores, 1972",
                cost: "O(m) an iteration",
            },
            [WEIGHT, ITERATIONS, TOLERANCE],
            [NODE, SCORE],
            (32, 0),
            50.0,
            |call| {
                let (rounds, tolerance) = rounds(call)?;
                let found = eigenvector(call.graph, rounds, tolerance, call.ask)?;
                Ok(vec![all_nodes(call), floats(found.scores)])
            },
        ),
        entry(
            About {
                name: "katz",
                order: "score DESC",
                about: "How many walks end in a node, longer ones counting less.",
                source: "Katz, A new status index derived from sociometric analysis, 1953",
                cost: "O(m) an iteration",
            },
            [
                WEIGHT,
                takes("alpha", Takes::Number, "0.01", "what each edge of a walk makes it count less by"),
                ITERATIONS,
                TOLERANCE,
            ],
            [NODE, SCORE],
            (32, 0),
            50.0,
            |call| {
                let (rounds, tolerance) = rounds(call)?;
                let alpha = call.given.number_in("alpha", 0.01, 0.0..=1e9)?;
                let found = katz(call.graph, alpha, rounds, tolerance, call.ask)?;
                Ok(vec![all_nodes(call), floats(found.scores)])
            },
        ),
        entry(
            About {
                name: "betweenness",
                order: "score DESC",
                about: "How many shortest paths between other nodes lead through a node.",
                source: "Brandes, A faster algorithm for betweenness centrality, 2001; Brandes and Pich, 2007",
                cost: "O(n m); with sources O(sources m)",
            },
            [
                WEIGHT,
                takes(
                    "sources",
                    Takes::WholeNumber,
                    "all nodes",
                    "search from so many nodes drawn at random, for an estimate",
                ),
                SEED,
            ],
            [
                NODE,
                gives("score", Gives::Float, "pairs of other nodes, each by the share of its shortest paths"),
                gives(
                    "error",
                    Gives::Float,
                    "with 95 % probability the score is no farther off; 0 where it is exact",
                ),
            ],
            (28 * 16 + 128, 0),
            1000.0,
            betweenness_of,
        ),
        entry(
            About {
                name: "closeness",
                order: "harmonic DESC",
                about: "How near the nodes are that can be reached from a node.",
                source: "Wasserman and Faust, Social Network Analysis, 1994; Marchiori and Latora, 2000",
                cost: "O(n m), with weights O(n m log n)",
            },
            [WEIGHT],
            [
                NODE,
                gives(
                    "closeness",
                    Gives::Float,
                    "one over the mean distance, times the share of nodes reached",
                ),
                gives("harmonic", Gives::Float, "the mean of one over the distance"),
                gives("reached", Gives::WholeNumber, "how many other nodes can be reached"),
                gives("farthest", Gives::Float, "the greatest distance of those"),
            ],
            (12 * 16 + 64, 0),
            1000.0,
            |call| {
                let found = closeness(call.graph, call.ask)?;
                Ok(vec![
                    all_nodes(call),
                    floats(found.iter().map(|c| c.closeness)),
                    floats(found.iter().map(|c| c.harmonic)),
                    wholes(found.iter().map(|c| c.reached as u64)),
                    floats(found.iter().map(|c| c.farthest)),
                ])
            },
        ),
    ]
}

fn degree(call: &Call<'_>) -> Result<Table, Stopped> {
    let n = call.graph.node_count();
    let mut degrees = vec![0u64; n];
    for edge in 0..call.graph.edge_count() {
        let (a, b) = call.graph.ends(edge);
        degrees[a as usize] += 1;
        degrees[b as usize] += 1;
    }
    let of = |arcs: Arcs| {
        let rows = call.graph.rows(arcs);
        wholes((0..n).map(|node| rows.degree(node) as u64))
    };
    Ok(vec![all_nodes(call), wholes(degrees), of(Arcs::In), of(Arcs::Out)])
}

fn rounds(call: &Call<'_>) -> Result<(usize, f64), Stopped> {
    let tolerance = call.given.number_in("tolerance", 1e-9, 0.0..=1e9)?;
    Ok((call.given.whole("iterations", 100), tolerance))
}

fn page_rank_of(call: &Call<'_>) -> Result<Table, Stopped> {
    let (iterations, tolerance) = rounds(call)?;
    let begin = own_numbers(call, "begin")?;
    let damping = call.given.number_in("damping", 0.85, 0.0..=1.0)?;
    let begin = (!begin.is_empty()).then_some(&begin[..]);
    let found = page_rank(call.graph, &PageRank { damping, iterations, tolerance, begin }, call.ask)?;
    Ok(vec![all_nodes(call), floats(found.scores)])
}

fn betweenness_of(call: &Call<'_>) -> Result<Table, Stopped> {
    let n = call.graph.node_count();
    let sources = call.given.whole("sources", n);
    if sources == 0 {
        return Err(Stopped::NoAnswer("sources is 0: search from one node at least".into()));
    }
    let sampled = Sampled { sources, seed: call.given.whole("seed", 1) as u64 };
    let found = betweenness(call.graph, Some(sampled), call.ask)?;
    let pairs = n as f64 * (n as f64 - 1.0);
    let error = found.error * pairs;
    Ok(vec![all_nodes(call), floats(found.scores), floats(std::iter::repeat_n(error, n))])
}

fn connection() -> Vec<Entry> {
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
            (64, 16),
            20.0,
            |call| {
                let found = triangles(call.graph, call.ask)?;
                Ok(vec![all_nodes(call), wholes(found.of_nodes), floats(found.clustering)])
            },
        ),
    ]
}

fn communities() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "louvain",
                order: "size DESC, community",
                about: "Communities with as much weight inside as can be found, edges read both ways.",
                source: "Blondel, Guillaume, Lambiotte, Lefebvre, Fast unfolding of communities in large networks, 2008",
                cost: "about O(m log n)",
            },
            [WEIGHT, RESOLUTION, SEED],
            [NODE, COMMUNITY, SIZE, MODULARITY],
            (96, 32),
            40.0,
            |call| {
                let resolution = call.given.number_in("resolution", 1.0, 0.0..=1e9)?;
                let seed = call.given.whole("seed", 1) as u64;
                louvain(call.graph, resolution, seed, call.ask).map(|found| division(call, &found))
            },
        ),
        entry(
            About {
                name: "label_propagation",
                order: "size DESC, community",
                about: "Communities by taking over the label that most neighbours have, edges read both ways.",
                source: "Raghavan, Albert, Kumara, Near linear time algorithm to detect community structures, 2007",
                cost: "O(m) a round",
            },
            [WEIGHT, takes("rounds", Takes::WholeNumber, "100", "rounds at most"), SEED],
            [NODE, COMMUNITY, SIZE, MODULARITY],
            (32, 0),
            20.0,
            |call| {
                let (rounds, seed) = (call.given.whole("rounds", 100), call.given.whole("seed", 1) as u64);
                label_propagation(call.graph, rounds, seed, call.ask).map(|found| division(call, &found))
            },
        ),
        entry(
            About {
                name: "similar_nodes",
                order: "score DESC",
                about: "By node the others that have edges to the same nodes.",
                source: "Jaccard, 1901; Szymkiewicz, 1934; Salton, 1983",
                cost: "the sum of the squares of in-degrees",
            },
            [
                WEIGHT,
                takes("likeness", Takes::Text, "jaccard", "jaccard, overlap or cosine"),
                takes("most", Takes::WholeNumber, "10", "how many others for each node"),
                takes("least", Takes::Number, "0", "the lowest score"),
            ],
            [
                NODE,
                gives("other", Gives::Node, "a node that is like it"),
                gives("score", Gives::Float, "how alike, up to 1"),
                gives("common", Gives::WholeNumber, "neighbours that both have"),
            ],
            (200, 48),
            100.0,
            similar_nodes,
        ),
    ]
}

fn division(call: &Call<'_>, found: &Communities) -> Table {
    let mut table = grouped(call, &found.of_nodes, found.count);
    table.push(floats(std::iter::repeat_n(found.modularity, found.of_nodes.len())));
    table
}

fn similar_nodes(call: &Call<'_>) -> Result<Table, Stopped> {
    let likeness = match call.given.text("likeness").unwrap_or("jaccard") {
        "jaccard" => Likeness::Jaccard,
        "overlap" => Likeness::Overlap,
        "cosine" => Likeness::Cosine,
        other => {
            let text = format!("likeness is '{other}': it must be jaccard, overlap or cosine");
            return Err(Stopped::NoAnswer(text));
        }
    };
    let least = call.given.number("least", 0.0);
    let found = similar(call.graph, likeness, call.given.whole("most", 10), least, call.ask)?;
    Ok(vec![
        nodes(call, found.iter().map(|p| p.a)),
        nodes(call, found.iter().map(|p| p.b)),
        floats(found.iter().map(|p| p.score)),
        wholes(found.iter().map(|p| u64::from(p.common))),
    ])
}

fn orders() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "topological_order",
                order: "position",
                about: "An order in which every edge leads on; an error where there is a cycle.",
                source: "Kahn, Topological sorting of large networks, 1962",
                cost: "O(n + m)",
            },
            [],
            [
                NODE,
                gives("position", Gives::WholeNumber, "its place in the order, from 1 on"),
                gives("layer", Gives::WholeNumber, "edges of the longest way to it"),
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
                about: "The longest way to each node of a graph without cycles.",
                source: "dynamic programming over a topological order (textbook)",
                cost: "O(n + m)",
            },
            [WEIGHT],
            [
                NODE,
                gives("length", Gives::Float, "the sum of weights on the longest way to it"),
                gives("before", Gives::Node, "the node before it on that way; null where a way begins"),
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
                about: "The edges that no longer way stands for, in a graph without cycles.",
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
                about: "The edges of least weight that hold all together that hangs together, read both ways.",
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

fn ways() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "distances",
                order: "distance",
                about: "Least distances from each of some nodes to all that can be reached.",
                source: "breadth-first search; Dijkstra, A note on two problems in connexion with graphs, 1959",
                cost: "O(m) a node, with weights O(m log n)",
            },
            [WEIGHT, Argument { name: "from", takes: Takes::Nodes, usual: None, about: "where ways begin" }],
            [
                gives("source", Gives::Node, "where the way begins"),
                NODE,
                gives("distance", Gives::Float, "edges, or the sum of weights"),
            ],
            (48, 16),
            10.0,
            distances_of,
        ),
        entry(
            About {
                name: "maximum_flow",
                order: "in_cut DESC, flow DESC",
                about: "The most that can flow between two nodes, through which edges, and which edges are the bottleneck.",
                source: "Dinic, 1970; Ford and Fulkerson, Maximal flow through a network, 1956",
                cost: "O(n² m) at worst, far less on most graphs",
            },
            [
                Argument { name: "source", takes: Takes::Node, usual: None, about: "where the flow begins" },
                Argument { name: "target", takes: Takes::Node, usual: None, about: "where it ends" },
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
                    "what flows through it; below 0 against an edge that is read both ways",
                ),
                gives(
                    "in_cut",
                    Gives::Truth,
                    "whether it belongs to a least cut: more flows only if more fits through these",
                ),
                gives("total", Gives::Float, "all that flows"),
            ],
            (40, 40),
            100.0,
            flow_of,
        ),
        entry(
            About {
                name: "random_walks",
                order: "",
                about: "Walks that take an edge drawn at random at each node, by weight where there are weights.",
                source: "Pearson, The problem of the random walk, 1905",
                cost: "O(length) a walk",
            },
            [
                WEIGHT,
                takes("from", Takes::Nodes, "all nodes", "where walks begin"),
                takes("each", Takes::WholeNumber, "1", "walks from each node"),
                takes("length", Takes::WholeNumber, "10", "edges of a walk at most"),
                SEED,
            ],
            [
                gives("source", Gives::Node, "where the walk begins"),
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
    // What is walked is held whole.
    if from.len().saturating_mul(options.each).saturating_mul(options.length + 1) > MOST_STEPS {
        return Err(Stopped::NoAnswer(format!(
            "{} walks of {} edges are more than {MOST_STEPS} steps: ask for fewer or shorter ones",
            from.len().saturating_mul(options.each),
            options.length
        )));
    }
    let found = random_walks(call.graph, &from, options, call.ask)?;
    let walk = |walk: &Vec<u32>| {
        Value::list(walk.iter().map(|n| Value::Node(call.graph.node(*n as usize))).collect())
    };
    Ok(vec![nodes(call, found.iter().map(|w| w[0])), Vector::Values(found.iter().map(walk).collect())])
}

const MOST_STEPS: usize = 100_000_000;

fn shapes() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "diameter",
                order: "",
                about: "The greatest distance in the largest part that hangs together, between two bounds; edges read both ways.",
                source: "Crescenzi, Grossi, Habib, Lanzi, Marino, On computing the diameter of real-world undirected graphs, 2013",
                cost: "O(m) a search",
            },
            [
                WEIGHT,
                takes(
                    "searches",
                    Takes::WholeNumber,
                    "100",
                    "searches at most: more bring the bounds together",
                ),
            ],
            [
                gives("least", Gives::Float, "it is at least this"),
                gives("most", Gives::Float, "and at most this"),
            ],
            (48, 0),
            100.0,
            |call| {
                let (least, most) = diameter_bounds(call.graph, call.given.whole("searches", 100), call.ask)?;
                Ok(vec![floats([least]), floats([most])])
            },
        ),
        entry(
            About {
                name: "assortativity",
                order: "",
                about: "Whether nodes with many edges have edges to others with many: from -1 to 1; edges read both ways.",
                source: "Newman, Assortative mixing in networks, 2002",
                cost: "O(m)",
            },
            [],
            [gives("value", Gives::Float, "null where all degrees are alike")],
            (0, 0),
            3.0,
            |call| {
                Ok(vec![Vector::Values(vec![assortativity(call.graph).map_or(Value::Null, Value::Float)])])
            },
        ),
    ]
}
