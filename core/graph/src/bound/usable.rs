//! A bound as one snapshot may use it: still valid after the changes since the base, or not.

use std::sync::Arc;

use hashbrown::HashMap;

use super::coordinates::{coordinate, line};
use super::landmarks::{Landmarks, Scale, UNKNOWN, number};
use super::{BoundSource, DistanceBound, Made};
use crate::properties::get_property;
use crate::{Dense, Direction, EdgeRecord, EdgeTest, PropertyReader, Snapshot, Value};

/// More edges that were changed since the base are not looked through for each query.
const MOST_CHANGED: usize = 50_000;
/// New nodes that hang on each other in longer chains are not followed.
const MOST_ROUNDS: usize = 32;

/// A bound that holds for all edges that a search may take.
#[derive(Debug)]
pub struct UsableBound {
    bound: Arc<DistanceBound>,
    /// The search goes against the edges of the bound.
    against: bool,
    /// What is known of nodes that are newer than the base: from and to each landmark, or where they lie.
    newer: HashMap<Dense, Newer>,
    /// Landmarks of which what was changed has left nothing sure.
    unsure: Vec<usize>,
}

#[derive(Debug)]
struct Newer {
    from: Vec<u32>,
    to: Vec<u32>,
    place: Vec<f64>,
}

/// What is left to one node at least.
#[derive(Debug)]
pub struct TowardsNode<'u> {
    usable: &'u UsableBound,
    landmarks: Option<(Vec<u32>, Vec<u32>)>,
    place: Vec<f64>,
}

/// An edge that was changed since the base, as the bound's direction goes along it.
struct Changed {
    ways: Vec<(Dense, Dense)>,
    weight: Value,
}

impl Snapshot {
    /// The bound over edges of this weight as a search over edges that pass may use it, or why it may not; `None`
    /// where there is none over this weight. Of several the first that serves.
    pub fn bound_for(
        &self, test: &EdgeTest, direction: Direction, property: &str,
    ) -> Option<Result<UsableBound, String>> {
        let mut refused = None;
        for bound in self.base.bounds.iter().filter(|bound| &*bound.definition.property == property) {
            match self.usable(bound, test, direction) {
                Ok(usable) => return Some(Ok(usable)),
                Err(reason) => {
                    refused.get_or_insert(format!("the bound {}: {reason}", bound.definition.name));
                }
            }
        }
        refused.map(Err)
    }

    /// The first bound over edges of this weight that covers all edges that pass, as far as that can be told without
    /// what was changed since the base; or why none does.
    pub fn known_bound(
        &self, test: &EdgeTest, direction: Direction, property: &str,
    ) -> Option<Result<&Arc<DistanceBound>, String>> {
        let mut refused = None;
        for bound in self.base.bounds.iter().filter(|bound| &*bound.definition.property == property) {
            match (self.covers(bound, test, direction), bound.made.get()) {
                (Ok(_), Some(Err(reason))) => refused.get_or_insert(reason.to_string()),
                (Ok(_), _) => return Some(Ok(bound)),
                (Err(reason), _) => refused.get_or_insert(reason),
            };
        }
        refused.map(Err)
    }

    /// Whether the search goes along the bound's edges, or against them.
    fn covers(&self, bound: &DistanceBound, test: &EdgeTest, direction: Direction) -> Result<bool, String> {
        let definition = &bound.definition;
        let along = definition.direction.covers(direction);
        if !along && !definition.direction.covers(direction.reversed()) {
            return Err(format!("it is over {}, and the search goes other ways too", definition.pattern()));
        }
        if let Some(table) = test.tables.iter().find(|&&t| !definition.takes(&self.base.edges[t].labels)) {
            let labels = self.base.edges[*table].labels.join("&");
            return Err(format!(
                "it is over {}, and the search takes edges :{labels} too",
                definition.pattern()
            ));
        }
        Ok(along)
    }

    fn usable(
        &self, bound: &Arc<DistanceBound>, test: &EdgeTest, direction: Direction,
    ) -> Result<UsableBound, String> {
        let along = self.covers(bound, test, direction)?;
        let made = match bound.made.get() {
            None => {
                return Err(
                    "it is not made: after a start that takes a moment, and past versions have none".into()
                );
            }
            Some(Err(reason)) => return Err(reason.to_string()),
            Some(Ok(made)) => made,
        };
        let mut usable =
            UsableBound { bound: bound.clone(), against: !along, newer: HashMap::new(), unsure: vec![] };
        let changed = self.changed_under(bound, test)?;
        if changed.is_empty() {
            return Ok(usable);
        }
        match made {
            Made::Landmarks(landmarks) => usable.follow(self, landmarks, &changed)?,
            Made::Coordinates(_) => usable.place(self, &changed)?,
        }
        Ok(usable)
    }

