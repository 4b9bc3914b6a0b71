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
use crate::load::connect::differing;
use crate::load::existing::Changed;
use crate::load::plan::{EdgePlan, TablePlan};
use crate::load::read::TableRead;
use crate::load::resolve::NewEdge;
use crate::mapping::{Existing, Same};

/// The rule and chunk that a part of an [`EdgeBuilder`] is; part 0 is what was there before.
struct EdgeSource {
    table: usize,
    rule: usize,
    chunk: usize,
    same: Same,
    existing: Existing,
    /// Per property name its place among the chunk's columns.
    properties: Vec<Arc<str>>,
}

#[derive(Default)]
pub(crate) struct EdgeBuilder {
    /// Per part its edges with their final ends; their `chunk` is the part.
    pieces: Vec<Vec<NewEdge>>,
    sources: Vec<EdgeSource>,
    /// Edges by part and row: later rows that change them, by part and row.
    moved: Moved,
}

type Moved = HashMap<(u32, u32), Vec<(u32, u32)>>;

impl EdgeBuilder {
    /// With the edges that are there already.
    pub fn new(old: Option<&EdgePart>, final_of: &impl Fn(Dense) -> Dense) -> EdgeBuilder {
        let place = |(row, (from, to)): (usize, (&Dense, &Dense))| NewEdge {
            from: final_of(*from),
            to: final_of(*to),
            chunk: 0,
            row: row as u32,
        };
        let existing =
            old.map(|part| part.sources.iter().zip(&part.targets).enumerate().map(place).collect());
        EdgeBuilder { pieces: vec![existing.unwrap_or_default()], sources: vec![], moved: HashMap::new() }
    }

