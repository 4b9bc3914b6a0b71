//! Random and regular graphs of places: ends drawn evenly (Erdos and Renyi), recursively with a skew
//! (R-MAT), with degrees of a power law, and the plain shapes of a grid and a tree.

use std::path::Path;

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::sink::{Cell, Kind, Output, Sink};
use crate::write::text;
use crate::{GenerateError, Made};

/// How the edges of a graph come about.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Shape {
    /// Both ends evenly from all nodes (Erdos and Renyi).
    Even { nodes: u32, edges: u64 },
    /// R-MAT (Chakrabarti, Zhan, Faloutsos 2004): the adjacency matrix is halved both ways again and
    /// again, and an edge falls into the four quarters with the shares a, b, c and what is left of 1.
    /// Few nodes get many edges, many get none.
    Quarters { nodes: u32, edges: u64, a: f64, b: f64, c: f64 },
    /// Expected degrees fall with a power law of this exponent (Chung and Lu 2002), greater than 2.
    PowerLaw { nodes: u32, edges: u64, exponent: f64 },
    /// Every place has an edge to its right and to its lower neighbour.
    Grid { width: u32, height: u32 },
    /// Every place but the leaves has an edge to each of so many others.
    Tree { nodes: u32, branches: u32 },
}

impl Shape {
    /// R-MAT with its usual skew.
    pub fn skewed(nodes: u32, edges: u64) -> Shape {
        Shape::Quarters { nodes, edges, a: 0.57, b: 0.19, c: 0.19 }
    }

    fn nodes(self) -> Option<u32> {
        match self {
            Shape::Even { nodes, .. }
            | Shape::Quarters { nodes, .. }
            | Shape::PowerLaw { nodes, .. }
            | Shape::Tree { nodes, .. } => Some(nodes),
            Shape::Grid { width, height } => width.checked_mul(height),
        }
    }

    fn check(self) -> Result<u32, GenerateError> {
        let wrong = |message: String| Err(GenerateError::Size(message));
        let Some(nodes) = self.nodes().filter(|n| *n > 0) else {
            return wrong("a graph needs at least one node and fewer than 4,294,967,296".into());
        };
        match self {
            Shape::Quarters { a, b, c, .. }
                if !([a, b, c].iter().all(|share| (0.0..1.0).contains(share))
                    && a + b + c < 1.0
                    && a > 0.0) =>
            {
                wrong(format!(
                    "the shares of three quarters must be positive and less than 1 together, not {a}, {b}, {c}"
                ))
            }
            Shape::PowerLaw { exponent, .. } if !(exponent > 2.0 && exponent < 100.0) => {
                wrong(format!("the exponent of a power law must be greater than 2, not {exponent}"))
            }
            Shape::Tree { branches: 0, .. } => wrong("a tree needs at least one branch".into()),
            _ => Ok(nodes),
        }
    }
}

/// Draws one edge after the other; nodes are numbered from 1.
struct Draw {
    random: ChaCha8Rng,
    shape: Shape,
    nodes: u32,
    levels: u32,
}

impl Draw {
    fn new(shape: Shape, nodes: u32, seed: u64) -> Draw {
        let levels = u32::BITS - (nodes - 1).leading_zeros();
        Draw { random: ChaCha8Rng::seed_from_u64(seed), shape, nodes, levels }
    }

    fn ends(&mut self) -> (u32, u32) {
        match self.shape {
            Shape::Quarters { a, b, c, .. } => loop {
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
            },
            Shape::PowerLaw { exponent, .. } => (self.by_rank(exponent), self.by_rank(exponent)),
            _ => (self.random.random_range(1..=self.nodes), self.random.random_range(1..=self.nodes)),
        }
    }

    /// A node whose chance falls with its rank to the power 1 / (exponent - 1): the inverse of the
    /// distribution, so that a draw costs the same for every size.
    fn by_rank(&mut self, exponent: f64) -> u32 {
        let fall = 1.0 / (exponent - 1.0);
        loop {
            let rank = self.nodes as f64 * self.random.random::<f64>().powf(1.0 / (1.0 - fall));
            let node = self.shuffled((rank as u32).min(self.nodes - 1));
            if node <= self.nodes {
                return node;
            }
        }
    }

    /// So that a node's number says nothing of its degree: an odd factor permutes the numbers.
    fn shuffled(&self, node: u32) -> u32 {
        let mask = (1u64 << self.levels) - 1;
        ((node as u64).wrapping_mul(0x9E37_79B1) & mask) as u32 + 1
    }
}

/// What a generated graph is written as.
#[derive(Clone, Copy, Debug, Default)]
pub struct Style {
    pub output: Output,
    /// Nodes with a name and a level, edges with a date and a length besides their weight.
    pub properties: bool,
}

/// Days of 2000-01-01 and how many dates there are from then on.
const FIRST_DAY: i32 = 10_957;
const DAYS: i32 = 9_000;

