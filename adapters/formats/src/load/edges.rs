//! The edges of one label set: sorted by their ends, which also brings those that are the same side by
//! side, with their properties in the same order.
//!
//! Rows come in the order of the files, edges go in the order of their sources, and property values go
//! the same way: by [`Buckets`].

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::{Array, Date32Array, Float64Array, Int64Array};
use graphodrome_graph::{Buckets, Column, Dense, EdgePart, Ids, LabelSet, Pick, Value};
use rayon::prelude::*;

use crate::load::assemble::{Picks, some_column};
use crate::load::plan::EdgePlan;
use crate::load::read::TableRead;
use crate::load::resolve::NewEdge;

/// The rule and chunk that a part of an [`EdgeBuilder`] is; part 0 is what was there before.
struct EdgeSource {
    table: usize,
    rule: usize,
    chunk: usize,
    keep_same: bool,
    /// Per property name its place among the chunk's columns.
    properties: Vec<Arc<str>>,
}

#[derive(Default)]
pub(crate) struct EdgeBuilder {
    /// Per part its edges with their final ends; their `chunk` is the part.
    pieces: Vec<Vec<NewEdge>>,
    sources: Vec<EdgeSource>,
}

impl EdgeBuilder {
    /// With the edges that are there already.
    pub fn new(old: Option<&EdgePart>, final_of_folded: &[Dense]) -> EdgeBuilder {
        let place = |(row, (from, to)): (usize, (&Dense, &Dense))| NewEdge {
            from: final_of_folded[*from as usize],
            to: final_of_folded[*to as usize],
            chunk: 0,
            row: row as u32,
        };
        let existing =
            old.map(|part| part.sources.iter().zip(&part.targets).enumerate().map(place).collect());
        EdgeBuilder { pieces: vec![existing.unwrap_or_default()], sources: vec![] }
    }

    pub fn add_new(
        &mut self, plan: &EdgePlan, (table, rule): (usize, usize), mut chunks: Vec<Vec<NewEdge>>,
        final_of: &(impl Fn(Dense) -> Dense + Sync),
    ) {
        let first = self.pieces.len() as u32;
        chunks.par_iter_mut().enumerate().for_each(|(chunk, edges)| {
            for edge in edges {
                let (from, to) = (final_of(edge.from), final_of(edge.to));
                let turned = !plan.directed && from > to;
                (edge.from, edge.to) = if turned { (to, from) } else { (from, to) };
                edge.chunk = first + chunk as u32;
            }
        });
        for chunk in 0..chunks.len() {
            self.sources.push(EdgeSource {
                table,
                rule,
                chunk,
                keep_same: plan.keep_same,
                properties: plan.properties.iter().map(|p| p.name.clone()).collect(),
            });
        }
        self.pieces.extend(chunks);
    }

    pub fn finish(
        self, labels: LabelSet, directed: bool, old: Option<&EdgePart>, tables: &mut [TableRead],
        next_id: &mut u64,
    ) -> Option<EdgePart> {
        let EdgeBuilder { pieces, sources } = self;
        let spread = Spread::new(&pieces)?;
        let (mut edges, mut order) = spread.sorted();
        let mut names: Vec<Arc<str>> =
            old.iter().flat_map(|p| p.columns.iter().map(|(n, _)| n.clone())).collect();
        names.extend(sources.iter().flat_map(|s| s.properties.iter().cloned()));
        names.sort();
        names.dedup();
        let column_of = |part: usize, name: &Arc<str>| -> Option<&Column> {
            if part == 0 {
                return old.and_then(|p| p.columns.iter().find(|(n, _)| n == name)).map(|(_, c)| c);
            }
            let source = &sources[part - 1];
            let place = source.properties.iter().position(|p| p == name)?;
            Some(&tables[source.table].edges[source.rule].chunks[source.chunk].columns[place])
        };
        let by_name: Vec<Vec<Option<&Column>>> =
            names.iter().map(|name| (0..pieces.len()).map(|part| column_of(part, name)).collect()).collect();

        let (made_of, duplicates_of) = drop_duplicates(&mut edges, &mut order, &sources, &by_name);
        if edges.is_empty() {
            return None;
        }
        let columns = names
            .iter()
            .zip(&by_name)
            .filter_map(|(name, parts)| match spread.numbers(parts, &order) {
                Some(column) => Some((name.clone(), column)),
                None => gathered(name, parts, &edges),
            })
            .collect();
        let ids = match old {
            None => {
                let first = *next_id;
                *next_id += edges.len() as u64;
                Ids::Sequence(first)
            }
            Some(old) => {
                let id_of = |edge: &NewEdge| match edge.chunk {
                    0 => old.ids.get(edge.row as usize),
                    _ => {
                        *next_id += 1;
                        *next_id - 1
                    }
                };
                Ids::from_vec(edges.iter().map(id_of).collect())
            }
        };
        let mut made: HashMap<(usize, usize), (u64, u64)> = HashMap::new();
        for (place, source) in sources.iter().enumerate() {
            let counts = made.entry((source.table, source.rule)).or_default();
            counts.0 += made_of[place + 1];
            counts.1 += duplicates_of[place + 1];
        }
        for ((table, rule), (new, duplicates)) in made {
            let read = &mut tables[table].edges[rule];
            read.made += new;
            read.duplicates += duplicates;
        }
        let (sources, targets) =
            rayon::join(|| edges.iter().map(|e| e.from).collect(), || edges.iter().map(|e| e.to).collect());
        Some(EdgePart { labels, directed, ids, sources, targets, columns })
    }
}

