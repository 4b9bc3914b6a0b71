//! Maps the elements of a graph to a new model: the part of each node and edge, and the parts with their columns.
//! Data that keeps its part and position is moved, not copied.

use std::collections::HashMap;
use std::sync::Arc;

use super::Carrier;
use super::change_of_types::TypeMap;
use crate::{
    Adjacency, BaseParts, Column, Dense, EdgePart, EdgeType, Element, GraphType, Ids, LabelSet, NodePart,
    Pick, PropertyType,
};

/// A part of the new graph, and the old rows that it has.
struct NewPart {
    labels: LabelSet,
    directed: bool,
    /// Old part and row, in the order of the new rows.
    rows: Vec<(u32, u32)>,
}

/// What becomes of the edges of one label set between two parts of nodes.
struct Outcome {
    of_type: Option<usize>,
    dropped: bool,
    labels: LabelSet,
}

/// Where each old node is in the new graph; `Dense::MAX` where it is gone.
struct Places {
    /// The first old node of each old part.
    firsts: Vec<usize>,
    now: Vec<Dense>,
}

impl Places {
    fn new(old: &[NodePart], new: &[NewPart]) -> Places {
        let mut total = 0;
        let firsts: Vec<usize> = (old.iter())
            .map(|part| {
                total += part.len;
                total - part.len
            })
            .collect();
        let mut now = vec![Dense::MAX; total];
        for (next, (p, row)) in new.iter().flat_map(|part| &part.rows).enumerate() {
            now[firsts[*p as usize] + *row as usize] = next as Dense;
        }
        Places { firsts, now }
    }

    /// The old part of an old node.
    fn part(&self, node: Dense) -> usize {
        self.firsts.partition_point(|&first| first <= node as usize) - 1
    }

    fn is_gone(&self, node: Dense) -> bool {
        self.now[node as usize] == Dense::MAX
    }

    fn all_stay(&self) -> bool {
        self.now.iter().enumerate().all(|(old, new)| *new as usize == old)
    }
}

/// The old types with what they become, where the graph had a model.
type Mapped<'m> = Option<(&'m GraphType, &'m TypeMap)>;

