//! Counts trails, or paths without repeated nodes, of bounded length between two nodes. Only prefixes are
//! enumerated: the last three edges are counted for all paths with the same prefix. From the three-edge walks to
//! the end those that repeat an edge (or a node) of the prefix, or one of their own, are subtracted: a sum over the
//! partitions of coinciding elements with signs (Möbius inversion on the lattice of partitions; G.-C. Rota, "On the
//! foundations of combinatorial theory I", 1964).

use crate::search::arc_rows::{ArcRows, Passage, TellWork};

/// Edges at the end of a way that are counted, not made.
const COUNTED: usize = 3;

/// With fewer ways on than these, arcs and walks to a node are looked up one by one.
const FEW: usize = 4;

/// Nodes of a beginning, from its first on, that may have tables: those further on are asked for seldom.
const WITH_TABLES: usize = 4;

/// Bytes of each node in all that is made of it: counts of its arcs and walks, and tables of the first nodes of a beginning.
pub(super) const NODE_BYTES: usize = (10 + 2 * WITH_TABLES) * size_of::<u64>() + size_of::<i128>();

/// What may not come twice.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NotTwice {
    Edges,
    /// Except that the last may be the first.
    Nodes,
    /// Nor is an edge taken there and back.
    NodesAndEdges,
}

/// The arcs among which ways are counted, and between which nodes.
pub(super) struct WaysBetween {
    nodes: usize,
    start: u32,
    end: u32,
    apart: NotTwice,
    out: ArcRows,
    into: ArcRows,
    /// Ways of one edge; and of two, those that take one edge twice.
    one: u64,
    there_and_back: u64,
}

/// How many ways there are of each length, and how many beginnings were made for that.
pub(super) struct Counted {
    pub ways: Vec<i128>,
    pub beginnings: u64,
}

impl WaysBetween {
    /// `arcs` are all different. With `both_ways` an edge may be among them in both directions.
    pub fn new<E>(
        nodes: usize, (start, end): (u32, u32), mut arcs: Vec<Passage>, (apart, both_ways): (NotTwice, bool),
        work: TellWork<'_, E>,
    ) -> Result<WaysBetween, E> {
        work(arcs.len() as u64)?;
        let one = arcs.iter().filter(|arc| (arc.from, arc.to) == (start, end)).count() as u64;
        let merged = apart != NotTwice::Edges;
        if merged {
            // A loop is the only edge of its way.
            arcs.retain(|arc| arc.from != arc.to);
        }
        let mut there_and_back = 0;
        if start == end && apart != NotTwice::Nodes {
            let mut back: Vec<(u32, u32)> =
                arcs.iter().filter(|arc| arc.to == start).map(|arc| (arc.from, arc.edge)).collect();
            back.sort_unstable();
            let there = arcs.iter().filter(|arc| arc.from == start);
            // A loop is its own way back.
            let twice = there.filter(|arc| back.binary_search(&(arc.to, arc.edge)).is_ok());
            there_and_back = twice.count() as u64;
        }
        let (out, into) = ArcRows::both(nodes, &arcs, merged, both_ways, work)?;
        Ok(WaysBetween { nodes, start, end, apart, out, into, one, there_and_back })
    }

    /// The same ways turned round.
    fn turned(self) -> WaysBetween {
        WaysBetween { start: self.end, end: self.start, out: self.into, into: self.out, ..self }
    }

    /// How many ways there are of each length from `min` to `max`; the greatest number stands for all that are more.
    pub fn by_length<E>(self, min: usize, max: usize, work: TellWork<'_, E>) -> Result<Counted, E> {
        let made = max.saturating_sub(COUNTED);
        let shorter = self.out.walks(self.start, made, work)? <= self.into.walks(self.end, made, work)?;
        work(4 * self.out.others.len() as u64)?;
        let mut closing = LastEdges::new(if shorter { self } else { self.turned() });
        let ways = &closing.ways;
        let mut counts = vec![0i128; max + 1];
        for (length, count) in counts.iter_mut().enumerate().skip(min) {
            *count = match length {
                0 => i128::from(ways.start == ways.end),
                1 => i128::from(ways.one),
                2 => i128::from(closing.two[ways.start as usize]) - i128::from(ways.there_and_back),
                _ => 0,
            };
        }
        let beginnings = match max >= COUNTED {
            true => closing.longer(min.max(COUNTED), &mut counts, work)?,
            false => 0,
        };
        Ok(Counted { ways: counts, beginnings })
    }
}

