//! Landmarks: nodes that lie far apart, with what a cheapest path costs from each to every node, and back. Source:
//! Goldberg and Harrelson, "Computing the shortest path: A* search meets graph theory", SODA 2005.

use rayon::join;

use crate::bound::definition::BoundDefinition;
use crate::error::GoOn;
use crate::keys::ASK_EVERY;
use crate::radix_heap::RadixHeap;
use crate::tables::{EdgeTable, Tables};
use crate::{Adjacency, Column, Dense, Direction, GraphError, Value};

/// From so many nodes it is tried what the landmarks are worth.
const TRIED: usize = 256;

/// No path is known.
pub(super) const UNKNOWN: u32 = u32::MAX;
/// A weight that is null: the edge cannot be taken.
const NONE: u32 = u32::MAX;
const NOWHERE: u64 = u64::MAX;
/// Weights fit into so many bits.
const WEIGHT_BITS: i32 = 30;

/// Distances are whole numbers of ticks, of which 2^`bits` are one of the weight; those kept are of 2^`shift` ticks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Scale {
    pub bits: i32,
    pub shift: u32,
}

impl Scale {
    /// A weight in units that are kept, rounded down; `None` where it is none.
    pub fn units(&self, weight: &Value) -> Option<u64> {
        let ticks = match weight {
            Value::Int(whole) if self.bits <= 0 => u64::try_from(*whole).ok()? >> self.bits.unsigned_abs(),
            // A decimal may be rounded up when it becomes a float.
            Value::Decimal(_) => (number(weight)? * (1.0 - 1e-15) * 2f64.powi(self.bits)) as u64,
            _ => (number(weight)? * 2f64.powi(self.bits)) as u64,
        };
        Some(ticks >> self.shift)
    }
}

#[derive(Debug)]
pub(super) struct Landmarks {
    pub nodes: Vec<Dense>,
    pub scale: Scale,
    /// For each node what it costs to get there from each landmark.
    from: Vec<u32>,
    /// And from there to each; `None` where edges go both ways, so that it is the same.
    to: Option<Vec<u32>>,
    /// Which share of what a path costs the bound says, tried between nodes and landmarks without what the landmark
    /// itself knows.
    pub share: f64,
}

impl Landmarks {
    /// Or why there can be none.
    pub fn learn(
        base: &Tables<'_>, definition: &BoundDefinition, count: usize, go_on: GoOn<'_>,
    ) -> Result<Result<Landmarks, String>, GraphError> {
        let weighed = match Weighed::read(base, definition) {
            Ok(weighed) => weighed,
            Err(reason) => return Ok(Err(reason)),
        };
        let nodes = base.node_count as usize;
        let forward = weighed.sides(definition.direction);
        let backward = weighed.sides(definition.direction.reversed());
        let both_ways = definition.direction == definition.direction.reversed();
        let distances = |root: Dense| -> Result<(Vec<u64>, Option<Vec<u64>>), GraphError> {
            if both_ways {
                return Ok((spread(&forward, root, nodes, go_on)?, None));
            }
            let (from, to) =
                join(|| spread(&forward, root, nodes, go_on), || spread(&backward, root, nodes, go_on));
            Ok((from?, Some(to?)))
        };
        // From wherever most edges are the first landmark is the node farthest away.
        let degree = |node: Dense| forward.iter().map(|side| side.adjacency.row(node).len()).sum::<usize>();
        let Some(middle) = (0..nodes as Dense).max_by_key(|node| (degree(*node), std::cmp::Reverse(*node)))
        else {
            return Ok(Err("the graph has no nodes".into()));
        };
        let first = distances(middle)?;
        let apart = |(from, to): &(Vec<u64>, Option<Vec<u64>>), node: usize| match to {
            None => Some(from[node]).filter(|&d| d != NOWHERE),
            Some(to) if from[node] != NOWHERE && to[node] != NOWHERE => Some(from[node] + to[node]),
            // Where nothing leads back, one way is better than none.
            Some(to) => Some(from[node].min(to[node])).filter(|&d| d != NOWHERE),
        };
        let mut nearest: Vec<u64> = (0..nodes).map(|node| apart(&first, node).unwrap_or(0)).collect();
        let longest = nearest.iter().copied().max().unwrap_or(0);
        let shift = 64u32.saturating_sub(longest.saturating_mul(4).leading_zeros() + 32);
        let scale = Scale { shift, bits: weighed.bits };
        let to = (!both_ways).then(Vec::new);
        let mut made = Landmarks { nodes: vec![], scale, from: vec![], to, share: 0.0 };
        let mut columns: Vec<(Vec<u32>, Option<Vec<u32>>)> = vec![];
        while made.nodes.len() < count {
            let Some(next) = (0..nodes).max_by_key(|&node| (nearest[node], std::cmp::Reverse(node))) else {
                break;
            };
            if nearest[next] == 0 {
                break;
            }
            go_on()?;
            let found = distances(next as Dense)?;
            if made.nodes.is_empty() {
                nearest.fill(u64::MAX);
            }
            for (node, nearest) in nearest.iter_mut().enumerate() {
                *nearest = (*nearest).min(apart(&found, node).unwrap_or(0));
            }
            made.nodes.push(next as Dense);
            columns.push((kept(&found.0, shift), found.1.map(|to| kept(&to, shift))));
        }
        // All that is known of a node lies together.
        made.from = by_node(columns.iter().map(|(from, _)| &from[..]), nodes);
        if let Some(to) = &mut made.to {
            *to = by_node(columns.iter().filter_map(|(_, to)| to.as_deref()), nodes);
        }
        made.share = made.tried(nodes);
        Ok(Ok(made))
    }