/// Leaves out new edges that agree with an earlier one of the same ends, where their rule wants that.
/// Returns the edges made and left out, part by part.
fn drop_duplicates(
    edges: &mut Vec<NewEdge>, order: &mut Vec<u32>, sources: &[EdgeSource], by_name: &[Vec<Option<&Column>>],
) -> (Vec<u64>, Vec<u64>) {
    let agree = |a: NewEdge, b: NewEdge| {
        by_name.iter().all(|parts| {
            let value = |e: NewEdge| parts[e.chunk as usize].map_or(Value::Null, |c| c.value(e.row as usize));
            value(a) == value(b)
        })
    };
    let mut made_of: Vec<u64> = vec![0; sources.len() + 1];
    let mut duplicates_of: Vec<u64> = vec![0; sources.len() + 1];
    let (mut run_start, mut write) = (0, 0);
    for read in 0..edges.len() {
        let edge = edges[read];
        if run_start >= write || (edges[run_start].from, edges[run_start].to) != (edge.from, edge.to) {
            run_start = write;
        }
        let part = edge.chunk as usize;
        let checks = part > 0 && !sources[part - 1].keep_same;
        if checks && edges[run_start..write].iter().any(|known| agree(*known, edge)) {
            duplicates_of[part] += 1;
            continue;
        }
        made_of[part] += 1;
        if write < read {
            edges[write] = edge;
            order[write] = order[read];
        }
        write += 1;
    }
    edges.truncate(write);
    order.truncate(write);
    (made_of, duplicates_of)
}

/// A column that is more than plain numbers, picked row by row.
fn gathered(name: &Arc<str>, parts: &[Option<&Column>], edges: &[NewEdge]) -> Option<(Arc<str>, Column)> {
    let empty = Column::Other(Arc::from([]));
    let columns: Vec<&Column> = parts.iter().map(|c| c.unwrap_or(&empty)).collect();
    let pick = |e: &NewEdge| parts[e.chunk as usize].is_some().then_some(Pick { part: e.chunk, row: e.row });
    let picks: Picks = edges.iter().map(pick).collect();
    some_column(name, &columns, &picks)
}

/// Edges spread over buckets of neighbouring sources.
struct Spread<'p> {
    pieces: &'p [Vec<NewEdge>],
    buckets: Buckets,
}