/// The last edge of a beginning, and the node it came to.
struct Frame {
    node: u32,
    /// The entry of its row that comes next.
    next: usize,
    /// How many ways the beginning stands for.
    times: i128,
    /// By node, how many arcs lead from there to this one, and how many walks of two.
    arcs_here: Option<Vec<u64>>,
    walks_here: Option<Vec<u64>>,
    /// How often the latter was asked for.
    asked: usize,
}

/// An arc of a beginning, with the depths of the frames of its ends.
#[derive(Clone, Copy)]
struct TakenArc {
    arc: Passage,
    from: usize,
    to: usize,
}

struct LastEdges {
    ways: WaysBetween,
    /// By node: arcs to the end and from it, walks of two and of three to the end.
    to_end: Vec<u64>,
    from_end: Vec<u64>,
    two: Vec<u64>,
    three: Vec<i128>,
    /// Arcs that a way to the end needs at least.
    left: Vec<u32>,
    /// By node: arcs that lead back to it when their edge is taken again, and those of them that lead to the end.
    again: Vec<u64>,
    again_to_end: Vec<u64>,
    /// Loops of the nodes to which arcs lead from the end that lead back too.
    loops_beside_end: u64,
    /// By node, how many walks of two arcs lead back to it; the greatest number where that is not known yet.
    back_in_two: Vec<u64>,
    frames: Vec<Frame>,
    /// Arcs of the edges of the beginning, each both ways where it may be taken so.
    taken: Vec<TakenArc>,
    /// The most edges of a beginning.
    deepest: usize,
    /// Tables of zeros for the next frames.
    spare: Vec<Vec<u64>>,
    /// Entries looked at since that was said last.
    looked: u64,
}

impl LastEdges {
    fn new(ways: WaysBetween) -> LastEdges {
        let n = ways.nodes;
        let (mut to_end, mut from_end) = (vec![0; n], vec![0; n]);
        ways.into.entries(ways.end).for_each(|(node, times)| to_end[node as usize] += times);
        ways.out.entries(ways.end).for_each(|(node, times)| from_end[node as usize] += times);
        let (mut two, mut three) = (vec![0u64; n], vec![0i128; n]);
        for node in (0..n as u32).filter(|node| to_end[*node as usize] > 0) {
            let ends = to_end[node as usize];
            ways.into.entries(node).for_each(|(other, times)| two[other as usize] += times * ends);
        }
        for node in (0..n as u32).filter(|node| two[*node as usize] > 0) {
            let walks = i128::from(two[node as usize]);
            let entries = ways.into.entries(node);
            entries.for_each(|(other, times)| three[other as usize] += i128::from(times) * walks);
        }
        let mut left = vec![u32::MAX; n];
        left[ways.end as usize] = 0;
        let mut waiting = std::collections::VecDeque::from([ways.end]);
        while let Some(node) = waiting.pop_front() {
            for (other, _) in ways.into.entries(node) {
                if left[other as usize] == u32::MAX {
                    left[other as usize] = left[node as usize] + 1;
                    waiting.push_back(other);
                }
            }
        }
        let (mut again, mut again_to_end, mut loops_beside_end) = (vec![], vec![], 0);
        if ways.apart == NotTwice::Edges {
            let out = &ways.out;
            again = out.counts(|node, other, back| back || other == node);
            again_to_end = out.counts(|_, other, back| back && other == ways.end);
            let beside = out.of(ways.end).filter(|i| out.back[*i]).map(|i| out.others[i]);
            loops_beside_end = beside.map(|node| out.count(node, node)).sum();
        }
        LastEdges {
            ways,
            to_end,
            from_end,
            two,
            three,
            left,
            again,
            again_to_end,
            loops_beside_end,
            back_in_two: vec![u64::MAX; n],
            frames: vec![],
            taken: vec![],
            deepest: 0,
            spare: vec![],
            looked: 0,
        }
    }

