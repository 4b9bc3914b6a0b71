//! The edges of one label set: sorted by their ends, which also brings those that are the same side by
//! side, with their properties in the same order.
//!
//! Rows come in the order of the files, edges go in the order of their sources, and property values go
//! the same way: by [`Buckets`].

use std::collections::HashMap;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use arrow_array::{Array, Date32Array, Float64Array};
use graphodrome_graph::{
    Adjacency, Buckets, Column, Dense, EdgePart, Ids, Ints, LabelSet, Narrow, Pick, Value, WholeNumbers,
    of_width,
};
use rayon::prelude::*;

use crate::load::connect::differing;
use crate::load::existing::Changed;
use crate::load::index::NewEdge;
use crate::load::parallel::{FEW_BETWEEN, PropertiesHash};
use crate::load::picks::{Picks, some_column};
use crate::load::plan::{EdgePlan, TablePlan};
use crate::load::resolved::ChunkEdges;
use crate::load::rows::TableRead;
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
    pieces: Vec<ChunkEdges>,
    sources: Vec<EdgeSource>,
    /// Edges by part and row: later rows that change them, by part and row.
    moved: MovedEdges,
}

type MovedEdges = HashMap<(u32, u32), Vec<(u32, u32)>>;

impl EdgeBuilder {
    /// With the edges that are there already.
    pub fn new(old: Option<&EdgePart>, final_of: &impl Fn(Dense) -> Dense) -> EdgeBuilder {
        let mut existing = ChunkEdges::with_capacity(0, old.map_or(0, |part| part.forward.len()));
        for (row, (from, to)) in old.iter().flat_map(|part| part.forward.pairs()).enumerate() {
            existing.push((final_of(from), final_of(to)), row as u32);
        }
        EdgeBuilder { pieces: vec![existing], sources: vec![], moved: HashMap::new() }
    }