    /// Ways to each landmark from a few nodes all over the graph: how much of them the other landmarks tell.
    fn tried(&self, nodes: usize) -> f64 {
        // One alone cannot be tried without itself.
        if self.count() < 2 {
            return 1.0;
        }
        let (mut told, mut all) = (0u64, 0u64);
        for node in (0..nodes).step_by((nodes / TRIED).max(1)) {
            let (from, to) = self.of(node as Dense);
            for (place, &target) in self.nodes.iter().enumerate() {
                let (target_from, target_to) = self.of(target);
                let real = to[place];
                if real == UNKNOWN || real == 0 {
                    continue;
                }
                let differ = |far: u32, near: u32| match far.max(near) {
                    UNKNOWN => 0,
                    _ => far.saturating_sub(near),
                };
                let others = (0..self.count()).filter(|other| *other != place);
                let least = others.map(|i| differ(target_from[i], from[i]).max(differ(to[i], target_to[i])));
                told += u64::from(least.max().unwrap_or(0));
                all += u64::from(real);
            }
        }
        told as f64 / all.max(1) as f64
    }

    pub fn count(&self) -> usize {
        self.nodes.len()
    }

    /// What is known of a node of the base: from the landmarks there, and from there to them.
    #[inline]
    pub fn of(&self, node: Dense) -> (&[u32], &[u32]) {
        let range = node as usize * self.count()..(node as usize + 1) * self.count();
        let from = &self.from[range.clone()];
        (from, self.to.as_ref().map_or(from, |to| &to[range]))
    }

    /// Whether the node is of the base.
    pub fn has(&self, node: Dense) -> bool {
        (node as usize + 1) * self.count() <= self.from.len()
    }

    pub fn bytes(&self) -> usize {
        size_of::<u32>() * (self.from.len() + self.to.as_ref().map_or(0, Vec::len))
    }
}

fn kept(distances: &[u64], shift: u32) -> Vec<u32> {
    distances
        .iter()
        .map(|&distance| match distance {
            NOWHERE => UNKNOWN,
            _ => u32::try_from(distance >> shift).unwrap_or(UNKNOWN),
        })
        .collect()
}

fn by_node<'c>(columns: impl Iterator<Item = &'c [u32]> + Clone, nodes: usize) -> Vec<u32> {
    let count = columns.clone().count();
    let mut all = vec![0; nodes * count];
    for (place, column) in columns.enumerate() {
        for (node, distance) in column.iter().enumerate() {
            all[node * count + place] = *distance;
        }
    }
    all
}

/// The edges of a bound with their weights in ticks.
pub(super) struct Weighed<'b> {
    tables: Vec<(&'b EdgeTable, Vec<u32>)>,
    bits: i32,
}

/// The rows of one direction of one table.
struct SideRows<'w> {
    adjacency: &'w Adjacency,
    weights: &'w [u32],
}