    /// Adds ways of three edges and more, from `min` on; how many beginnings were made.
    fn longer<E>(&mut self, min: usize, counts: &mut [i128], work: TellWork<'_, E>) -> Result<u64, E> {
        let deepest = counts.len() - 1 - COUNTED;
        self.deepest = deepest;
        let mut beginnings = 0;
        self.come_to(self.ways.start, 1);
        let closed = |closing: &mut LastEdges, counts: &mut [i128]| {
            let depth = closing.frames.len() - 1;
            let times = closing.frames[depth].times;
            if depth + COUNTED >= min {
                let count = &mut counts[depth + COUNTED];
                *count = count.saturating_add(times.saturating_mul(closing.closings()));
            }
        };
        closed(self, counts);
        while let Some(frame) = self.frames.last_mut() {
            let at = frame.next;
            let depth = self.frames.len() - 1;
            let node = self.frames[depth].node;
            if depth == deepest || at == self.ways.out.of(node).end {
                self.go_back();
                continue;
            }
            self.frames[depth].next += 1;
            work(1 + std::mem::take(&mut self.looked))?;
            let other = self.ways.out.others[at];
            let in_reach = (self.left[other as usize] as usize) < deepest + COUNTED - depth;
            if in_reach && self.take(at, node, other) {
                beginnings += 1;
                closed(self, counts);
            }
        }
        Ok(beginnings)
    }

    fn come_to(&mut self, node: u32, times: i128) {
        let next = self.ways.out.of(node).start;
        self.frames.push(Frame { node, next, times, arcs_here: None, walks_here: None, asked: 0 });
    }

    /// Goes on over the entry, where that was not taken yet.
    fn take(&mut self, at: usize, node: u32, other: u32) -> bool {
        let out = &self.ways.out;
        if self.ways.apart == NotTwice::Edges {
            let edge = out.edges[at];
            if self.taken.iter().any(|taken| taken.arc.edge == edge) {
                return false;
            }
            let (here, there) = (self.frames.len() - 1, self.frames.len());
            self.taken.push(TakenArc { arc: Passage { from: node, to: other, edge }, from: here, to: there });
            if out.back[at] {
                self.taken.push(TakenArc {
                    arc: Passage { from: other, to: node, edge },
                    from: there,
                    to: here,
                });
            }
            let times = self.frames.last().map_or(1, |frame| frame.times);
            self.come_to(other, times);
            return true;
        }
        if other == self.ways.end || self.frames.iter().any(|frame| frame.node == other) {
            return false;
        }
        let times = self.frames.last().map_or(1, |frame| frame.times);
        let times = times.saturating_mul(i128::from(out.times[at]));
        self.come_to(other, times);
        true
    }

    fn go_back(&mut self) {
        let Some(frame) = self.frames.pop() else { return };
        for mut table in frame.arcs_here.into_iter().chain(frame.walks_here) {
            table.fill(0);
            self.spare.push(table);
        }
        let depth = self.frames.len();
        while self.taken.last().is_some_and(|taken| taken.from.max(taken.to) == depth) {
            self.taken.pop();
        }
    }

    /// Ways of three edges from where the beginning came to, to the end, that take nothing again.
    fn closings(&mut self) -> i128 {
        let Some(node) = self.frames.last().map(|frame| frame.node) else { return 0 };
        match self.ways.apart {
            _ if self.three[node as usize] == 0 => 0,
            NotTwice::Edges => self.closing_edges(node),
            _ => self.closing_nodes(node),
        }
    }