    /// Edges that pass and are not as the base has them.
    fn changed_under(&self, bound: &DistanceBound, test: &EdgeTest) -> Result<Vec<Changed>, String> {
        let definition = &bound.definition;
        if self.overlay.edges.len() > MOST_CHANGED {
            return Err(format!(
                "more than {MOST_CHANGED} edges were changed since the graph was last folded, and it is learnt anew then"
            ));
        }
        let records = self.overlay.edges.values().flatten();
        let passes = |edge: &EdgeRecord| test.expression.as_ref().is_none_or(|e| e.matches(&edge.labels));
        let ways = |edge: &EdgeRecord| {
            let (out, into) = match edge.directed {
                true => (definition.direction.takes_out(), definition.direction.takes_in()),
                false => (definition.direction.takes_undirected(), definition.direction.takes_undirected()),
            };
            let there = out.then_some((edge.source, edge.target));
            let back = into.then_some((edge.target, edge.source));
            [there, back].into_iter().flatten().collect::<Vec<_>>()
        };
        let mut all = vec![];
        for edge in records.filter(|edge| passes(edge)) {
            let weight = get_property(&edge.properties, &definition.property);
            if weight == Value::Null {
                continue;
            }
            if number(&weight).is_none() {
                return Err(format!("the edge e{} has {} {}", edge.id, weight.type_name(), weight.excerpt()));
            }
            all.push(Changed { ways: ways(edge), weight });
        }
        Ok(all)
    }
}

impl UsableBound {
    pub fn name(&self) -> &str {
        &self.bound.definition.name
    }

    /// What it is from, in words.
    pub fn source(&self) -> String {
        match &self.bound.definition.source {
            BoundSource::Landmarks(_) => {
                format!("{} landmarks", self.landmarks().map_or(0, Landmarks::count))
            }
            BoundSource::Coordinates(names) => format!("the coordinates {}", names.join(", ")),
        }
    }

    fn landmarks(&self) -> Option<&Landmarks> {
        match self.bound.made.get() {
            Some(Ok(Made::Landmarks(landmarks))) => Some(landmarks),
            _ => None,
        }
    }

    /// From and to each landmark.
    fn known(&self, node: Dense) -> Option<(&[u32], &[u32])> {
        if let Some(newer) = self.newer.get(&node) {
            return Some((&newer.from, &newer.to));
        }
        let landmarks = self.landmarks()?;
        (landmarks.has(node)).then(|| landmarks.of(node))
    }

    /// Finds what is to be known of new nodes, and strikes out landmarks that new edges came too near to.
    fn follow(
        &mut self, snapshot: &Snapshot, landmarks: &Landmarks, changed: &[Changed],
    ) -> Result<(), String> {
        let count = landmarks.count();
        let mut edges: Vec<(Dense, Dense, u64)> = vec![];
        for edge in changed {
            let weight = landmarks.scale.units(&edge.weight).unwrap_or(0);
            edges.extend(edge.ways.iter().map(|&(from, to)| (from, to, weight)));
        }
        let newer = |node: &Dense| *node >= snapshot.base.node_count();
        for node in edges.iter().flat_map(|&(from, to, _)| [from, to]).filter(newer) {
            let blank = || Newer { from: vec![UNKNOWN; count], to: vec![UNKNOWN; count], place: vec![] };
            self.newer.entry(node).or_insert_with(blank);
        }
        let sum = |distance: u32, weight: u64| match distance {
            UNKNOWN => UNKNOWN,
            _ => u32::try_from(u64::from(distance) + weight).unwrap_or(UNKNOWN),
        };
        for round in 0.. {
            let mut better = false;
            for &(from, to, weight) in &edges {
                let Some((before, after)) = self.known(from).zip(self.known(to)) else { continue };
                let there: Vec<u32> = before.0.iter().map(|&d| sum(d, weight)).collect();
                let back: Vec<u32> = after.1.iter().map(|&d| sum(d, weight)).collect();
                let mut lower = |node: Dense, mine: fn(&mut Newer) -> &mut Vec<u32>, found: &[u32]| {
                    let Some(newer) = self.newer.get_mut(&node) else { return };
                    for (known, found) in mine(newer).iter_mut().zip(found) {
                        better |= *found < *known;
                        *known = (*known).min(*found);
                    }
                };
                lower(to, |newer| &mut newer.from, &there);
                lower(from, |newer| &mut newer.to, &back);
            }
            if !better {
                break;
            }
            if round == MOST_ROUNDS {
                return Err(
                    "new nodes hang on each other in long chains; it is learnt anew when the graph is folded"
                        .into(),
                );
            }
        }
        // What was rounded down may be one more.
        let slack = u64::from(landmarks.scale.shift > 0);
        for landmark in 0..count {
            let holds = edges.iter().all(|&(from, to, weight)| {
                let Some((before, after)) = self.known(from).zip(self.known(to)) else { return false };
                let no_nearer = |near: u32, far: u32| match (near, far) {
                    (UNKNOWN, _) => true,
                    (_, UNKNOWN) => false,
                    (near, far) => u64::from(far) + slack <= u64::from(near) + weight,
                };
                no_nearer(before.0[landmark], after.0[landmark])
                    && no_nearer(after.1[landmark], before.1[landmark])
            });
            if !holds {
                self.unsure.push(landmark);
            }
        }
        match self.unsure.len() == count {
            true => Err("edges that were changed since the graph was last folded made ways shorter; it is learnt anew then".into()),
            false => Ok(()),
        }
    }