    pub fn add_new(
        &mut self, plan: &EdgePlan, (table, rule): (usize, usize), mut chunks: Vec<ChunkEdges>,
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
            for ends in &mut edges.ends {
                let (from, to) = (final_of(ends.0), final_of(ends.1));
                let turned = !plan.directed && from > to;
                *ends = if turned { (to, from) } else { (from, to) };
            }
            edges.chunk = first + chunk as u32;
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
        let mut edges = spread.sorted();
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

        let counts = drop_duplicates(&mut edges, &sources, (&names, &by_name), &mut moved);
        let columns = names
            .iter()
            .zip(&by_name)
            .filter_map(|(name, parts)| {
                let numbers = if moved.is_empty() { spread.numbers(parts, &edges.order) } else { None };
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
                let id_of = |edge: NewEdge| match edge.chunk {
                    0 => old.ids.get(edge.row as usize),
                    _ => {
                        *next_id += 1;
                        *next_id - 1
                    }
                };
                Ids::from_vec(edges.all().map(id_of).collect())
            }
        };
        let mut made = vec![];
        let of_new = counts.into_iter().skip(1);
        let mut rejects = vec![];
        for (source, mut count) in sources.iter().zip(of_new) {
            for (row, name, given, known) in std::mem::take(&mut count.differing) {
                let plan = &plans[source.table].edges[source.rule];
                let chunk = &tables[source.table].edges[source.rule].chunks[source.chunk];
                let reject = differing(plan, chunk.offsets.at(row as usize), &names[name], &given, &known);
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
        let forward = Adjacency::of_ends(&edges.ends);
        Some(EdgePart { labels, directed, ids, forward, columns })
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
    edges: &mut Sorted<'_>, sources: &[EdgeSource], (names, by_name): (&[Arc<str>], &[Vec<Option<&Column>>]),
    moved: &mut MovedEdges,
) -> Vec<PartCounts> {
    let value = |name: usize, (part, row): (u32, u32)| {
        by_name[name][part as usize].map_or(Value::Null, |c| c.value(row as usize))
    };
    let agree = |a: &NewEdge, b: &NewEdge| {
        (0..by_name.len()).all(|name| value(name, (a.chunk, a.row)) == value(name, (b.chunk, b.row)))
    };
    let mut counts: Vec<PartCounts> = (0..=sources.len()).map(|_| PartCounts::default()).collect();
    if sources.iter().all(|source| matches!(source.same, Same::KeepParallel | Same::OnePerRow)) {
        // Every row is an edge, and those that were there are told apart: nothing to look for.
        for (count, piece) in counts.iter_mut().zip(edges.spread.pieces) {
            count.made = piece.len() as u64;
        }
        return counts;
    }
    let (mut run_start, mut write) = (0, 0);
    let hash = PropertiesHash::default();
    let hash_of = |edge: &NewEdge| {
        let values = by_name.iter().zip(names).filter_map(|(parts, name)| {
            let column = parts[edge.chunk as usize]?;
            Some((&**name, column.value(edge.row as usize)))
        });
        hash.of(values)
    };
    // Of a run of edges with the same ends that has grown long: its new ones by the hash of what they have.
    let mut alike: HashMap<u64, Vec<usize>> = HashMap::new();
    for read in 0..edges.len() {
        let edge = edges.edge(read);
        if run_start >= write || edges.ends[run_start] != (edge.from, edge.to) {
            run_start = write;
            alike.clear();
        }
        let part = edge.chunk as usize;
        let source = if part > 0 { Some(&sources[part - 1]) } else { None };
        // Those of part 0 were there: whether the row is one of them is known already.
        let mut new = (run_start..write).map(|known| edges.edge(known)).filter(|known| known.chunk > 0);
        let long = write - run_start >= FEW_BETWEEN;
        if long && part > 0 {
            if alike.is_empty() {
                for known in run_start..write {
                    alike.entry(hash_of(&edges.edge(known))).or_default().push(known);
                }
            }
            let same_hash = alike.entry(hash_of(&edge)).or_default();
            let known = |&known: &usize| {
                let known = edges.edge(known);
                known.chunk > 0 && agree(&known, &edge)
            };
            if source.map(|s| s.same) == Some(Same::IdenticalOnce) && same_hash.iter().any(known) {
                counts[part].duplicates += 1;
                continue;
            }
            same_hash.push(write);
        }
        match source.map(|s| s.same) {
            Some(Same::IdenticalOnce) if !long && new.any(|known| agree(&known, &edge)) => {
                counts[part].duplicates += 1;
                continue;
            }
            Some(Same::SameEndsOnce) => {
                if let Some(known) = new.next() {
                    let existing = source.map(|s| s.existing).unwrap_or_default();
                    let later = moved.entry((known.chunk, known.row)).or_default();
                    let row = (edge.chunk, edge.row);
                    one_of_two(
                        existing,
                        ((known.chunk, known.row), row),
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
        edges.ends[write] = edges.ends[read];
        edges.order[write] = edges.order[read];
        write += 1;
    }
    edges.ends.truncate(write);
    edges.order.truncate(write);
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
    existing: Existing, (known, row): ((u32, u32), (u32, u32)), later: &mut Vec<(u32, u32)>, names: usize,
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
    name: &Arc<str>, parts: &[Option<&Column>], edges: &Sorted<'_>, moved: &MovedEdges,
    sources: &[EdgeSource],
) -> Option<(Arc<str>, Column)> {
    let empty = Column::Other(Arc::from([]));
    let columns: Vec<&Column> = parts.iter().map(|c| c.unwrap_or(&empty)).collect();
    let value = |(part, row): (u32, u32)| {
        parts[part as usize].map_or(Value::Null, |column| column.value(row as usize))
    };
    let pick = |e: NewEdge| {
        let place = match moved.get(&(e.chunk, e.row)) {
            Some(later) => {
                let existing = sources[e.chunk as usize - 1].existing;
                moved_value(existing, (e.chunk, e.row), later, value).0
            }
            None => (e.chunk, e.row),
        };
        parts[place.0 as usize].is_some().then_some(Pick { part: place.0, row: place.1 })
    };
    let picks: Picks = edges.all().map(pick).collect();
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
    pieces: &'p [ChunkEdges],
    /// The pieces cut into ranges of edges that are spread side by side.
    slices: Vec<(usize, Range<usize>)>,
    buckets: Buckets,
}

/// Edges in the order of their sources, then targets, then of the rows that they come from.
struct Sorted<'s> {
    spread: &'s Spread<'s>,
    ends: Vec<(Dense, Dense)>,
    /// For each edge its place in the order of the buckets.
    order: Vec<u32>,
    /// Part and row of what is in the order of the buckets, where somebody asks.
    origins: OnceLock<Vec<(u32, u32)>>,
}

impl Sorted<'_> {
    fn len(&self) -> usize {
        self.ends.len()
    }

    fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    fn edge(&self, place: usize) -> NewEdge {
        let spread = self.spread;
        let origin = |piece: usize, edge: usize| (piece as u32, spread.pieces[piece].row(edge));
        let origins = self.origins.get_or_init(|| spread.scatter(origin));
        let ((from, to), (chunk, row)) = (self.ends[place], origins[self.order[place] as usize]);
        NewEdge { from, to, chunk, row }
    }

    fn all(&self) -> impl Iterator<Item = NewEdge> {
        (0..self.len()).map(|place| self.edge(place))
    }
}

impl Spread<'_> {
    /// `None` where there is no edge.
    fn new(pieces: &[ChunkEdges]) -> Option<Spread<'_>> {
        let cut = |(piece, edges): (usize, &ChunkEdges)| {
            let len = edges.len();
            (0..len).step_by(AT_ONCE).map(move |from| (piece, from..len.min(from + AT_ONCE)))
        };
        let slices: Vec<(usize, Range<usize>)> = pieces.iter().enumerate().flat_map(cut).collect();
        let ends = |(piece, range): &(usize, Range<usize>)| &pieces[*piece].ends[range.clone()];
        let ends: Vec<&[(Dense, Dense)]> = slices.iter().map(ends).collect();
        let buckets = Buckets::new(&ends, |edge| edge.0)?;
        Some(Spread { pieces, slices, buckets })
    }

    /// `value` of each edge, by its piece and place in it, in the order of the buckets, within them in the order
    /// of the pieces.
    fn scatter<T: Copy + Default + Send + Sync>(&self, value: impl Fn(usize, usize) -> T + Sync) -> Vec<T> {
        self.buckets.spread(|slice, spreader| {
            let (piece, range) = &self.slices[slice];
            for place in range.clone() {
                let bucket = self.buckets.of(self.pieces[*piece].ends[place].0);
                spreader.put(bucket, value(*piece, place));
            }
        })
    }

    fn sorted(&self) -> Sorted<'_> {
        let mut ends = self.scatter(|piece, place| self.pieces[piece].ends[place]);
        let mut order = vec![0u32; ends.len()];
        let order_of = self.by_bucket(&mut order);
        self.by_bucket(&mut ends).into_par_iter().zip(order_of).for_each(|((start, ends), (_, order))| {
            sort_bucket(ends, order, start as u32);
        });
        Sorted { spread: self, ends, order, origins: OnceLock::new() }
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
                let values = self.filled(parts, Default::default(), |column| match column {
                    Column::$variant(array) if array.null_count() == 0 => Some(array.values().clone()),
                    _ => None,
                });
                if let Some(values) = values {
                    let value = |piece: usize, row: u32| values[piece][row as usize];
                    return Some(Column::$variant(<$array>::new(self.ordered(value, order).into(), None)));
                }
            }};
        }
        let ints = self.filled(parts, Ints::narrowed(&[], None), |column| match column {
            Column::Int(ints) if ints.null_count() == 0 => Some(ints.clone()),
            _ => None,
        });
        if let Some(ints) = ints {
            fn ordered<T: Narrow>(spread: &Spread<'_>, ints: &[Ints], order: &[u32]) -> Ints {
                let numbers: Vec<WholeNumbers<'_>> = ints.iter().map(Ints::numbers).collect();
                let value = |piece: usize, row: u32| T::of(numbers[piece].value(row as usize));
                T::ints(spread.ordered(value, order), None)
            }
            return Some(Column::Int(of_width!(Ints::widest(&ints), ordered(self, &ints, order))));
        }
        of_kind!(Float, Float64Array);
        of_kind!(Date, Date32Array);
        None
    }

    /// What is taken of each piece's column; of pieces without edges nothing. `None` where something is not there.
    fn filled<T: Clone>(
        &self, parts: &[Option<&Column>], nothing: T, take: impl Fn(&Column) -> Option<T>,
    ) -> Option<Vec<T>> {
        let of_piece = |(piece, part): (&ChunkEdges, &Option<&Column>)| match part {
            _ if piece.is_empty() => Some(nothing.clone()),
            Some(column) => take(column),
            None => None,
        };
        self.pieces.iter().zip(parts).map(of_piece).collect()
    }

    /// Values by piece and row in the order of the edges.
    fn ordered<T: Copy + Default + Send + Sync>(
        &self, value: impl Fn(usize, u32) -> T + Sync, order: &[u32],
    ) -> Vec<T> {
        let mut ordered = self.scatter(|piece, place| value(piece, self.pieces[piece].row(place)));
        if order.len() != ordered.len() {
            // Some were left out.
            return order.par_iter().map(|&place| ordered[place as usize]).collect();
        }
        self.by_bucket(&mut ordered)
            .into_par_iter()
            .for_each(|(start, own)| arrange(own, &order[start..start + own.len()], start));
        ordered
    }
}