    /// Whether the frame's node is asked for often enough for a table.
    fn is_worth_a_table(&self, depth: usize) -> bool {
        depth < self.deepest.min(WITH_TABLES) && self.ways.out.of(self.frames[depth].node).len() > FEW
    }

    /// How many arcs lead from a node to that of the frame at this depth.
    fn arcs_to(&mut self, depth: usize, node: u32) -> i128 {
        if !self.is_worth_a_table(depth) {
            return i128::from(self.ways.out.count(node, self.frames[depth].node));
        }
        let LastEdges { ways, frames, spare, looked, .. } = self;
        let frame = &mut frames[depth];
        let arcs = frame.arcs_here.get_or_insert_with(|| {
            let mut arcs = spare.pop().unwrap_or_else(|| vec![0; ways.nodes]);
            *looked += ways.into.of(frame.node).len() as u64;
            ways.into.entries(frame.node).for_each(|(other, times)| arcs[other as usize] += times);
            arcs
        });
        i128::from(arcs[node as usize])
    }

    /// How many walks of two arcs lead from a node to that of the frame at this depth.
    fn walks_to(&mut self, depth: usize, node: u32) -> i128 {
        let to = self.frames[depth].node;
        if node == to {
            if self.back_in_two[node as usize] == u64::MAX {
                self.back_in_two[node as usize] = self.count_walks(node, node);
            }
            return i128::from(self.back_in_two[node as usize]);
        }
        self.frames[depth].asked += 1;
        let worth = self.frames[depth].asked > FEW && self.is_worth_a_table(depth);
        let LastEdges { ways, frames, spare, looked, .. } = self;
        if worth {
            let walks = frames[depth].walks_here.get_or_insert_with(|| {
                let mut walks = spare.pop().unwrap_or_else(|| vec![0; ways.nodes]);
                for (middle, times) in ways.into.entries(to) {
                    *looked += ways.into.of(middle).len() as u64;
                    let before = ways.into.entries(middle);
                    before.for_each(|(other, more)| walks[other as usize] += times * more);
                }
                walks
            });
            return i128::from(walks[node as usize]);
        }
        i128::from(self.count_walks(node, to))
    }

    /// How many walks of two arcs lead from one node to another.
    fn count_walks(&mut self, node: u32, to: u32) -> u64 {
        let WaysBetween { out, into, .. } = &self.ways;
        self.looked += out.of(node).len().min(into.of(to).len()) as u64;
        match out.of(node).len() <= into.of(to).len() {
            true => out.entries(node).map(|(middle, times)| times * out.count(middle, to)).sum(),
            false => into.entries(to).map(|(middle, times)| times * out.count(node, middle)).sum(),
        }
    }

    /// No edge of the three is one of the beginning, or another of them.
    fn closing_edges(&mut self, u: u32) -> i128 {
        let end = self.ways.end;
        let int = |n: u64| i128::from(n);
        let to_end = |closing: &LastEdges, node: u32| int(closing.to_end[node as usize]);
        let again = |closing: &LastEdges, node: u32| int(closing.again[node as usize]);
        let here = to_end(self, u);
        // All three may be anything: less those of which the first two, the last two, or the first and the last are one.
        let mut count = self.three[u as usize];
        count -= here * (again(self, u) + again(self, end) + int(self.from_end[u as usize]));
        count += 2 * int(self.again_to_end[u as usize]);
        if u == end {
            count += 2 * int(self.ways.out.count(u, u)) - int(self.loops_beside_end);
        }
        let taken = std::mem::take(&mut self.taken);
        for TakenArc { arc: a, from, .. } in &taken {
            if a.from == u {
                let twice = if a.to == end { again(self, end) } else { 0 };
                count -= int(self.two[a.to as usize]) - twice;
            }
            let on = to_end(self, a.to);
            if on > 0 {
                count -= self.arcs_to(*from, u) * on;
            }
            count += self.first_is_last(u, a);
            if a.to == end {
                let twice = if a.from == u { again(self, u) } else { 0 };
                count -= self.walks_to(*from, u) - twice;
            }
        }
        let ends = taken.iter().any(|t| t.arc.from == u || t.arc.to == end);
        if ends {
            count += self.two_taken(u, &taken);
        }
        self.taken = taken;
        count
    }