    /// Looks where new nodes lie, and whether what was changed is as long as the straight line.
    fn place(&mut self, snapshot: &Snapshot, changed: &[Changed]) -> Result<(), String> {
        let BoundSource::Coordinates(names) = &self.bound.definition.source else { return Ok(()) };
        let readers: Vec<PropertyReader> = names.iter().map(|name| snapshot.node_reader(name)).collect();
        let ends = changed.iter().flat_map(|edge| &edge.ways).flat_map(|&(from, to)| [from, to]);
        for node in ends.filter(|node| *node >= snapshot.base.node_count()) {
            let place = || readers.iter().map(|r| coordinate(&snapshot.read_node(node, r))).collect();
            self.newer.entry(node).or_insert_with(|| Newer { from: vec![], to: vec![], place: place() });
        }
        let short = changed.iter().any(|edge| {
            let weight = number(&edge.weight).unwrap_or(0.0);
            edge.ways.iter().any(|&(from, to)| match (self.place_of(from), self.place_of(to)) {
                (Some(from), Some(to)) => line(from, to).is_nan() || weight < line(from, to),
                _ => true,
            })
        });
        match short {
            true => Err(
                "an edge that was changed is shorter than the straight line, or an end has no coordinates"
                    .into(),
            ),
            false => Ok(()),
        }
    }

    fn place_of(&self, node: Dense) -> Option<&[f64]> {
        match self.newer.get(&node) {
            Some(newer) => Some(&newer.place),
            None => match self.bound.made.get() {
                Some(Ok(Made::Coordinates(coordinates))) => coordinates.of(node),
                _ => None,
            },
        }
    }

    pub fn towards(&self, target: Dense) -> TowardsNode<'_> {
        TowardsNode {
            usable: self,
            landmarks: self.known(target).map(|(from, to)| (from.to_vec(), to.to_vec())),
            place: self.place_of(target).unwrap_or_default().to_vec(),
        }
    }

    /// So many bits of what [`TowardsNode::ticks`] gives lie behind the point; below zero, so many are missing before it.
    pub fn bits(&self) -> i32 {
        self.landmarks().map_or(LINE_BITS, |landmarks| landmarks.scale.bits)
    }
}

/// A straight line in ticks.
const LINE_BITS: i32 = 20;

impl TowardsNode<'_> {
    /// What a path from `node` costs at least: a whole number of 2^-[`UsableBound::bits`].
    #[inline]
    pub fn ticks(&self, node: Dense) -> u64 {
        match (self.usable.landmarks(), &self.landmarks) {
            (Some(landmarks), Some((from, to))) => {
                let Some((node_from, node_to)) = self.usable.known(node) else { return 0 };
                self.by_landmarks(&landmarks.scale, (node_from, node_to), (from, to))
            }
            _ => {
                let place = self.usable.place_of(node).unwrap_or_default();
                // No coordinates are no bound: a float that is none becomes 0.
                (line(place, &self.place) * 2f64.powi(LINE_BITS)) as u64
            }
        }
    }

    #[inline]
    fn by_landmarks(&self, scale: &Scale, node: (&[u32], &[u32]), target: (&[u32], &[u32])) -> u64 {
        let (node, target) = if self.usable.against { (target, node) } else { (node, target) };
        // From a landmark by `node` to `target`, and from `node` by `target` to a landmark.
        let differ = |far: u32, near: u32| match (far, near) {
            (UNKNOWN, _) | (_, UNKNOWN) => 0,
            (far, near) => far.saturating_sub(near),
        };
        let mut most = 0;
        for landmark in 0..target.0.len() {
            let there = differ(target.0[landmark], node.0[landmark]);
            let back = differ(node.1[landmark], target.1[landmark]);
            let least = there.max(back);
            if least > most && !self.usable.unsure.contains(&landmark) {
                most = least;
            }
        }
        // Both were rounded down.
        let most = if scale.shift > 0 { most.saturating_sub(1) } else { most };
        u64::from(most) << scale.shift
    }
}