/// Edges below which a bucket is sorted by comparing.
const FEW: usize = 64;

/// Sorts a bucket's edges, keeping the order of those that are the same, and says where each was. Edges become
/// numbers of their source, target and place, which are put in order by groups of bits from the lowest on.
fn sort_bucket(ends: &mut [(Dense, Dense)], order: &mut [u32], start: u32) {
    let bits = |most: u32| 32 - most.leading_zeros();
    let (first, mut last, mut most) = (ends.iter().map(|e| e.0).min().unwrap_or(0), 0, 0);
    for (from, to) in ends.iter() {
        (last, most) = (last.max(*from), most.max(*to));
    }
    let (place_bits, to_bits) = (bits(ends.len() as u32), bits(most));
    let key_bits = bits(last.saturating_sub(first)) + to_bits;
    if ends.len() < FEW || place_bits + key_bits > u64::BITS {
        let mut keyed: Vec<((Dense, Dense), u32)> = ends.iter().copied().zip(start..).collect();
        keyed.sort_unstable();
        for ((edge, order), (sorted, place)) in ends.iter_mut().zip(order).zip(keyed) {
            (*edge, *order) = (sorted, place);
        }
        return;
    }
    let number = |((from, to), place): (&(Dense, Dense), u64)| {
        (u64::from(from - first) << to_bits | u64::from(*to)) << place_bits | place
    };
    let mut numbers: Vec<u64> = ends.iter().zip(0..).map(number).collect();
    sort_by_bits(&mut numbers, place_bits, key_bits);
    let lowest = |number: u64, bits: u32| (number & ((1 << bits) - 1)) as u32;
    for ((edge, order), number) in ends.iter_mut().zip(order).zip(numbers) {
        let key = number >> place_bits;
        *edge = (first + (key >> to_bits) as u32, lowest(key, to_bits));
        *order = start + lowest(number, place_bits);
    }
}