impl Carrier<'_> {
    pub(super) fn carry(&mut self, mut parts: BaseParts, map: Mapped<'_>, new: &GraphType) -> BaseParts {
        for part in &mut parts.nodes {
            self.rename(Element::Node, &mut part.labels, &mut part.columns);
        }
        for part in &mut parts.edges {
            self.rename(Element::Edge, &mut part.labels, &mut part.columns);
        }
        let nodes = self.sort_nodes(&mut parts.nodes, map, new);
        let places = Places::new(&parts.nodes, &nodes);
        let mut edges = vec![];
        for p in 0..parts.edges.len() {
            self.sort_edges(p, &mut parts, (map, new), &places, &mut edges);
        }
        if !self.changed {
            return parts;
        }
        BaseParts { edges: edges_of(edges, &mut parts, &places), nodes: nodes_of(nodes, &mut parts.nodes) }
    }

    fn rename(&mut self, element: Element, labels: &mut LabelSet, columns: &mut [(Arc<str>, Column)]) {
        for renaming in self.renamings {
            for (name, _) in columns.iter_mut() {
                let new = renaming.property(element, labels, name);
                self.changed |= new != *name;
                *name = new;
            }
            let new = renaming.labels(element, labels);
            self.changed |= new != *labels;
            *labels = new;
        }
        columns.sort_by(|a, b| a.0.cmp(&b.0));
    }

    /// Each part of nodes becomes one of the new types, or goes.
    fn sort_nodes(&mut self, old_parts: &mut [NodePart], map: Mapped<'_>, new: &GraphType) -> Vec<NewPart> {
        let mut found: Vec<NewPart> = vec![];
        for (p, part) in old_parts.iter_mut().enumerate() {
            let mut labels = part.labels.clone();
            let mut of_type = None;
            if let Some((old, map)) = map
                && let Some(t) = old.nodes.iter().position(|t| t.labels == part.labels)
            {
                match map.nodes[t] {
                    Some(n) => labels = new.nodes[n].labels.clone(),
                    None => {
                        *self.lost.entry((Element::Node, t, None)).or_default() += part.len as u64;
                        self.changed |= part.len > 0;
                        continue;
                    }
                }
                of_type = Some(t);
            }
            self.changed |= labels != part.labels;
            let declared = new.nodes.iter().find(|t| t.labels == labels).map(|t| &t.properties);
            let before = of_type.and_then(|t| map.map(|(old, _)| (t, &old.nodes[t].properties)));
            self.fit_columns(Element::Node, &mut part.columns, part.len, declared, before);
            let rows = (0..part.len as u32).map(|row| (p as u32, row));
            match found.iter_mut().find(|known| known.labels == labels) {
                Some(known) => {
                    self.changed = true;
                    known.rows.extend(rows);
                }
                None => found.push(NewPart { labels, directed: true, rows: rows.collect() }),
            }
        }
        found
    }

    /// The edges of one part go to new parts by the types of their ends.
    fn sort_edges(
        &mut self, p: usize, parts: &mut BaseParts, (map, new): (Mapped<'_>, &GraphType), places: &Places,
        found: &mut Vec<NewPart>,
    ) {
        let part = &parts.edges[p];
        let (labels, directed) = (part.labels.clone(), part.directed);
        let (outcomes, rows) = self.outcomes(part, &parts.nodes, (map, new), places);
        let mut seen: Vec<usize> = vec![];
        for t in outcomes.iter().filter_map(|o| o.of_type) {
            if !seen.contains(&t) {
                seen.push(t);
            }
        }
        let before = map.map(|(old, _)| all_properties(&mut seen.iter().map(|&t| &old.edges[t])));
        let before = seen.first().copied().zip(before.as_ref());
        let new_labels = rows.first().map_or(&labels, |(o, _)| &outcomes[*o as usize].labels).clone();
        let of_labels = |t: &&EdgeType| t.labels == new_labels && t.directed == directed;
        let declared = all_properties(&mut new.edges.iter().filter(of_labels));
        let known_type = new.edges.iter().any(|t| of_labels(&t));
        let len = part.forward.len();
        let columns = &mut parts.edges[p].columns;
        self.fit_columns(Element::Edge, columns, len, known_type.then_some(&declared), before);
        let mut part_of_outcome: Vec<Option<usize>> = vec![None; outcomes.len()];
        for (outcome, row) in rows {
            let part = *part_of_outcome[outcome as usize].get_or_insert_with(|| {
                let labels = outcomes[outcome as usize].labels.clone();
                self.changed |= labels != parts.edges[p].labels;
                let same = |known: &NewPart| known.labels == labels && known.directed == directed;
                found.iter().position(same).unwrap_or_else(|| {
                    found.push(NewPart { labels, directed, rows: vec![] });
                    found.len() - 1
                })
            });
            found[part].rows.push((p as u32, row));
        }
    }

    /// What becomes of the edges of a part, and its rows that stay, each with the place of its outcome.
    fn outcomes(
        &mut self, part: &EdgePart, nodes: &[NodePart], (map, new): (Mapped<'_>, &GraphType), places: &Places,
    ) -> (Vec<Outcome>, Vec<(u32, u32)>) {
        let (labels, directed) = (&part.labels, part.directed);
        let mut outcomes: Vec<Outcome> = vec![];
        // What becomes of the edges between two parts is asked once.
        let mut known: HashMap<(usize, usize), u32> = HashMap::new();
        let mut rows: Vec<(u32, u32)> = Vec::with_capacity(part.forward.len());
        let mut last = ((usize::MAX, usize::MAX), 0u32);
        for (row, (source, target)) in part.forward.pairs().enumerate() {
            let ends = (places.part(source), places.part(target));
            if ends != last.0 {
                let outcome = *known.entry(ends).or_insert_with(|| {
                    let ends = (&nodes[ends.0].labels, &nodes[ends.1].labels);
                    let of_type = map
                        .and_then(|(old, _)| old.edges.iter().position(|t| t.takes(labels, directed, ends)));
                    let becomes = of_type.zip(map).map(|(t, (_, map))| map.edges[t]);
                    outcomes.push(Outcome {
                        of_type,
                        dropped: becomes == Some(None),
                        labels: becomes.flatten().map_or(labels, |n| &new.edges[n].labels).clone(),
                    });
                    outcomes.len() as u32 - 1
                });
                last = (ends, outcome);
            }
            let outcome = &outcomes[last.1 as usize];
            if outcome.dropped || places.is_gone(source) || places.is_gone(target) {
                if let Some(t) = outcome.of_type {
                    *self.lost.entry((Element::Edge, t, None)).or_default() += 1;
                }
                self.changed = true;
                continue;
            }
            rows.push((last.1, row as u32));
        }
        (outcomes, rows)
    }
}

/// The properties of several types together: edges of all of them lie in one part.
fn all_properties(types: &mut dyn Iterator<Item = &EdgeType>) -> Vec<PropertyType> {
    let mut all: Vec<PropertyType> = vec![];
    for p in types.flat_map(|t| &t.properties) {
        if !all.iter().any(|known| known.name == p.name) {
            all.push(p.clone());
        }
    }
    all
}

/// Whether a new part is an old one of `len` rows as it was.
fn is_old(part: &NewPart, len: usize) -> bool {
    let first = part.rows[0].0;
    part.rows.len() == len && part.rows.iter().enumerate().all(|(i, at)| *at == (first, i as u32))
}

fn nodes_of(new: Vec<NewPart>, old: &mut [NodePart]) -> Vec<NodePart> {
    let part_of = |part: NewPart| {
        let first = part.rows[0].0 as usize;
        if is_old(&part, old[first].len) {
            let old = &mut old[first];
            let columns = std::mem::take(&mut old.columns);
            return NodePart { labels: part.labels, len: old.len, ids: old.ids.clone(), columns };
        }
        let columns: Vec<&[(Arc<str>, Column)]> = old.iter().map(|p| &*p.columns).collect();
        let ids = part.rows.iter().map(|(p, row)| old[*p as usize].ids.get(*row as usize));
        NodePart {
            len: part.rows.len(),
            ids: Ids::from_vec(ids.collect()),
            columns: gather(&columns, &part.rows),
            labels: part.labels,
        }
    };
    new.into_iter().filter(|part| !part.rows.is_empty()).map(part_of).collect()
}

fn edges_of(mut new: Vec<NewPart>, parts: &mut BaseParts, places: &Places) -> Vec<EdgePart> {
    let same_nodes = places.all_stay();
    new.retain(|part| !part.rows.is_empty());
    let stays = |part: &NewPart, old: &[EdgePart]| {
        same_nodes && is_old(part, old[part.rows[0].0 as usize].forward.len())
    };
    let mut ends: Vec<Vec<(Dense, Dense)>> = vec![];
    if !new.iter().all(|part| stays(part, &parts.edges)) {
        ends.extend(parts.edges.iter().map(|part| part.forward.pairs().collect()));
    }
    let part_of = |mut part: NewPart| {
        if stays(&part, &parts.edges) {
            let old = &mut parts.edges[part.rows[0].0 as usize];
            return EdgePart {
                labels: part.labels,
                directed: part.directed,
                ids: old.ids.clone(),
                forward: std::mem::take(&mut old.forward),
                columns: std::mem::take(&mut old.columns),
            };
        }
        let end = |(p, row): (u32, u32)| {
            let (source, target) = ends[p as usize][row as usize];
            let (a, b) = (places.now[source as usize], places.now[target as usize]);
            if part.directed || a <= b { (a, b) } else { (b, a) }
        };
        part.rows.sort_by_key(|&place| end(place));
        let forward = Adjacency::forward(part.rows.iter().map(|&place| end(place)));
        let columns: Vec<&[(Arc<str>, Column)]> = parts.edges.iter().map(|p| &*p.columns).collect();
        let ids = part.rows.iter().map(|(p, row)| parts.edges[*p as usize].ids.get(*row as usize));
        EdgePart {
            ids: Ids::from_vec(ids.collect()),
            forward,
            columns: gather(&columns, &part.rows),
            labels: part.labels,
            directed: part.directed,
        }
    };
    new.into_iter().map(part_of).collect()
}

/// The columns of rows that come from several parts.
fn gather(parts: &[&[(Arc<str>, Column)]], rows: &[(u32, u32)]) -> Vec<(Arc<str>, Column)> {
    let used: std::collections::BTreeSet<u32> = rows.iter().map(|(p, _)| *p).collect();
    let mut names: Vec<&Arc<str>> =
        used.iter().flat_map(|&p| parts[p as usize].iter().map(|(n, _)| n)).collect();
    names.sort();
    names.dedup();
    let empty = Column::Other(Arc::from([]));
    let column = |name: &Arc<str>| {
        let columns: Vec<&Column> =
            parts.iter().map(|p| p.iter().find(|(n, _)| n == name).map_or(&empty, |(_, c)| c)).collect();
        let picks: Vec<Option<Pick>> = rows
            .iter()
            .map(|&(part, row)| (!columns[part as usize].is_empty()).then_some(Pick { part, row }))
            .collect();
        Column::gather_optional(&columns, &picks)
    };
    let columns = names.into_iter().map(|name| (name.clone(), column(name)));
    columns.filter(|(_, column)| column.has_values()).collect()
}
