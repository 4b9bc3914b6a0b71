//! Communities and similarity.

use graphodrome_algorithms::{Communities, Likeness, Stopped, label_propagation, leiden, louvain, similar};
use graphodrome_language::{Gives, Takes};

use crate::procedures::{Call, Entry, Table};

use super::{
    About, COMMUNITY, MODULARITY, NODE, RESOLUTION, SEED, SIZE, WEIGHT, entry, floats, gives, grouped, nodes,
    takes, wholes,
};

pub(super) fn communities() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "louvain",
                order: "size DESC, community",
                about: "Communities with high modularity; edges are read both ways.",
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
                name: "leiden",
                order: "size DESC, community",
                about: "Communities with high modularity, each of them connected; edges are read both ways.",
                source: "Traag, Waltman, van Eck, From Louvain to Leiden: guaranteeing well-connected communities, 2019",
                cost: "about O(m log n)",
            },
            [WEIGHT, RESOLUTION, SEED],
            [NODE, COMMUNITY, SIZE, MODULARITY],
            (96, 48),
            50.0,
            |call| {
                let resolution = call.given.number_in("resolution", 1.0, 0.0..=1e9)?;
                let seed = call.given.whole("seed", 1) as u64;
                leiden(call.graph, resolution, seed, call.ask).map(|found| division(call, &found))
            },
        ),
        entry(
            About {
                name: "label_propagation",
                order: "size DESC, community",
                about: "Communities found by repeatedly adopting the most frequent label among the neighbours; edges are read both ways.",
                source: "Raghavan, Albert, Kumara, Near linear time algorithm to detect community structures, 2007",
                cost: "O(m) for each round",
            },
            [WEIGHT, takes("rounds", Takes::WholeNumber, "100", "maximum number of rounds"), SEED],
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
                about: "Pairs of nodes with edges to the same nodes.",
                source: "Jaccard, 1901; Szymkiewicz, 1934; Salton, 1983",
                cost: "the sum of the squares of in-degrees",
            },
            [
                WEIGHT,
                takes("likeness", Takes::Text, "jaccard", "jaccard, overlap or cosine"),
                takes("most", Takes::WholeNumber, "10", "maximum number of other nodes for each node"),
                takes("least", Takes::Number, "0", "the lowest score"),
            ],
            [
                NODE,
                gives("other", Gives::Node, "a similar node"),
                gives("score", Gives::Float, "similarity, up to 1"),
                gives("common", Gives::WholeNumber, "number of common neighbours"),
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
