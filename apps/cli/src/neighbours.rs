//! `neighbours`: the neighbourhood of a node.

use std::collections::BTreeMap;

use graphodrome_client::{Client, path_of};
use serde_json::Value;

use crate::arguments::NeighboursOptions;
use crate::table;

pub async fn neighbours(client: &Client, options: NeighboursOptions) -> anyhow::Result<()> {
    let parts = ["v1", "graphs", &options.graph, "nodes", &options.label, &options.key, "neighbourhood"];
    let numbers = [options.hops.to_string(), options.limit.to_string(), options.sample.to_string()];
    let seed = options.seed.to_string();
    let mut query = vec![
        ("hops", numbers[0].as_str()),
        ("limit", &numbers[1]),
        ("sample", &numbers[2]),
        ("seed", &seed),
        ("direction", &options.direction),
    ];
    query.extend(options.edges.as_deref().map(|edges| ("edges", edges)));
    let path = path_of(&parts, &query);
    let found = client.get(&path).await?;
    if options.json {
        println!("{}", serde_json::to_string_pretty(&found)?);
        return Ok(());
    }
    print!("{}", shown(&found));
    Ok(())
}

fn list<'v>(found: &'v Value, name: &str) -> &'v [Value] {
    found[name].as_array().map_or(&[], Vec::as_slice)
}

/// Nodes by hop with the edge by which each was reached first, and what is left out.
fn shown(found: &Value) -> String {
    let nodes = list(found, "nodes");
    let names: BTreeMap<&str, String> =
        nodes.iter().filter_map(|n| Some((n["id"].as_str()?, table::cell(n, &[])))).collect();
    let hop_of: BTreeMap<&str, u64> = nodes
        .iter()
        .zip(list(found, "hops"))
        .filter_map(|(n, hop)| Some((n["id"].as_str()?, hop.as_u64()?)))
        .collect();
    let mut rows = table::plain(&["hop", "from", "over", "node"]);
    for node in nodes {
        let Some(id) = node["id"].as_str() else { continue };
        let hop = hop_of[id];
        let by = list(found, "edges").iter().find_map(|edge| {
            let (source, target) = (edge["source"].as_str()?, edge["target"].as_str()?);
            let other = if source == id {
                target
            } else if target == id {
                source
            } else {
                return None;
            };
            (hop_of.get(other).copied()? + 1 == hop).then_some((edge, other))
        });
        let (over, from) = by.map_or((String::new(), String::new()), |(edge, other)| {
            let label = table::cell(edge, &[]);
            let arrow = match (edge["directed"].as_bool(), edge["target"].as_str() == Some(id)) {
                (Some(false), _) => format!("~[{label}]~"),
                (_, true) => format!("-[{label}]->"),
                (_, false) => format!("<-[{label}]-"),
            };
            (arrow, names.get(other).cloned().unwrap_or_default())
        });
        rows.add_row([hop.to_string(), from, over, names.get(id).cloned().unwrap_or_default()]);
    }
    let mut out = format!("{rows}\n{} nodes, {} edges\n", nodes.len(), list(found, "edges").len());
    if found["full"] == true {
        out.push_str("There are more nodes than the limit; ask for more with --limit.\n");
    }
    let left_out = list(found, "left_out");
    if !left_out.is_empty() {
        let mut rows = table::plain(&["left out at", "edges", "direction", "shown", "of"]);
        for group in left_out {
            let node = group["node"].as_str().unwrap_or_default();
            rows.add_row([
                names.get(node).cloned().unwrap_or_default(),
                group["edge"].as_str().unwrap_or_default().to_string(),
                group["direction"].as_str().unwrap_or_default().to_string(),
                group["shown"].to_string(),
                group["all"].to_string(),
            ]);
        }
        out.push_str(&format!("\n{rows}\n"));
    }
    out
}
