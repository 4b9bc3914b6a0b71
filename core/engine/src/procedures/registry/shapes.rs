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