pub fn random_graph(shape: Shape, seed: u64, style: Style, folder: &Path) -> Result<Made, GenerateError> {
    let nodes = shape.check()?;
    let mut made = Made::default();
    let mut draw = Draw::new(shape, nodes, seed);
    let rich = style.properties;
    let node_columns = [("id", Kind::Int), ("name", Kind::Text), ("level", Kind::Float)];
    let mut out = Sink::create(folder, "nodes", &node_columns[..if rich { 3 } else { 1 }], style.output)?;
    for id in 1..=nodes {
        if rich {
            let name = format!("place-{id}");
            let level = draw.random.random_range(0..10_000) as f64 / 10.0;
            out.row(&[Cell::Int(i64::from(id)), Cell::Text(&name), Cell::Float(level)])?;
        } else {
            out.row(&[Cell::Int(i64::from(id))])?;
        }
    }
    out.finish(&mut made)?;
    let edge_columns = [
        ("source", Kind::Int),
        ("target", Kind::Int),
        ("weight", Kind::Int),
        ("since", Kind::Date),
        ("length", Kind::Float),
    ];
    let mut out = Sink::create(folder, "edges", &edge_columns[..if rich { 5 } else { 3 }], style.output)?;
    let mut edge = |draw: &mut Draw, (source, target): (u32, u32)| {
        let ends = [Cell::Int(i64::from(source)), Cell::Int(i64::from(target))];
        let weight = Cell::Int(draw.random.random_range(1..=100));
        if !rich {
            return out.row(&[ends[0], ends[1], weight]);
        }
        let since = Cell::Date(FIRST_DAY + draw.random.random_range(0..DAYS));
        let length = Cell::Float(draw.random.random_range(1..100_000) as f64 / 100.0);
        out.row(&[ends[0], ends[1], weight, since, length])
    };
    match shape {
        Shape::Even { edges, .. } | Shape::Quarters { edges, .. } | Shape::PowerLaw { edges, .. } => {
            for _ in 0..edges {
                let ends = draw.ends();
                edge(&mut draw, ends)?;
            }
        }
        Shape::Grid { width, height } => {
            for row in 0..height {
                for column in 0..width {
                    let id = row * width + column + 1;
                    if column + 1 < width {
                        edge(&mut draw, (id, id + 1))?;
                    }
                    if row + 1 < height {
                        edge(&mut draw, (id, id + width))?;
                    }
                }
            }
        }
        Shape::Tree { nodes, branches } => {
            for id in 2..=nodes {
                edge(&mut draw, ((id - 2) / branches + 1, id))?;
            }
        }
    }
    out.finish(&mut made)?;
    text(&folder.join("model.gql"), &model(rich))?;
    text(&folder.join("load.toml"), &mapping(style))?;
    made.files += 2;
    Ok(made)
}

fn model(rich: bool) -> String {
    let (node, edge) = match rich {
        true => (", name STRING, level FLOAT64", ", since DATE, length FLOAT64"),
        false => ("", ""),
    };
    format!(
        "CREATE GRAPH TYPE IF NOT EXISTS random_graph AS {{
  (Place :Place {{ id INT64 NOT NULL{node} }} KEY (id)),
  (Place)-[:LINK {{ weight INT64{edge} }}]->(Place)
}};
CREATE GRAPH IF NOT EXISTS random TYPED random_graph;
"
    )
}

/// Two edges with the same ends and weight are two edges here.
fn mapping(style: Style) -> String {
    let (node, edge) = match style.properties {
        true => (", name = \"name\", level = \"level\"", ", since = \"since\", length = \"length\""),
        false => ("", ""),
    };
    let (nodes, edges) = (style.output.file("nodes"), style.output.file("edges"));
    format!(
        "graph = \"random\"

[[table]]
file = \"{nodes}\"
[[table.node]]
labels = [\"Place\"]
properties = {{ id = \"id\"{node} }}

[[table]]
file = \"{edges}\"
[[table.edge]]
label = \"LINK\"
source = {{ labels = [\"Place\"], key = {{ id = \"source\" }} }}
target = {{ labels = [\"Place\"], key = {{ id = \"target\" }} }}
properties = {{ weight = \"weight\"{edge} }}
same = \"keep-parallel\"
"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn largest_degree(shape: Shape) -> u32 {
        let mut draw = Draw::new(shape, 1000, 1);
        let mut degrees = vec![0; 1001];
        for _ in 0..10_000 {
            let (source, target) = draw.ends();
            assert!((1..=1000).contains(&source) && (1..=1000).contains(&target));
            degrees[source as usize] += 1;
        }
        degrees.into_iter().max().unwrap_or(0)
    }

    #[test]
    fn skewed_graphs_have_hubs_and_even_ones_do_not() {
        let (nodes, edges) = (1000, 10_000);
        assert!(largest_degree(Shape::Even { nodes, edges }) < 40);
        assert!(largest_degree(Shape::skewed(nodes, edges)) > 200);
        let power = |exponent| largest_degree(Shape::PowerLaw { nodes, edges, exponent });
        assert!(power(2.1) > 4 * power(6.0), "{} {}", power(2.1), power(6.0));
    }

    #[test]
    fn shapes_that_cannot_be_are_refused() {
        for shape in [
            Shape::Even { nodes: 0, edges: 1 },
            Shape::Quarters { nodes: 5, edges: 1, a: 0.6, b: 0.3, c: 0.3 },
            Shape::PowerLaw { nodes: 5, edges: 1, exponent: 2.0 },
            Shape::Grid { width: 100_000, height: 100_000 },
            Shape::Tree { nodes: 5, branches: 0 },
        ] {
            assert!(shape.check().is_err(), "{shape:?}");
        }
    }
}
