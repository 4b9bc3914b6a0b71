//! Changing the model of a graph that has elements: what is different, what is lost, and the elements as
//! the new model has them. Columns are carried over whole; only what the model changes is touched.

use std::collections::HashMap;
use std::sync::Arc;

use crate::renaming::Renaming;
use crate::{
    Adjacency, BaseParts, Column, ColumnBuilder, Created, Dense, EdgePart, EdgeType, Element, GraphError,
    GraphType, Ids, KeyDefinition, LabelSet, NodePart, NodeType, Pick, PropertyType, Snapshot, Value,
    label_set,
};

/// Keys and indexes that still have their label and properties under a type; and those that have not.
pub fn kept_lookups(created: &Created, graph_type: &GraphType) -> (Created, Vec<Arc<KeyDefinition>>) {
    let fits = |key: &KeyDefinition| {
        let has = |labels: &LabelSet, types: &[PropertyType]| {
            labels.contains(&key.label) && key.properties.iter().all(|p| types.iter().any(|t| t.name == *p))
        };
        match key.element {
            Element::Node => graph_type.nodes.iter().any(|t| has(&t.labels, &t.properties)),
            Element::Edge => graph_type.edges.iter().any(|t| has(&t.labels, &t.properties)),
        }
    };
    let (keys, mut gone): (Vec<_>, Vec<_>) = created.keys.iter().cloned().partition(|k| fits(k));
    let (indexes, gone_indexes): (Vec<_>, Vec<_>) = created.indexes.iter().cloned().partition(|k| fits(k));
    gone.extend(gone_indexes);
    (Created { keys, indexes, views: created.views.clone() }, gone)
}

/// A way in which the new model differs from the old one.
#[derive(Clone, Debug, PartialEq)]
pub struct Difference {
    pub element: Element,
    /// Of the old type, as it is called after the renamings; of the new one where there is no old one.
    pub labels: LabelSet,
    pub property: Option<Arc<str>>,
    pub message: String,
    /// Elements or values that are there no more afterwards.
    pub lost: u64,
    /// What finds them before.
    pub query: Option<String>,
}

/// Which type of the new model each type of the old one becomes.
struct TypeMap {
    nodes: Vec<Option<usize>>,
    edges: Vec<Option<usize>>,
}

impl TypeMap {
    fn new(old: &GraphType, new: &GraphType) -> TypeMap {
        let node = |t: &NodeType| {
            let by = |test: &dyn Fn(&NodeType) -> bool| new.nodes.iter().position(test);
            by(&|n| n.labels == t.labels)
                .or_else(|| by(&|n| n.name.is_some() && n.name == t.name))
                .or_else(|| by(&|n| n.key_labels == t.key_labels))
        };
        let nodes: Vec<Option<usize>> = old.nodes.iter().map(node).collect();
        let meets = |old_end: &crate::Endpoint, new_end: &crate::Endpoint| {
            old.nodes.iter().zip(&nodes).any(|(t, mapped)| {
                old_end.accepts(&t.labels) && mapped.is_some_and(|m| new_end.accepts(&new.nodes[m].labels))
            })
        };
        let edge = |t: &EdgeType| {
            let by = |test: &dyn Fn(&EdgeType) -> bool| new.edges.iter().position(test);
            let connects = |n: &EdgeType| meets(&t.source, &n.source) && meets(&t.target, &n.target);
            let same = |n: &EdgeType| n.labels == t.labels && n.directed == t.directed;
            by(&|n| same(n) && n.source == t.source && n.target == t.target)
                .or_else(|| by(&|n| n.name.is_some() && n.name == t.name && n.directed == t.directed))
                .or_else(|| by(&|n| same(n) && connects(n)))
        };
        TypeMap { edges: old.edges.iter().map(edge).collect(), nodes }
    }
}

/// What a new model makes of a graph.
pub struct Migration {
    pub differences: Vec<Difference>,
    /// The elements as they become; `None` where they stay as they are.
    pub parts: Option<BaseParts>,
}

/// Old rows that stay, per old part, and what becomes of them.
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

struct Carrier<'s> {
    renamings: &'s [Renaming],
    lost: HashMap<(Element, usize, Option<Arc<str>>), u64>,
    changed: bool,
}