    /// Walks of three arcs of which the second is this one and the others are of one edge.
    fn first_is_last(&self, u: u32, middle: &Passage) -> i128 {
        let end = self.ways.end;
        let mut count = 0;
        if middle.to == u && middle.from == end {
            count += i128::from(self.to_end[u as usize]);
        }
        if u == end && middle.from == middle.to && middle.from != u {
            let out = &self.ways.out;
            let there = out.between(u, middle.from);
            count += there.filter(|i| out.back[*i]).count() as i128;
        }
        count
    }

    /// What two or all three arcs of the beginning's edges leave of the walks of three.
    fn two_taken(&mut self, u: u32, taken: &[TakenArc]) -> i128 {
        let end = self.ways.end;
        let mut count = 0;
        let arcs = || taken.iter().map(|t| &t.arc);
        for a in arcs().filter(|a| a.from == u) {
            for b in arcs() {
                let weight = if a.edge == b.edge { 2 } else { 1 };
                if a.to == b.from {
                    count += weight * i128::from(self.to_end[b.to as usize]);
                }
                if b.to == end {
                    count += weight * i128::from(self.ways.out.count(a.to, b.from));
                }
                if a.to != b.from {
                    continue;
                }
                for c in arcs().filter(|c| c.from == b.to && c.to == end) {
                    let same = [a.edge == b.edge, b.edge == c.edge, a.edge == c.edge];
                    count -= match same.iter().filter(|same| **same).count() {
                        0 => 1,
                        1 => 2,
                        _ => 6,
                    };
                }
            }
        }
        for c in arcs().filter(|c| c.to == end) {
            for TakenArc { arc: b, from, .. } in taken.iter().filter(|b| b.arc.to == c.from) {
                let weight = if b.edge == c.edge { 2 } else { 1 };
                count += weight * self.arcs_to(*from, u);
            }
        }
        count
    }

    /// Neither of the two nodes between is one of the beginning, or the end. Without loops they are different.
    fn closing_nodes(&mut self, u: u32) -> i128 {
        let end = self.ways.end;
        let apart = self.frames.len();
        let ends_apart = usize::from(self.frames[0].node != end);
        let mut count = self.three[u as usize];
        let node_at = |closing: &LastEdges, at: usize| match closing.frames.get(at) {
            Some(frame) => frame.node,
            None => end,
        };
        for at in 0..apart + ends_apart {
            let x = node_at(self, at);
            let there = match at < apart {
                _ if x == u => 0,
                true => self.arcs_to(at, u),
                false => i128::from(self.to_end[u as usize]),
            };
            if there > 0 {
                count -= there * i128::from(self.two[x as usize]);
                for after in 0..apart {
                    let y = self.frames[after].node;
                    let on = self.to_end[y as usize];
                    if on > 0 && x != y {
                        count += there * i128::from(self.ways.out.count(x, y)) * i128::from(on);
                    }
                }
            }
            let on = i128::from(self.to_end[x as usize]);
            if on > 0 && at < apart {
                count -= self.walks_to(at, u) * on;
            }
        }
        count
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use rand::{Rng, SeedableRng};

    /// Every way, made one by one.
    struct Made<'a> {
        arcs: &'a [Passage],
        end: u32,
        apart: NotTwice,
        counts: Vec<i128>,
    }

