//! Centrality measures.

use graphodrome_algorithms::{
    Arcs, PageRank, Sampled, Stopped, betweenness, closeness, eigenvector, katz, page_rank,
};
use graphodrome_language::{Gives, Takes};

use crate::procedures::{Call, Entry, Table};

use super::{
    About, ITERATIONS, NODE, SCORE, SEED, TOLERANCE, WEIGHT, all_nodes, entry, floats, gives, own_numbers,
    takes, wholes,
};

pub(super) fn centrality() -> Vec<Entry> {
    let numbers = [
        ("degree", "all edges of the node; a loop counts twice"),
        ("in_degree", "incoming edges, in the direction in which edges are read"),
        ("out_degree", "outgoing edges, in the direction in which edges are read"),
    ];
    vec![
        entry(
            About {
                name: "degree",
                order: "degree DESC",
                about: "Number of edges of a node.",
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
                about: "Share of time that a random walk along edges spends at a node.",
                source: "Page, Brin, Motwani, Winograd, The PageRank Citation Ranking, 1999",
                cost: "O(m) for each iteration",
            },
            [
                WEIGHT,
                takes(
                    "damping",
                    Takes::Number,
                    "0.85",
                    "probability that a walk continues instead of restarting",
                ),
                takes("begin", Takes::Nodes, "any node", "restart nodes, for personalised scores"),
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
                about: "Eigenvector centrality: a node is central if central nodes have edges to it.",
                source: "Bonacich, Factoring and weighting approaches to status scores, 1972",
                cost: "O(m) for each iteration",
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
                about: "Number of walks that end in a node, with longer walks weighted less.",
                source: "Katz, A new status index derived from sociometric analysis, 1953",
                cost: "O(m) for each iteration",
            },
            [
                WEIGHT,
                takes("alpha", Takes::Number, "0.01", "attenuation factor for each edge of a walk"),
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
                about: "Share of shortest paths between other nodes that pass through a node.",
                source: "Brandes, A faster algorithm for betweenness centrality, 2001; Brandes and Pich, 2007",
                cost: "O(n m); with sources O(sources m)",
            },
            [
                WEIGHT,
                takes(
                    "sources",
                    Takes::WholeNumber,
                    "all nodes",
                    "number of randomly drawn start nodes, for an estimate",
                ),
                SEED,
            ],
            [
                NODE,
                gives(
                    "score",
                    Gives::Float,
                    "sum over pairs of other nodes of the share of their shortest paths",
                ),
                gives("error", Gives::Float, "half width of the 95 % confidence interval; 0 if exact"),
            ],
            (28 * 16 + 128, 0),
            1000.0,
            betweenness_of,
        ),
        entry(
            About {
                name: "closeness",
                order: "harmonic DESC",
                about: "Closeness of a node to the nodes reachable from it.",
                source: "Wasserman and Faust, Social Network Analysis, 1994; Marchiori and Latora, 2000",
                cost: "O(n m), with weights O(n m log n)",
            },
            [WEIGHT],
            [
                NODE,
                gives(
                    "closeness",
                    Gives::Float,
                    "reciprocal of the mean distance, times the share of nodes reached",
                ),
                gives("harmonic", Gives::Float, "mean of the reciprocal distances"),
                gives("reached", Gives::WholeNumber, "number of other nodes reached"),
                gives("farthest", Gives::Float, "greatest distance to a node reached"),
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
    Ok(vec![all_nodes(call), floats(found.scores), floats(std::iter::repeat_n(found.error, n))])
}