/// Makes what is in a graph into what a new model wants of it. It is not checked here: what stands in the
/// way is found by looking for violations in the result.
pub fn migrate(
    snapshot: &Snapshot, new: &GraphType, renamings: &[Renaming],
) -> Result<Migration, GraphError> {
    let old = match &snapshot.graph_type {
        Some(old) => {
            let mut old = GraphType::clone(old);
            for renaming in renamings {
                old = renaming.of_type(&old)?;
            }
            Some(old)
        }
        None => None,
    };
    let map = old.as_ref().map(|old| TypeMap::new(old, new));
    let mut differences = renamed(renamings);
    let mut carrier = Carrier { renamings, lost: HashMap::new(), changed: false };
    let parts = carrier.carry(snapshot.fold(), old.as_ref().zip(map.as_ref()), new);
    if let (Some(old), Some(map), Some(given)) = (&old, &map, &snapshot.graph_type) {
        differences.extend(compare((given, old), new, map, &carrier.lost));
    }
    Ok(Migration { differences, parts: carrier.changed.then_some(parts) })
}

/// Renames without any other change.
pub fn rename_elements(snapshot: &Snapshot, renamings: &[Renaming]) -> Option<BaseParts> {
    let mut carrier = Carrier { renamings, lost: HashMap::new(), changed: false };
    let parts = carrier.carry(snapshot.fold(), None, &GraphType::default());
    carrier.changed.then_some(parts)
}

fn renamed(renamings: &[Renaming]) -> Vec<Difference> {
    let difference = |r: &Renaming| Difference {
        element: r.element,
        labels: label_set([r.label.clone().unwrap_or_else(|| r.from.clone())]),
        property: r.label.as_ref().map(|_| r.from.clone()),
        message: match &r.label {
            None => format!("{} label {} becomes {}", r.element, r.from, r.to),
            Some(label) => format!("{} :{label}: property {} becomes {}", r.element, r.from, r.to),
        },
        lost: 0,
        query: None,
    };
    renamings.iter().map(difference).collect()
}

