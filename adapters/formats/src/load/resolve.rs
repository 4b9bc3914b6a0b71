//! Resolving keys in memory: which node each row is, and which nodes are new.

use graphodrome_graph::{Dense, Snapshot};

use crate::load::connect::connect;
use crate::load::existing::Changed;
use crate::load::index::{Index, NewNode};
use crate::load::nodes::resolve_nodes;
use crate::load::plan::{KeySpace, NodePlan, TablePlan};
use crate::load::resolved::{Indexes, Resolved, Taken, Within};
use crate::load::rows::{RuleRead, TableRead};
use crate::load::{LoadError, Progress};

pub(crate) fn resolve(
    plans: &[TablePlan], tables: &mut [TableRead], snapshot: &Snapshot, progress: &Progress,
) -> Result<Resolved, LoadError> {
    let mut indexes = indexes_of(plans, tables, snapshot);
    let mut resolved = Resolved {
        existing: snapshot.node_bound(),
        nodes: vec![],
        label_sets: vec![],
        edges: vec![],
        changed: Changed::default(),
        taken: Taken::default(),
    };
    progress.hold(bytes_to_resolve(tables))?;
    let within = Within { plans, snapshot, progress };
    for (table, plan) in plans.iter().enumerate() {
        for (rule, node) in plan.nodes.iter().enumerate() {
            progress.check()?;
            if node.created_by.is_none() {
                resolve_nodes(within, tables, (table, rule), &mut indexes, &mut resolved)?;
            }
        }
    }
    for table in 0..plans.len() {
        for rule in 0..plans[table].edges.len() {
            progress.check()?;
            connect(within, tables, (table, rule), &mut indexes, &mut resolved)?;
            // The keys of the ends are looked up: the edges have their numbers.
            for chunk in &mut tables[table].edges[rule].chunks {
                (chunk.from, chunk.to) = (vec![], vec![]);
            }
        }
    }
    Ok(resolved)
}

/// An index for each space of keys that a rule looks something up in.
fn indexes_of(plans: &[TablePlan], tables: &[TableRead], snapshot: &Snapshot) -> Indexes {
    let mut spaces: Vec<KeySpace> = vec![];
    let mut want = |space: &KeySpace| {
        if !spaces.contains(space) {
            spaces.push(space.clone());
        }
    };
    for plan in plans {
        plan.nodes.iter().filter_map(|n| n.key.as_ref()).for_each(|(space, _)| want(space));
        if plan.nodes.iter().any(|n| n.has_id) {
            want(&KeySpace::ids());
        }
        for edge in &plan.edges {
            edge.from.spaces.iter().chain(&edge.to.spaces).for_each(&mut want);
        }
    }
    let mut indexes: Indexes =
        spaces.into_iter().map(|space| (space.clone(), Index::new(space, snapshot))).collect();
    for index in indexes.values_mut() {
        let of_space = |plan: &NodePlan| match &plan.key {
            Some((space, places)) if *space == index.space => places.first().copied(),
            _ => None,
        };
        let mut columns = vec![];
        for (plan, table) in plans.iter().zip(tables.iter()) {
            for (node, read) in plan.nodes.iter().zip(&table.nodes) {
                if let Some(place) = of_space(node) {
                    let filled = read.chunks.iter().filter(|c| !c.offsets.is_empty());
                    columns.extend(filled.map(|c| &c.columns[place]));
                }
            }
        }
        index.expect(&columns);
    }
    indexes
}

/// Bytes that the numbers of the rows' elements take, about.
fn bytes_to_resolve(tables: &[TableRead]) -> usize {
    const NODE: usize = size_of::<NewNode>() + 2 * size_of::<(u64, Dense)>();
    const EDGE: usize = 3 * size_of::<Dense>();
    let rows =
        |rules: &[RuleRead]| rules.iter().flat_map(|r| &r.chunks).map(|c| c.offsets.len()).sum::<usize>();
    tables.iter().map(|t| rows(&t.nodes) * NODE + rows(&t.edges) * EDGE).sum()
}