    impl Made<'_> {
        fn from(&mut self, nodes: &mut Vec<u32>, edges: &mut Vec<u32>) {
            let node = *nodes.last().unwrap();
            if node == self.end {
                self.counts[edges.len()] += 1;
            }
            if edges.len() + 1 == self.counts.len() {
                return;
            }
            let closed = nodes.len() > 1 && nodes.first() == nodes.last();
            for arc in self.arcs.iter().filter(|arc| arc.from == node) {
                let goes = match self.apart {
                    NotTwice::Edges => !edges.contains(&arc.edge),
                    _ => !closed && !nodes[1..].contains(&arc.to),
                };
                if goes && (self.apart == NotTwice::Nodes || !edges.contains(&arc.edge)) {
                    nodes.push(arc.to);
                    edges.push(arc.edge);
                    self.from(nodes, edges);
                    nodes.pop();
                    edges.pop();
                }
            }
        }
    }

    #[test]
    fn ways_that_are_counted_are_those_that_are_made() {
        let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(20_261_201);
        for round in 0..1_500 {
            let nodes = random.random_range(1..7u32);
            let both_ways = random.random_bool(0.5);
            let mut arcs = vec![];
            for edge in 0..random.random_range(0..13) {
                let (from, to) = (random.random_range(0..nodes), random.random_range(0..nodes));
                arcs.push(Passage { from, to, edge });
                if both_ways && from != to && random.random_bool(0.8) {
                    arcs.push(Passage { from: to, to: from, edge });
                }
            }
            let (start, end) = (random.random_range(0..nodes), random.random_range(0..nodes));
            let apart = [NotTwice::Edges, NotTwice::Nodes, NotTwice::NodesAndEdges][round % 3];
            let (min, max) = (random.random_range(0..4), random.random_range(3..8));
            let mut made = Made { arcs: &arcs, end, apart, counts: vec![0; max + 1] };
            made.from(&mut vec![start], &mut vec![]);
            made.counts[..min].fill(0);
            let counts = made.counts;
            let of = (apart, both_ways);
            let mut work = |_| Ok::<(), ()>(());
            let ways = WaysBetween::new(nodes as usize, (start, end), arcs.clone(), of, &mut work).unwrap();
            let found = ways.by_length(min, max, &mut work).unwrap();
            assert_eq!(found.ways, counts, "round {round}: {apart:?} {start} to {end} {arcs:?}");
        }
    }

    #[test]
    fn counting_ends_when_it_is_told_to() {
        let arcs: Vec<Passage> =
            (0..400).map(|edge| Passage { from: edge / 20, to: edge % 20, edge }).collect();
        let (mut said, mut reached) = (0u64, false);
        // Wherever it is: while rows are made, walks are counted, or beginnings are made.
        for limit in [0, 500, 1_000, 4_000, 20_000] {
            let mut left: u64 = limit;
            let mut work = |n: u64| {
                said = said.max(n);
                left.checked_sub(n).map(|l| left = l).ok_or("enough")
            };
            let ways = WaysBetween::new(20, (0, 0), arcs.clone(), (NotTwice::Edges, false), &mut work);
            reached |= ways.is_ok();
            assert_eq!(ways.and_then(|ways| ways.by_length(1, 8, &mut work)).err(), Some("enough"));
        }
        // Nothing that is looked at in one go is much more than all there is.
        assert!(reached && said <= 4 * 400, "{said}");
    }

    #[test]
    fn more_ways_than_there_are_numbers_are_the_greatest_number() {
        // A thousand arcs from each of twenty nodes to the next.
        let arcs: Vec<Passage> =
            (0..20_000).map(|e| Passage { from: e / 1_000, to: e / 1_000 + 1, edge: e }).collect();
        let mut work = |_| Ok::<(), ()>(());
        for (end, wanted) in [(12, 10i128.pow(36)), (20, i128::MAX)] {
            let ways =
                WaysBetween::new(21, (0, end), arcs.clone(), (NotTwice::Nodes, false), &mut work).unwrap();
            let found = ways.by_length(1, end as usize, &mut work).unwrap();
            assert_eq!(found.ways[end as usize], wanted);
        }
    }
}