impl Carrier<'_> {
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

    fn carry(
        &mut self, mut parts: BaseParts, map: Option<(&GraphType, &TypeMap)>, new: &GraphType,
    ) -> BaseParts {
        for part in &mut parts.nodes {
            self.rename(Element::Node, &mut part.labels, &mut part.columns);
        }
        for part in &mut parts.edges {
            self.rename(Element::Edge, &mut part.labels, &mut part.columns);
        }
        // Nodes: each part becomes one of the new types, or goes.
        let mut node_parts: Vec<NewPart> = vec![];
        for (p, part) in parts.nodes.iter_mut().enumerate() {
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
            match node_parts.iter_mut().find(|known| known.labels == labels) {
                Some(known) => {
                    self.changed = true;
                    known.rows.extend(rows);
                }
                None => node_parts.push(NewPart { labels, directed: true, rows: rows.collect() }),
            }
        }
        // Where each old node is now.
        let firsts: Vec<usize> = (parts.nodes.iter())
            .scan(0, |next, part| {
                let first = *next;
                *next += part.len;
                Some(first)
            })
            .collect();
        let total: usize = parts.nodes.iter().map(|p| p.len).sum();
        let mut place = vec![Dense::MAX; total];
        let mut next = 0;
        for part in &node_parts {
            for (p, row) in &part.rows {
                place[firsts[*p as usize] + *row as usize] = next;
                next += 1;
            }
        }
        let part_of = |node: Dense| firsts.partition_point(|&first| first <= node as usize) - 1;
        // Edges: by the types of their ends.
        let mut edge_parts: Vec<NewPart> = vec![];
        for p in 0..parts.edges.len() {
            let part = &parts.edges[p];
            let (labels, directed) = (part.labels.clone(), part.directed);
            let mut seen: Vec<usize> = vec![];
            // What becomes of the edges between two parts, asked once: the places in this list.
            let mut outcomes: Vec<Outcome> = vec![];
            let mut known: HashMap<(usize, usize), u32> = HashMap::new();
            let mut rows: Vec<(u32, u32)> = Vec::with_capacity(part.forward.len());
            let mut last = ((usize::MAX, usize::MAX), 0u32);
            for (row, (source, target)) in part.forward.pairs().enumerate() {
                let ends = (part_of(source), part_of(target));
                if ends != last.0 {
                    let outcome = *known.entry(ends).or_insert_with(|| {
                        let ends = (&parts.nodes[ends.0].labels, &parts.nodes[ends.1].labels);
                        let of_type = map.and_then(|(old, _)| {
                            old.edges.iter().position(|t| t.takes(&labels, directed, ends))
                        });
                        seen.extend(of_type.filter(|t| !seen.contains(t)));
                        let becomes = of_type.zip(map).map(|(t, (_, map))| map.edges[t]);
                        outcomes.push(Outcome {
                            of_type,
                            dropped: becomes == Some(None),
                            labels: becomes.flatten().map_or(&labels, |n| &new.edges[n].labels).clone(),
                        });
                        outcomes.len() as u32 - 1
                    });
                    last = (ends, outcome);
                }
                let outcome = &outcomes[last.1 as usize];
                let gone = place[source as usize] == Dense::MAX || place[target as usize] == Dense::MAX;
                if gone || outcome.dropped {
                    if let Some(t) = outcome.of_type {
                        *self.lost.entry((Element::Edge, t, None)).or_default() += 1;
                    }
                    self.changed = true;
                    continue;
                }
                rows.push((last.1, row as u32));
            }
            // Edges of several types lie in one part: it has the properties of all of them.
            let union = |types: &mut dyn Iterator<Item = &EdgeType>| {
                let mut all: Vec<PropertyType> = vec![];
                for p in types.flat_map(|t| &t.properties) {
                    if !all.iter().any(|known| known.name == p.name) {
                        all.push(p.clone());
                    }
                }
                all
            };
            let before = map.map(|(old, _)| union(&mut seen.iter().map(|&t| &old.edges[t])));
            let before = seen.first().copied().zip(before.as_ref());
            let new_labels = rows.first().map_or(&labels, |(o, _)| &outcomes[*o as usize].labels).clone();
            let of_labels = |t: &&EdgeType| t.labels == new_labels && t.directed == directed;
            let declared = union(&mut new.edges.iter().filter(of_labels));
            let known_type = new.edges.iter().any(|t| t.labels == new_labels && t.directed == directed);
            let len = parts.edges[p].forward.len();
            let columns = &mut parts.edges[p].columns;
            self.fit_columns(Element::Edge, columns, len, known_type.then_some(&declared), before);
            let mut part_of_outcome: Vec<Option<usize>> = vec![None; outcomes.len()];
            for (outcome, row) in rows {
                let part = *part_of_outcome[outcome as usize].get_or_insert_with(|| {
                    let labels = outcomes[outcome as usize].labels.clone();
                    self.changed |= labels != parts.edges[p].labels;
                    let same = |known: &NewPart| known.labels == labels && known.directed == directed;
                    edge_parts.iter().position(same).unwrap_or_else(|| {
                        edge_parts.push(NewPart { labels, directed, rows: vec![] });
                        edge_parts.len() - 1
                    })
                });
                edge_parts[part].rows.push((p as u32, row));
            }
        }
        if !self.changed {
            return parts;
        }
        let identity = |part: &NewPart, len: usize| {
            part.rows.len() == len
                && part
                    .rows
                    .iter()
                    .enumerate()
                    .all(|(i, (p, row))| *row as usize == i && *p == part.rows[0].0)
        };
        let nodes = node_parts
            .into_iter()
            .filter(|part| !part.rows.is_empty())
            .map(|part| {
                let first = part.rows[0].0 as usize;
                if identity(&part, parts.nodes[first].len) {
                    let old = &mut parts.nodes[first];
                    let columns = std::mem::take(&mut old.columns);
                    return NodePart { labels: part.labels, len: old.len, ids: old.ids.clone(), columns };
                }
                let columns: Vec<&[(Arc<str>, Column)]> = parts.nodes.iter().map(|p| &*p.columns).collect();
                NodePart {
                    labels: part.labels,
                    len: part.rows.len(),
                    ids: Ids::from_vec(
                        part.rows
                            .iter()
                            .map(|(p, row)| parts.nodes[*p as usize].ids.get(*row as usize))
                            .collect(),
                    ),
                    columns: gather(&columns, &part.rows),
                }
            })
            .collect();
        let same_nodes = place.iter().enumerate().all(|(old, new)| *new as usize == old);
        edge_parts.retain(|part| !part.rows.is_empty());
        let stays = |part: &NewPart, old: &[EdgePart]| {
            same_nodes && identity(part, old[part.rows[0].0 as usize].forward.len())
        };
        let mut ends: Vec<Vec<(Dense, Dense)>> = vec![];
        if !edge_parts.iter().all(|part| stays(part, &parts.edges)) {
            ends.extend(parts.edges.iter().map(|part| part.forward.pairs().collect()));
        }
        let edges = edge_parts
            .into_iter()
            .map(|mut part| {
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
                    let (a, b) = (place[source as usize], place[target as usize]);
                    if part.directed || a <= b { (a, b) } else { (b, a) }
                };
                part.rows.sort_by_key(|&place| end(place));
                let forward = Adjacency::forward(part.rows.iter().map(|&place| end(place)));
                let columns: Vec<&[(Arc<str>, Column)]> = parts.edges.iter().map(|p| &*p.columns).collect();
                EdgePart {
                    ids: Ids::from_vec(
                        part.rows
                            .iter()
                            .map(|(p, row)| parts.edges[*p as usize].ids.get(*row as usize))
                            .collect(),
                    ),
                    forward,
                    columns: gather(&columns, &part.rows),
                    labels: part.labels,
                    directed: part.directed,
                }
            })
            .collect();
        BaseParts { nodes, edges }
    }

    /// Columns as the declared properties want them: those it does not have go, defaults fill, numbers are
    /// spelled as the new type spells them where nothing is lost.
    fn fit_columns(
        &mut self, element: Element, columns: &mut Vec<(Arc<str>, Column)>, len: usize,
        declared: Option<&Vec<PropertyType>>, before: Option<(usize, &Vec<PropertyType>)>,
    ) {
        let Some(declared) = declared else { return };
        if let Some((t, _)) = before {
            let (kept, gone): (Vec<_>, Vec<_>) =
                std::mem::take(columns).into_iter().partition(|(n, _)| declared.iter().any(|p| p.name == *n));
            *columns = kept;
            for (name, column) in gone {
                let values = (0..column.len()).filter(|&row| !column.is_null(row)).count() as u64;
                self.changed |= values > 0;
                *self.lost.entry((element, t, Some(name))).or_default() += values;
            }
        }
        for property in declared {
            let known = before.and_then(|(_, all)| all.iter().find(|p| p.name == property.name));
            let place = columns.iter().position(|(n, _)| *n == property.name);
            let fills = property.default.is_some()
                && (property.not_null || (before.is_some() && known.is_none()))
                && len > 0;
            if let Some(place) = place
                && known.is_none_or(|k| k.value_type != property.value_type)
            {
                let column = &columns[place].1;
                let assigned = |row: usize| property.value_type.assign(column.value(row));
                let differs = |row: &usize| {
                    !column.is_null(*row)
                        && std::mem::discriminant(&assigned(*row))
                            != std::mem::discriminant(&column.value(*row))
                };
                if (0..column.len()).any(|row| differs(&row)) {
                    let mut builder = ColumnBuilder::with_capacity(column.len());
                    (0..column.len()).for_each(|row| builder.push(assigned(row)));
                    columns[place].1 = builder.finish();
                    self.changed = true;
                }
            }
            if let (true, Some(default)) = (fills, &property.default) {
                let column = place.map(|place| &columns[place].1);
                if column.is_some_and(|c| (0..c.len()).all(|row| !c.is_null(row))) {
                    continue;
                }
                let value = |row: usize| column.map_or(Value::Null, |c| c.value(row));
                let mut builder = ColumnBuilder::with_capacity(len);
                for row in 0..len {
                    let value = value(row);
                    builder.push(if value.is_null() { default.clone() } else { value });
                }
                let filled = builder.finish();
                match place {
                    Some(place) => columns[place].1 = filled,
                    None => columns.push((property.name.clone(), filled)),
                }
                self.changed = true;
            }
        }
        columns.sort_by(|a, b| a.0.cmp(&b.0));
    }
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

