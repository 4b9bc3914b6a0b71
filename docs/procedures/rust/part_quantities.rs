//! How many of each part are in one piece of another, along a bill of parts: quantities are multiplied along the way and
//! added up over all ways.
//!
//!     rustup target add wasm32-unknown-unknown
//!     rustc --edition 2021 --crate-type cdylib --target wasm32-unknown-unknown -O -C panic=abort -C strip=symbols part_quantities.rs

#[macro_use]
mod procedure;

use procedure::{arguments, part, results, Direction};

procedure!(
    "part_quantities(of NODE) YIELD node NODE, quantity FLOAT64, level INT64
     How many of each part are in one piece of another: the quantities (the weights of the edges) are multiplied along each
     way and added up over all ways. The level is the length of the longest way.",
    run
);

fn run() -> Result<(), String> {
    let root = match arguments::nodes("of")[..] {
        [root] => root as usize,
        _ => return Err("of is one node".into()),
    };
    let count = part::node_count();
    let (starts, neighbours) = (part::starts(Direction::Along), part::neighbours(Direction::Along));
    let (edges, quantities) = (part::edges(Direction::Along), part::weights());
    let row = |node: usize| starts[node] as usize..starts[node + 1] as usize;

    // What can be reached, and how many edges lead to each of it from there.
    let (mut waiting, mut seen, mut before) = (vec![root], vec![false; count], vec![0u32; count]);
    seen[root] = true;
    while let Some(node) = waiting.pop() {
        for at in row(node) {
            let next = neighbours[at] as usize;
            before[next] += 1;
            if !seen[next] {
                seen[next] = true;
                waiting.push(next);
            }
        }
    }
    if before[root] > 0 {
        return Err("the part is, through others, a part of itself".into());
    }

    // Each part after all that it is in (Kahn 1962).
    let (mut quantity, mut level) = (vec![0.0; count], vec![0i64; count]);
    let mut order = vec![root as u32];
    quantity[root] = 1.0;
    let mut done = 0;
    while done < order.len() {
        let node = order[done] as usize;
        done += 1;
        for at in row(node) {
            let next = neighbours[at] as usize;
            quantity[next] += quantity[node] * quantities[edges[at] as usize];
            level[next] = level[next].max(level[node] + 1);
            before[next] -= 1;
            if before[next] == 0 {
                order.push(next as u32);
            }
        }
    }
    if order.len() < seen.iter().filter(|seen| **seen).count() {
        return Err("some parts are, through others, parts of themselves".into());
    }
    results::nodes("node", &order);
    results::numbers("quantity", &order.iter().map(|n| quantity[*n as usize]).collect::<Vec<f64>>());
    results::wholes("level", &order.iter().map(|n| level[*n as usize]).collect::<Vec<i64>>());
    Ok(())
}
