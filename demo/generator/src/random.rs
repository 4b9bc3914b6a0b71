//! A random directed graph: `edges` edges, each end drawn evenly from `nodes` nodes.

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

pub fn random_graph(nodes: u32, edges: u64, seed: u64, folder: &Path) -> Result<Made, GenerateError> {
    if nodes == 0 {
        return Err(GenerateError::Size("a random graph needs at least one node".into()));
    }
    let mut random = ChaCha8Rng::seed_from_u64(seed);
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
        let (source, target) = (random.random_range(1..=nodes), random.random_range(1..=nodes));
        writeln!(out, "{source},{target},{}", random.random_range(1..=100)).map_err(failed(&path))?;
    }
    out.flush().map_err(failed(&path))?;
    text(&folder.join("model.gql"), MODEL)?;
    text(&folder.join("load.toml"), MAPPING)?;
    Ok(Made { files: 4, rows: nodes as u64 + edges })
}
