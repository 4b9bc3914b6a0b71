//! Random directed graphs of places: with ends drawn evenly, or recursively with a skew (R-MAT).

use std::io::Write;
use std::path::Path;

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::write::{create, text};
use crate::{GenerateError, Made};

const MODEL: &str = "\
CREATE GRAPH TYPE IF NOT EXISTS random_graph AS {
  (Place :Place { id INT64 NOT NULL } KEY (id)),
  (Place)-[:LINK { weight INT64 }]->(Place)
};
CREATE GRAPH IF NOT EXISTS random TYPED random_graph;
";

/// Two edges with the same ends and weight are two edges here.
const MAPPING: &str = "\
graph = \"random\"

[[table]]
file = \"nodes.csv\"
[[table.node]]
labels = [\"Place\"]
properties = { id = \"id\" }

[[table]]
file = \"edges.csv\"
[[table.edge]]
label = \"LINK\"
from = { labels = [\"Place\"], key = { id = \"source\" } }
to = { labels = [\"Place\"], key = { id = \"target\" } }
properties = { weight = \"weight\" }
same = \"keep\"
";

/// How the edges of a random graph are drawn.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Ends {
    /// Both ends evenly from all nodes (Erdos and Renyi).
    Even,
    /// R-MAT (Chakrabarti, Zhan, Faloutsos 2004): the adjacency matrix is halved both ways again and
    /// again, and an edge falls into the four quarters with the shares a, b, c and what is left of 1.
    /// Few nodes get many edges, many get none.
    Quarters { a: f64, b: f64, c: f64 },
}

impl Ends {
    /// The usual skew.
    pub const SKEWED: Ends = Ends::Quarters { a: 0.57, b: 0.19, c: 0.19 };
}

/// Draws one edge after the other; nodes are numbered from 1.
struct Draw {
    random: ChaCha8Rng,
    ends: Ends,
    nodes: u32,
    levels: u32,
}

impl Draw {
    fn ends(&mut self) -> (u32, u32) {
        let Ends::Quarters { a, b, c } = self.ends else {
            return (self.random.random_range(1..=self.nodes), self.random.random_range(1..=self.nodes));
        };
        loop {
            let (mut source, mut target) = (0u32, 0u32);
            for _ in 0..self.levels {
                let place: f64 = self.random.random();
                source = source << 1 | (place >= a + b) as u32;
                target = target << 1 | ((a..a + b).contains(&place) || place >= a + b + c) as u32;
            }
            let (source, target) = (self.shuffled(source), self.shuffled(target));
            if source <= self.nodes && target <= self.nodes {
                return (source, target);
            }
        }
    }

    /// So that a node's number says nothing of its degree: an odd factor permutes the numbers.
    fn shuffled(&self, node: u32) -> u32 {
        let mask = (1u64 << self.levels) - 1;
        ((node as u64).wrapping_mul(0x9E37_79B1) & mask) as u32 + 1
    }
}

pub fn random_graph(
    nodes: u32, edges: u64, ends: Ends, seed: u64, folder: &Path,
) -> Result<Made, GenerateError> {
    if nodes == 0 {
        return Err(GenerateError::Size("a random graph needs at least one node".into()));
    }
    if let Ends::Quarters { a, b, c } = ends
        && !([a, b, c].iter().all(|share| (0.0..1.0).contains(share)) && a + b + c < 1.0 && a > 0.0)
    {
        return Err(GenerateError::Size(format!(
            "the shares of three quarters must be positive and less than 1 together, not {a}, {b}, {c}"
        )));
    }
    let levels = u32::BITS - (nodes - 1).leading_zeros();
    let mut draw = Draw { random: ChaCha8Rng::seed_from_u64(seed), ends, nodes, levels };
    let failed = |path: &Path| {
        let path = path.display().to_string();
        move |e: std::io::Error| GenerateError::Write { path: path.clone(), reason: e.to_string() }
    };
    let path = folder.join("nodes.csv");
    let mut out = create(&path)?;
    writeln!(out, "id").map_err(failed(&path))?;
    for id in 1..=nodes {
        writeln!(out, "{id}").map_err(failed(&path))?;
    }
    out.flush().map_err(failed(&path))?;
    let path = folder.join("edges.csv");
    let mut out = create(&path)?;
    writeln!(out, "source,target,weight").map_err(failed(&path))?;
    for _ in 0..edges {
        let (source, target) = draw.ends();
        writeln!(out, "{source},{target},{}", draw.random.random_range(1..=100)).map_err(failed(&path))?;
    }
    out.flush().map_err(failed(&path))?;
    text(&folder.join("model.gql"), MODEL)?;
    text(&folder.join("load.toml"), MAPPING)?;
    Ok(Made { files: 4, rows: nodes as u64 + edges })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn skewed_graphs_have_hubs_and_even_ones_do_not() {
        let largest = |ends| {
            let mut draw = Draw { random: ChaCha8Rng::seed_from_u64(1), ends, nodes: 1000, levels: 10 };
            let mut degrees = vec![0; 1001];
            for _ in 0..10_000 {
                let (source, target) = draw.ends();
                assert!((1..=1000).contains(&source) && (1..=1000).contains(&target));
                degrees[source as usize] += 1;
            }
            degrees.into_iter().max().unwrap_or(0)
        };
        assert!(largest(Ends::Even) < 40);
        assert!(largest(Ends::SKEWED) > 200);
    }
}