impl<'b> Weighed<'b> {
    /// Or which edge has no weight that can be added.
    pub fn read(base: &Tables<'b>, definition: &BoundDefinition) -> Result<Weighed<'b>, String> {
        let tables: Vec<&EdgeTable> =
            base.edges.iter().map(|table| &**table).filter(|table| definition.takes(&table.labels)).collect();
        let (mut largest, mut whole) = (0f64, true);
        for table in &tables {
            let Some(column) = table.column(&definition.property) else { continue };
            whole &= matches!(column, Column::Int(_));
            for row in 0..table.len {
                if let Some(weight) = weight_of(table, column, row)? {
                    largest = largest.max(weight);
                }
            }
        }
        let needed = largest.max(1e-300).log2().floor() as i32 + 1;
        let bits = if whole { (WEIGHT_BITS - needed).min(0) } else { (WEIGHT_BITS - needed).min(40) };
        let scale = Scale { bits, shift: 0 };
        let tables = tables.into_iter().map(|table| {
            let weights = match table.column(&definition.property) {
                None => vec![NONE; table.len],
                Some(Column::Int(numbers)) if bits == 0 => (0..table.len)
                    .map(|row| if numbers.is_null(row) { NONE } else { numbers.value(row) as u32 })
                    .collect(),
                Some(column) => (0..table.len)
                    .map(|row| scale.units(&column.value(row)).map_or(NONE, |units| units as u32))
                    .collect(),
            };
            (table, weights)
        });
        Ok(Weighed { tables: tables.collect(), bits })
    }

    fn sides(&self, direction: Direction) -> Vec<SideRows<'_>> {
        let mut all = vec![];
        for (table, weights) in &self.tables {
            let Some((forward, reverse)) = table.sides(direction) else { continue };
            all.extend(
                [forward, reverse].into_iter().flatten().map(|adjacency| SideRows { adjacency, weights }),
            );
        }
        all
    }
}

/// The weight of an edge of the base; `None` where it is null.
pub(super) fn weight_of(table: &EdgeTable, column: &Column, row: usize) -> Result<Option<f64>, String> {
    let weight = match column {
        Column::Int(numbers) => (!numbers.is_null(row)).then(|| numbers.value(row) as f64),
        _ => match column.value(row) {
            Value::Null => None,
            value => Some(number(&value).ok_or_else(|| wrong(table, row, &value))?),
        },
    };
    match weight {
        Some(weight) if !(0.0..f64::INFINITY).contains(&weight) => Err(wrong(table, row, &column.value(row))),
        weight => Ok(weight),
    }
}

/// A number that can be a weight.
pub(super) fn number(value: &Value) -> Option<f64> {
    let number = match value {
        Value::Int(i) => *i as f64,
        Value::Decimal(d) => d.to_f64(),
        Value::Float(f) => *f,
        _ => return None,
    };
    (0.0..f64::INFINITY).contains(&number).then_some(number)
}

fn wrong(table: &EdgeTable, row: usize, value: &Value) -> String {
    format!("the edge e{} has {} {}", table.ids.get(row), value.type_name(), value.excerpt())
}

/// What a cheapest path from `root` to every node costs, in ticks.
fn spread(
    sides: &[SideRows<'_>], root: Dense, nodes: usize, go_on: GoOn<'_>,
) -> Result<Vec<u64>, GraphError> {
    let mut distances = vec![NOWHERE; nodes];
    let mut waiting = RadixHeap::default();
    distances[root as usize] = 0;
    waiting.push(0, root);
    let mut settled = 0usize;
    while let Some((distance, node)) = waiting.pop() {
        if distances[node as usize] != distance {
            continue;
        }
        settled += 1;
        if settled.is_multiple_of(ASK_EVERY) {
            go_on()?;
        }
        for side in sides {
            for entry in side.adjacency.row(node) {
                let weight = side.weights[side.adjacency.position(entry) as usize];
                if weight == NONE {
                    continue;
                }
                let other = side.adjacency.neighbour(entry);
                let sum = distance + u64::from(weight);
                if sum < distances[other as usize] {
                    distances[other as usize] = sum;
                    waiting.push(sum, other);
                }
            }
        }
    }
    Ok(distances)
}
