//! Who is central.

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
    Ok(vec![all_nodes(call), floats(found.scores), floats(std::iter::repeat_n(found.error, n))])
}