/// How the new model differs from the old one, type by type; `given` is the old one before the renamings, in
/// whose words the elements are still found.
fn compare(
    (given, old): (&GraphType, &GraphType), new: &GraphType, map: &TypeMap,
    lost: &HashMap<(Element, usize, Option<Arc<str>>), u64>,
) -> Vec<Difference> {
    let mut found = vec![];
    struct Side<'t> {
        labels: &'t LabelSet,
        properties: &'t [PropertyType],
        key: &'t [Arc<str>],
        ends: Option<(String, String)>,
    }
    fn of_node(t: &NodeType) -> Side<'_> {
        Side { labels: &t.labels, properties: &t.properties, key: &t.key, ends: None }
    }
    fn of_edge(t: &EdgeType) -> Side<'_> {
        let ends = Some((t.source.to_string(), t.target.to_string()));
        Side { labels: &t.labels, properties: &t.properties, key: &t.key, ends }
    }
    let mut types: Vec<(Element, usize, Side<'_>, Option<Side<'_>>)> = vec![];
    for (t, (side, mapped)) in old.nodes.iter().zip(&map.nodes).enumerate() {
        types.push((Element::Node, t, of_node(side), mapped.map(|n| of_node(&new.nodes[n]))));
    }
    for (t, (side, mapped)) in old.edges.iter().zip(&map.edges).enumerate() {
        types.push((Element::Edge, t, of_edge(side), mapped.map(|n| of_edge(&new.edges[n]))));
    }
    for (element, t, before, after) in types {
        let shown = format!("{element} type {}", crate::graph_type::show_labels(before.labels));
        let mut say = |property: Option<&Arc<str>>, message: String| {
            let lost = lost.get(&(element, t, property.cloned())).copied().unwrap_or(0);
            let (labels, types) = match element {
                Element::Node => (&given.nodes[t].labels, &given.nodes[t].properties),
                Element::Edge => (&given.edges[t].labels, &given.edges[t].properties),
            };
            let place = property.and_then(|p| before.properties.iter().position(|known| known.name == *p));
            let named = place.map(|place| &types[place].name);
            let query = (lost > 0).then(|| crate::finding_query::elements_with(element, labels, named));
            let (labels, property) = (before.labels.clone(), property.cloned());
            found.push(Difference { element, labels, property, message, lost, query });
        };
        let Some(after) = after else {
            let ends = before.ends.map(|(a, b)| format!(" from {a} to {b}")).unwrap_or_default();
            say(None, format!("{shown}{ends} is dropped"));
            continue;
        };
        if lost.contains_key(&(element, t, None)) {
            say(None, format!("{shown}: edges go with the nodes at their ends"));
        }
        if before.labels != after.labels {
            say(None, format!("{shown} gets the labels {}", crate::graph_type::show_labels(after.labels)));
        }
        if before.ends != after.ends
            && let Some((a, b)) = &after.ends
        {
            say(None, format!("{shown} connects {a} to {b}"));
        }
        for p in before.properties {
            let Some(now) = after.properties.iter().find(|n| n.name == p.name) else {
                say(Some(&p.name), format!("{shown}: property {} is dropped", p.name));
                continue;
            };
            if p.value_type != now.value_type {
                say(
                    Some(&p.name),
                    format!(
                        "{shown}: property {} becomes {} (it is {})",
                        p.name, now.value_type, p.value_type
                    ),
                );
            }
            if p.not_null != now.not_null {
                let how = if now.not_null { "may no more be null" } else { "may be null" };
                let fills = match &now.default {
                    Some(default) if now.not_null => format!("; nulls become {}", default.literal()),
                    _ => String::new(),
                };
                say(Some(&p.name), format!("{shown}: property {} {how}{fills}", p.name));
            }
            if p.default != now.default {
                let default = now.default.as_ref().map_or("none".into(), |d| d.literal());
                say(Some(&p.name), format!("{shown}: the default of {} becomes {default}", p.name));
            }
        }
        for p in after.properties.iter().filter(|n| !before.properties.iter().any(|p| p.name == n.name)) {
            let fills =
                p.default.as_ref().map(|d| format!(", {} where it was not", d.literal())).unwrap_or_default();
            let null = if p.not_null { " NOT NULL" } else { "" };
            say(Some(&p.name), format!("{shown}: property {} {}{null} is new{fills}", p.name, p.value_type));
        }
        if before.key != after.key {
            let key = |names: &[Arc<str>]| {
                if names.is_empty() { "none".into() } else { format!("({})", names.join(", ")) }
            };
            say(None, format!("{shown}: the key becomes {} (it is {})", key(after.key), key(before.key)));
        }
    }
    let mut added = |element: Element, labels: &LabelSet, ends: String| {
        let message = format!("{element} type {}{ends} is new", crate::graph_type::show_labels(labels));
        let labels = labels.clone();
        found.push(Difference { element, labels, property: None, message, lost: 0, query: None });
    };
    for (_, t) in new.nodes.iter().enumerate().filter(|(n, _)| !map.nodes.contains(&Some(*n))) {
        added(Element::Node, &t.labels, String::new());
    }
    for (_, t) in new.edges.iter().enumerate().filter(|(n, _)| !map.edges.contains(&Some(*n))) {
        added(Element::Edge, &t.labels, format!(" from {} to {}", t.source, t.target));
    }
    for (list, other, how) in [
        (&old.cardinalities, &new.cardinalities, "is dropped"),
        (&new.cardinalities, &old.cardinalities, "is new"),
    ] {
        for cardinality in list.iter().filter(|c| !other.contains(c)) {
            found.push(Difference {
                element: Element::Node,
                labels: cardinality.node.clone(),
                property: None,
                message: format!("{cardinality} {how}"),
                lost: 0,
                query: None,
            });
        }
    }
    found
}