impl Spread<'_> {
    /// `None` where there is no edge.
    fn new(pieces: &[Vec<NewEdge>]) -> Option<Spread<'_>> {
        let slices: Vec<&[NewEdge]> = pieces.iter().map(Vec::as_slice).collect();
        Some(Spread { pieces, buckets: Buckets::new(&slices, |edge| edge.from)? })
    }

    /// `value` of each edge, in the order of the buckets, within them in the order of the pieces.
    fn scatter<T: Copy + Default + Send + Sync>(
        &self, value: impl Fn(usize, &NewEdge) -> T + Sync,
    ) -> Vec<T> {
        let mut out = vec![T::default(); self.pieces.iter().map(Vec::len).sum()];
        self.buckets.shares(&mut out).into_par_iter().for_each(|mut share| {
            for (piece, edges) in self.pieces.iter().enumerate() {
                for edge in edges {
                    share.put(self.buckets.of(edge.from), || value(piece, edge));
                }
            }
        });
        out
    }

    /// The edges by source, target and then the order in which they came; and for each its place in
    /// the order of the buckets.
    fn sorted(&self) -> (Vec<NewEdge>, Vec<u32>) {
        let spread = self.scatter(|_, edge| *edge);
        let mut sorted = vec![NewEdge::default(); spread.len()];
        let mut order = vec![0u32; spread.len()];
        let mut buckets = vec![];
        let (mut edges_left, mut order_left) = (sorted.as_mut_slice(), order.as_mut_slice());
        for bucket in 0..self.buckets.len() {
            let items = self.buckets.items(bucket);
            let (edges, order);
            (edges, edges_left) = edges_left.split_at_mut(items.len());
            (order, order_left) = order_left.split_at_mut(items.len());
            buckets.push((items.start as u32, edges, order));
        }
        buckets.into_par_iter().for_each(|(start, edges, order)| {
            let place_of = |i: usize| start + i as u32;
            let mut keys: Vec<(u64, u32)> = (0..edges.len())
                .map(|i| {
                    let edge = &spread[place_of(i) as usize];
                    ((edge.from as u64) << 32 | edge.to as u64, place_of(i))
                })
                .collect();
            keys.sort_unstable();
            for ((edge, order), (_, place)) in edges.iter_mut().zip(order).zip(keys) {
                *edge = spread[place as usize];
                *order = place;
            }
        });
        (sorted, order)
    }

    /// A column of plain numbers without nulls in the order of the edges; `None` where it is more than
    /// that.
    fn numbers(&self, parts: &[Option<&Column>], order: &[u32]) -> Option<Column> {
        macro_rules! of_kind {
            ($variant:ident, $array:ty) => {{
                let values = |(piece, part): (&Vec<NewEdge>, &Option<&Column>)| match part {
                    _ if piece.is_empty() => Some(Default::default()),
                    Some(Column::$variant(array)) if array.null_count() == 0 => Some(array.values().clone()),
                    _ => None,
                };
                let values: Option<Vec<_>> = self.pieces.iter().zip(parts).map(values).collect();
                if let Some(values) = values {
                    let spread = self.scatter(|piece, edge| values[piece][edge.row as usize]);
                    let ordered: Vec<_> = order.par_iter().map(|&place| spread[place as usize]).collect();
                    return Some(Column::$variant(<$array>::new(ordered.into(), None)));
                }
            }};
        }
        of_kind!(Int, Int64Array);
        of_kind!(Float, Float64Array);
        of_kind!(Date, Date32Array);
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn edges_come_out_sorted_with_their_values(
            pieces in prop::collection::vec(prop::collection::vec((0u32..30_000, 0u32..50), 0..6000), 0..6),
        ) {
            let edges: Vec<Vec<NewEdge>> = pieces
                .iter()
                .enumerate()
                .map(|(p, piece)| {
                    let edge = |(row, (from, to)): (usize, &(u32, u32))| NewEdge {
                        from: *from,
                        to: *to,
                        chunk: p as u32,
                        row: row as u32,
                    };
                    piece.iter().enumerate().map(edge).collect()
                })
                .collect();
            let mut wanted: Vec<NewEdge> = edges.iter().flatten().copied().collect();
            wanted.sort_by_key(|e| (e.from, e.to, e.chunk, e.row));
            let Some(spread) = Spread::new(&edges) else {
                prop_assert!(wanted.is_empty());
                return Ok(());
            };
            let (sorted, order) = spread.sorted();
            prop_assert_eq!(&sorted, &wanted);
            let value = |e: &NewEdge| e.chunk as i64 * 1000 + e.row as i64;
            let columns: Vec<Column> = edges
                .iter()
                .map(|piece| Column::Int(Int64Array::from_iter_values(piece.iter().map(value))))
                .collect();
            let parts: Vec<Option<&Column>> = columns.iter().map(Some).collect();
            let column = spread.numbers(&parts, &order).expect("plain numbers");
            for (row, edge) in wanted.iter().enumerate() {
                prop_assert_eq!(column.value(row), Value::Int(value(edge)));
            }
        }
    }
}
