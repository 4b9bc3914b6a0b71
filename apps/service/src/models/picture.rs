//! A graph type as a picture: node types with the same key labels share a box, edge types between the same
//! boxes a line.

use graphodrome_formats::{DiagramBox, DiagramLine, Flow, svg};

use crate::models::form::{ModelNodeType, ModelTypes};

/// A box before it is drawn: its name and the places of its node types.
type Kind<'t> = (String, Vec<(usize, &'t ModelNodeType)>);

fn kinds(types: &ModelTypes) -> Vec<Kind<'_>> {
    let mut kinds: Vec<Kind<'_>> = vec![];
    for (place, t) in types.node_types.iter().enumerate() {
        let labels = if t.key_labels.is_empty() { &t.labels } else { &t.key_labels };
        let name = if labels.is_empty() { "(no label)".to_string() } else { labels.join("&") };
        match kinds.iter_mut().find(|(known, _)| *known == name) {
            Some((_, of_kind)) => of_kind.push((place, t)),
            None => kinds.push((name, vec![(place, t)])),
        }
    }
    kinds
}

/// `1234567` as `1,234,567`.
fn grouped(count: u64) -> String {
    let digits = count.to_string();
    let mut out = String::new();
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

fn drawn_box((name, of_kind): &Kind<'_>) -> DiagramBox {
    let count: u64 = of_kind.iter().map(|(_, t)| t.count).sum();
    let mut lines = vec![name.clone(), grouped(count)];
    let key = of_kind.first().map(|(_, t)| t.key.join(", ")).unwrap_or_default();
    if !key.is_empty() {
        lines.push(format!("key {key}"));
    }
    let own = of_kind.first().map(|(_, t)| t.key_labels.clone()).unwrap_or_default();
    let more: Vec<String> = (of_kind.iter())
        .map(|(_, t)| t.labels.iter().filter(|l| !own.contains(l)).cloned().collect::<Vec<_>>().join("&"))
        .filter(|more| !more.is_empty() && *more != *name)
        .collect();
    lines.extend(more.chunks(3).map(|some| some.join(", ")));
    DiagramBox { lines, places: of_kind.iter().map(|(place, _)| *place).collect() }
}

pub fn picture(title: &str, types: &ModelTypes, flow: Flow) -> String {
    let kinds = kinds(types);
    let boxes: Vec<DiagramBox> = kinds.iter().map(drawn_box).collect();
    let mut lines: Vec<DiagramLine> = vec![];
    for (place, edge) in types.edge_types.iter().enumerate() {
        let ends = |sets: &[Vec<String>]| -> Vec<usize> {
            let takes = |t: &ModelNodeType| sets.iter().any(|set| set.iter().all(|l| t.labels.contains(l)));
            (0..kinds.len()).filter(|&k| kinds[k].1.iter().any(|(_, t)| takes(t))).collect()
        };
        let (caption, directed) = (edge.labels.join("&"), edge.directed);
        for from in ends(&edge.source) {
            for to in ends(&edge.target) {
                let same = |l: &&mut DiagramLine| {
                    l.directed == directed
                        && ((l.from, l.to) == (from, to) || (!directed && (l.to, l.from) == (from, to)))
                };
                match lines.iter_mut().find(same) {
                    Some(line) => {
                        line.places.push(place);
                        if !line.captions.contains(&caption) {
                            line.captions.push(caption.clone());
                        }
                    }
                    None => {
                        let captions = vec![caption.clone()];
                        lines.push(DiagramLine { from, to, captions, directed, places: vec![place] });
                    }
                }
            }
        }
    }
    svg(title, &boxes, &lines, flow)
}