/// Sorts numbers by `bits` of their bits, from `lowest` on; what agrees in them stays in its order.
fn sort_by_bits(numbers: &mut Vec<u64>, mut lowest: u32, bits: u32) {
    const MOST_AT_ONCE: u32 = 8;
    let mut left = bits;
    let mut other = vec![0u64; numbers.len()];
    while left > 0 {
        let taken = left.div_ceil(left.div_ceil(MOST_AT_ONCE));
        let digit = |number: &u64| (number >> lowest) as usize & ((1 << taken) - 1);
        let mut places = [0u32; 1 << MOST_AT_ONCE];
        numbers.iter().for_each(|number| places[digit(number)] += 1);
        let mut next = 0;
        for place in &mut places {
            next += std::mem::replace(place, next);
        }
        for number in numbers.iter() {
            let place = &mut places[digit(number)];
            other[*place as usize] = *number;
            *place += 1;
        }
        std::mem::swap(numbers, &mut other);
        (lowest, left) = (lowest + taken, left - taken);
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
            pieces in prop::collection::vec(
                (prop::collection::vec((0u32..30_000, 0u32..50), 0..6000), 1u32..3, any::<bool>()), 0..6),
            far in 0u32..=31,
        ) {
            // Where not every row made an edge, and where the ends lie far apart.
            let edges: Vec<ChunkEdges> = pieces
                .iter()
                .enumerate()
                .map(|(p, (piece, step, hub))| {
                    let mut edges = ChunkEdges::with_capacity(p as u32, 0);
                    for (row, (from, to)) in piece.iter().enumerate() {
                        let from = if *hub && row % 3 > 0 { 7 } else { *from };
                        edges.push((from, to.rotate_right(far)), row as u32 * step);
                    }
                    edges
                })
                .collect();
            let mut wanted: Vec<NewEdge> = edges.iter().flat_map(|piece| piece.edges()).collect();
            wanted.sort_by_key(|e| (e.from, e.to, e.chunk, e.row));
            let Some(spread) = Spread::new(&edges) else {
                prop_assert!(wanted.is_empty());
                return Ok(());
            };
            let sorted = spread.sorted();
            prop_assert_eq!(sorted.all().collect::<Vec<_>>(), wanted.clone());
            let value = |e: &NewEdge| e.chunk as i64 * 1000 + e.row as i64;
            let column = |piece: &ChunkEdges| {
                let mut values = vec![0; piece.edges().map(|e| e.row as usize + 1).max().unwrap_or(0)];
                piece.edges().for_each(|e| values[e.row as usize] = value(&e));
                Column::Int(Ints::narrowed(&values, None))
            };
            let columns: Vec<Column> = edges.iter().map(column).collect();
            let parts: Vec<Option<&Column>> = columns.iter().map(Some).collect();
            let column = spread.numbers(&parts, &sorted.order).expect("plain numbers");
            for (row, edge) in wanted.iter().enumerate() {
                prop_assert_eq!(column.value(row), Value::Int(value(edge)));
            }
        }
    }
}
