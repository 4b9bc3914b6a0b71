//! One number for a whole graph.

use graphodrome_algorithms::{assortativity, diameter_bounds};
use graphodrome_graph::Value;
use graphodrome_language::{Gives, Takes};

use crate::batch::Vector;
use crate::procedures::Entry;

use super::{About, WEIGHT, entry, floats, gives, takes};

pub(super) fn shapes() -> Vec<Entry> {
    vec![
        entry(
            About {
                name: "diameter",
                order: "",
                about: "Bounds of the greatest distance in the largest component; edges are read both ways.",
                source: "Crescenzi, Grossi, Habib, Lanzi, Marino, On computing the diameter of real-world undirected graphs, 2013",
                cost: "O(m) for each search",
            },
            [
                WEIGHT,
                takes(
                    "searches",
                    Takes::WholeNumber,
                    "100",
                    "maximum number of searches; more searches tighten the bounds",
                ),
            ],
            [gives("least", Gives::Float, "lower bound"), gives("most", Gives::Float, "upper bound")],
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
                about: "Correlation of the degrees at both ends of edges, from -1 to 1; edges are read both ways.",
                source: "Newman, Assortative mixing in networks, 2002",
                cost: "O(m)",
            },
            [],
            [gives("value", Gives::Float, "null if all degrees are equal")],
            (0, 0),
            3.0,
            |call| {
                Ok(vec![Vector::Values(vec![assortativity(call.graph).map_or(Value::Null, Value::Float)])])
            },
        ),
    ]
}