    pub fn add_new(
        &mut self, plan: &EdgePlan, (table, rule): (usize, usize), mut chunks: Vec<Vec<NewEdge>>,
        changed: &Changed, final_of: &(impl Fn(Dense) -> Dense + Sync),
    ) {
        let first = self.pieces.len() as u32;
        for ((of_table, of_rule, chunk, row), later) in &changed.moved_edges {
            if (*of_table, *of_rule) == (table, rule) {
                let later = later.iter().map(|edge| (first + edge.chunk, edge.row)).collect();
                self.moved.insert((first + chunk, *row), later);
            }
        }
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
                same: plan.same,
                existing: plan.existing,
                properties: plan.properties.iter().map(|p| p.name.clone()).collect(),
            });
        }
        self.pieces.extend(chunks);
    }

    pub fn finish(
        self, (labels, directed): (LabelSet, bool), old: Option<&EdgePart>, plans: &[TablePlan],
        tables: &mut [TableRead], next_id: &mut u64,
    ) -> Option<EdgePart> {
        let EdgeBuilder { pieces, sources, mut moved } = self;
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

        let counts = drop_duplicates(&mut edges, &mut order, &sources, &by_name, &mut moved);
        let columns = names
            .iter()
            .zip(&by_name)
            .filter_map(|(name, parts)| {
                let numbers = if moved.is_empty() { spread.numbers(parts, &order) } else { None };
                match numbers {
                    Some(column) => Some((name.clone(), column)),
                    None => gathered(name, parts, &edges, &moved, &sources),
                }
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
        let mut made = vec![];
        let of_new = counts.into_iter().skip(1);
        let mut rejects = vec![];
        for (source, mut count) in sources.iter().zip(of_new) {
            for (row, name, given, known) in std::mem::take(&mut count.differing) {
                let plan = &plans[source.table].edges[source.rule];
                let chunk = &tables[source.table].edges[source.rule].chunks[source.chunk];
                let reject = differing(plan, chunk.offsets[row as usize], &names[name], &given, &known);
                rejects.push(((source.table, source.rule), reject));
            }
            made.push(((source.table, source.rule), count));
        }
        for ((table, rule), count) in made {
            let read = &mut tables[table].edges[rule];
            read.made += count.made;
            read.changed += count.changed;
            read.duplicates += count.duplicates;
        }
        rejects.into_iter().for_each(|((table, rule), reject)| tables[table].edges[rule].reject(reject));
        if edges.is_empty() {
            return None;
        }
        let (sources, targets) =
            rayon::join(|| edges.iter().map(|e| e.from).collect(), || edges.iter().map(|e| e.to).collect());
        Some(EdgePart { labels, directed, ids, sources, targets, columns })
    }
}

/// What the new edges of one part came to.
#[derive(Default)]
struct PartCounts {
    made: u64,
    changed: u64,
    duplicates: u64,
    /// Rows that are an edge made before with another value: the row, the property's place, both values.
    differing: Vec<(u32, usize, Value, Value)>,
}

/// Leaves out new edges that are an earlier one by what their rule says. Those there already were told
/// apart before.
fn drop_duplicates(
    edges: &mut Vec<NewEdge>, order: &mut Vec<u32>, sources: &[EdgeSource], by_name: &[Vec<Option<&Column>>],
    moved: &mut Moved,
) -> Vec<PartCounts> {
    let value = |name: usize, (part, row): (u32, u32)| {
        by_name[name][part as usize].map_or(Value::Null, |c| c.value(row as usize))
    };
    let agree = |a: &NewEdge, b: &NewEdge| {
        (0..by_name.len()).all(|name| value(name, (a.chunk, a.row)) == value(name, (b.chunk, b.row)))
    };
    let mut counts: Vec<PartCounts> = (0..=sources.len()).map(|_| PartCounts::default()).collect();
    if sources.iter().all(|source| source.same == Same::KeepParallel) {
        // Every row is an edge: nothing to look for.
        edges.iter().for_each(|edge| counts[edge.chunk as usize].made += 1);
        return counts;
    }
    let (mut run_start, mut write) = (0, 0);
    for read in 0..edges.len() {
        let edge = edges[read];
        if run_start >= write || (edges[run_start].from, edges[run_start].to) != (edge.from, edge.to) {
            run_start = write;
        }
        let part = edge.chunk as usize;
        let source = if part > 0 { Some(&sources[part - 1]) } else { None };
        let run = &edges[run_start..write];
        // Those of part 0 were there: whether the row is one of them is known already.
        let mut new = run.iter().filter(|known| known.chunk > 0);
        match source.map(|s| s.same) {
            Some(Same::IdenticalOnce) if new.any(|known| agree(known, &edge)) => {
                counts[part].duplicates += 1;
                continue;
            }
            Some(Same::SameEndsOnce) => {
                if let Some(known) = new.next().copied() {
                    let existing = source.map(|s| s.existing).unwrap_or_default();
                    let later = moved.entry((known.chunk, known.row)).or_default();
                    let row = (edge.chunk, edge.row);
                    one_of_two(
                        existing,
                        (known.chunk, known.row),
                        row,
                        later,
                        by_name.len(),
                        &value,
                        &mut counts[part],
                    );
                    continue;
                }
            }
            _ => {}
        }
        counts[part].made += 1;
        if write < read {
            edges[write] = edge;
            order[write] = order[read];
        }
        write += 1;
    }
    edges.truncate(write);
    order.truncate(write);
    moved.retain(|_, later| !later.is_empty());
    counts
}

/// A property's value after later rows have changed it.
fn moved_value(
    existing: Existing, first: (u32, u32), later: &[(u32, u32)], value: impl Fn((u32, u32)) -> Value,
) -> ((u32, u32), Value) {
    let mut now = (first, value(first));
    for &row in later {
        let own = value(row);
        if existing == Existing::Replace || !own.is_null() {
            now = (row, own);
        }
    }
    now
}

/// A row that is an edge which an earlier row made.
fn one_of_two(
    existing: Existing, known: (u32, u32), row: (u32, u32), later: &mut Vec<(u32, u32)>, names: usize,
    value: &impl Fn(usize, (u32, u32)) -> Value, counts: &mut PartCounts,
) {
    let now = |name: usize| moved_value(existing, known, later, |place| value(name, place)).1;
    let differs = |name: &usize| {
        let given = value(*name, row);
        (existing == Existing::Replace || !given.is_null()) && given != now(*name)
    };
    match ((0..names).find(differs), existing) {
        (None, _) | (_, Existing::Keep) => counts.duplicates += 1,
        (Some(_), Existing::Update | Existing::Replace) => {
            counts.changed += 1;
            later.push(row);
        }
        (Some(name), Existing::Reject) => {
            counts.differing.push((row.1, name, value(name, row), now(name)));
        }
    }
}

/// A column that is more than plain numbers, picked row by row.
fn gathered(
    name: &Arc<str>, parts: &[Option<&Column>], edges: &[NewEdge], moved: &Moved, sources: &[EdgeSource],
) -> Option<(Arc<str>, Column)> {
    let empty = Column::Other(Arc::from([]));
    let columns: Vec<&Column> = parts.iter().map(|c| c.unwrap_or(&empty)).collect();
    let value = |(part, row): (u32, u32)| {
        parts[part as usize].map_or(Value::Null, |column| column.value(row as usize))
    };
    let pick = |e: &NewEdge| {
        let place = match moved.get(&(e.chunk, e.row)) {
            Some(later) => {
                let existing = sources[e.chunk as usize - 1].existing;
                moved_value(existing, (e.chunk, e.row), later, value).0
            }
            None => (e.chunk, e.row),
        };
        parts[place.0 as usize].is_some().then_some(Pick { part: place.0, row: place.1 })
    };
    let picks: Picks = edges.iter().map(pick).collect();
    some_column(name, &columns, &picks)
}

/// Puts a bucket's items into their order: fresh memory costs more than the copy of a bucket.
fn arrange<T: Copy>(items: &mut [T], order: &[u32], start: usize) {
    let before = items.to_vec();
    for (item, &place) in items.iter_mut().zip(order) {
        *item = before[place as usize - start];
    }
}

/// Edges that are spread at once.
const AT_ONCE: usize = 1 << 17;

/// Edges spread over buckets of neighbouring sources.
struct Spread<'p> {
    pieces: &'p [Vec<NewEdge>],
    /// The pieces cut into slices that are spread side by side.
    slices: Vec<(usize, &'p [NewEdge])>,
    buckets: Buckets,
}

impl Spread<'_> {
    /// `None` where there is no edge.
    fn new<'s>(pieces: &'s [Vec<NewEdge>]) -> Option<Spread<'s>> {
        let cut = |(piece, edges): (usize, &'s Vec<NewEdge>)| edges.chunks(AT_ONCE).map(move |c| (piece, c));
        let slices: Vec<(usize, &[NewEdge])> = pieces.iter().enumerate().flat_map(cut).collect();
        let edges: Vec<&[NewEdge]> = slices.iter().map(|(_, edges)| *edges).collect();
        let buckets = Buckets::new(&edges, |edge| edge.from)?;
        Some(Spread { pieces, slices, buckets })
    }

    /// `value` of each edge, in the order of the buckets, within them in the order of the pieces.
    fn scatter<T: Copy + Default + Send + Sync>(
        &self, value: impl Fn(usize, &NewEdge) -> T + Sync,
    ) -> Vec<T> {
        self.buckets.spread(|slice, spreader| {
            let (piece, edges) = self.slices[slice];
            for edge in edges {
                spreader.put(self.buckets.of(edge.from), value(piece, edge));
            }
        })
    }

    /// The edges by source, target and then the order in which they came; and for each its place in
    /// the order of the buckets.
    fn sorted(&self) -> (Vec<NewEdge>, Vec<u32>) {
        let mut edges = self.scatter(|_, edge| *edge);
        let mut order = vec![0u32; edges.len()];
        let order_of = self.by_bucket(&mut order);
        self.by_bucket(&mut edges).into_par_iter().zip(order_of).for_each(|((start, edges), (_, order))| {
            let key = |(i, edge): (usize, &NewEdge)| ((edge.from as u64) << 32 | edge.to as u64, i as u32);
            let mut keys: Vec<(u64, u32)> = edges.iter().enumerate().map(key).collect();
            keys.sort_unstable();
            for (order, (_, i)) in order.iter_mut().zip(keys) {
                *order = start as u32 + i;
            }
            arrange(edges, order, start);
        });
        (edges, order)
    }

    /// What is in the order of the buckets, bucket by bucket, each with where it begins.
    fn by_bucket<'o, T>(&self, mut left: &'o mut [T]) -> Vec<(usize, &'o mut [T])> {
        let mut buckets = vec![];
        for bucket in 0..self.buckets.len() {
            let items = self.buckets.items(bucket);
            let own;
            (own, left) = left.split_at_mut(items.len());
            buckets.push((items.start, own));
        }
        buckets
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
                    let mut ordered = self.scatter(|piece, edge| values[piece][edge.row as usize]);
                    if order.len() == ordered.len() {
                        self.by_bucket(&mut ordered)
                            .into_par_iter()
                            .for_each(|(start, own)| arrange(own, &order[start..start + own.len()], start));
                    } else {
                        // Some were left out.
                        ordered = order.par_iter().map(|&place| ordered[place as usize]).collect();
                    }
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
