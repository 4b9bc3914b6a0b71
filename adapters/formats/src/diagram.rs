//! A picture of boxes and lines as SVG, laid out in layers from left to right: cycles are opened, long
//! lines lead through the layers between, and boxes are put in an order with few crossings.

use std::fmt::Write;

/// A box of a picture: its first line stands out.
pub struct DiagramBox {
    pub lines: Vec<String>,
}

/// A line between two boxes, by their places.
pub struct DiagramLine {
    pub from: usize,
    pub to: usize,
    pub captions: Vec<String>,
    pub directed: bool,
}

const CHARACTER: f64 = 7.4;
const LINE: f64 = 18.0;
const PADDING: f64 = 10.0;
/// Between two boxes of a layer, and between a box and a line that leads past it.
const GAP: f64 = 26.0;
const MARGIN: f64 = 20.0;
const SWEEPS: usize = 12;

/// A place in a layer: a box, or a point that a long line leads through.
struct Slot {
    line_box: Option<usize>,
    layer: usize,
    height: f64,
    y: f64,
}

/// A piece of a line from one layer to the next.
struct Hop {
    left: usize,
    right: usize,
}

struct Layout {
    slots: Vec<Slot>,
    layers: Vec<Vec<usize>>,
    hops: Vec<Hop>,
    /// Per line the slots it leads through, from left to right; empty for a line from a box to itself.
    ways: Vec<Vec<usize>>,
}

fn width(text: &str) -> f64 {
    text.chars().count() as f64 * CHARACTER
}

fn box_size(b: &DiagramBox) -> (f64, f64) {
    let widest = b.lines.iter().map(|l| width(l)).fold(0.0, f64::max);
    (widest + 2.0 * PADDING, b.lines.len() as f64 * LINE + 2.0 * PADDING)
}

/// The layer of each box: one more than the greatest of those that lead to it, lines that would close a
/// cycle taken the other way round.
fn assign_layers(count: usize, lines: &[DiagramLine]) -> Vec<usize> {
    let mut forward: Vec<Vec<usize>> = vec![vec![]; count];
    let mut state = vec![0u8; count];
    let starts: Vec<usize> = {
        // Boxes that nothing leads to come first, so that cycles are opened where they are entered.
        let mut into = vec![0; count];
        lines.iter().filter(|l| l.from != l.to).for_each(|l| into[l.to] += 1);
        let mut order: Vec<usize> = (0..count).collect();
        order.sort_by_key(|&b| (into[b] > 0, b));
        order
    };
    for start in starts {
        let mut stack = vec![(start, 0usize)];
        if state[start] != 0 {
            continue;
        }
        state[start] = 1;
        while let Some((at, next)) = stack.pop() {
            let out: Vec<usize> = lines.iter().filter(|l| l.from == at && l.to != at).map(|l| l.to).collect();
            if let Some(&to) = out.get(next) {
                stack.push((at, next + 1));
                if state[to] == 1 {
                    forward[to].push(at);
                } else {
                    forward[at].push(to);
                    if state[to] == 0 {
                        state[to] = 1;
                        stack.push((to, 0));
                    }
                }
            } else {
                state[at] = 2;
            }
        }
    }
    let mut layer = vec![0usize; count];
    // As many rounds as there are boxes are enough, the lines now being without cycles.
    for _ in 0..count {
        let mut moved = false;
        for from in 0..count {
            for &to in &forward[from] {
                if layer[to] < layer[from] + 1 {
                    layer[to] = layer[from] + 1;
                    moved = true;
                }
            }
        }
        if !moved {
            break;
        }
    }
    layer
}

fn layout(boxes: &[DiagramBox], lines: &[DiagramLine]) -> Layout {
    let layer_of = assign_layers(boxes.len(), lines);
    let mut slots: Vec<Slot> = (boxes.iter().enumerate())
        .map(|(i, b)| Slot { line_box: Some(i), layer: layer_of[i], height: box_size(b).1, y: 0.0 })
        .collect();
    let (mut hops, mut ways) = (vec![], vec![]);
    for line in lines {
        let (mut left, mut right) = (line.from, line.to);
        if layer_of[left] > layer_of[right] {
            std::mem::swap(&mut left, &mut right);
        }
        let mut way = vec![];
        if line.from != line.to {
            way.push(left);
            for layer in layer_of[left] + 1..layer_of[right] {
                slots.push(Slot { line_box: None, layer, height: LINE * line.captions.len() as f64, y: 0.0 });
                way.push(slots.len() - 1);
            }
            way.push(right);
            hops.extend(way.windows(2).map(|w| Hop { left: w[0], right: w[1] }));
        }
        ways.push(way);
    }
    let depth = slots.iter().map(|s| s.layer + 1).max().unwrap_or(0);
    let mut layers: Vec<Vec<usize>> = vec![vec![]; depth];
    slots.iter().enumerate().for_each(|(i, s)| layers[s.layer].push(i));
    let mut layout = Layout { slots, layers, hops, ways };
    layout.order();
    layout.place();
    layout
}

impl Layout {
    fn neighbours(&self, slot: usize, from_left: bool) -> Vec<usize> {
        let of = |h: &Hop| match from_left {
            true => (h.right == slot).then_some(h.left),
            false => (h.left == slot).then_some(h.right),
        };
        self.hops.iter().filter_map(of).collect()
    }

    fn crossings(&self) -> usize {
        let mut position = vec![0usize; self.slots.len()];
        for layer in &self.layers {
            layer.iter().enumerate().for_each(|(i, &slot)| position[slot] = i);
        }
        let mut count = 0;
        for (i, a) in self.hops.iter().enumerate() {
            for b in &self.hops[i + 1..] {
                let same = self.slots[a.left].layer == self.slots[b.left].layer;
                let (x, y) =
                    (position[a.left].cmp(&position[b.left]), position[a.right].cmp(&position[b.right]));
                count += usize::from(same && x == y.reverse() && x.is_ne());
            }
        }
        count
    }

    /// Sweeps to and fro, each layer in the order of the mean place of its neighbours in the one before;
    /// the order with the fewest crossings stays.
    fn order(&mut self) {
        let (mut best, mut best_layers) = (self.crossings(), self.layers.clone());
        for sweep in 0..SWEEPS {
            if best == 0 {
                break;
            }
            let from_left = sweep % 2 == 0;
            let range: Vec<usize> = match from_left {
                true => (0..self.layers.len()).collect(),
                false => (0..self.layers.len()).rev().collect(),
            };
            for l in range {
                let mut position = vec![0usize; self.slots.len()];
                self.layers
                    .iter()
                    .flat_map(|layer| layer.iter().enumerate())
                    .for_each(|(i, &s)| position[s] = i);
                let mean = |slot: usize| {
                    let near = self.neighbours(slot, from_left);
                    match near.len() {
                        0 => position[slot] as f64,
                        n => near.iter().map(|&s| position[s] as f64).sum::<f64>() / n as f64,
                    }
                };
                let mut keyed: Vec<(f64, usize)> = self.layers[l].iter().map(|&s| (mean(s), s)).collect();
                keyed.sort_by(|a, b| a.0.total_cmp(&b.0));
                self.layers[l] = keyed.into_iter().map(|(_, s)| s).collect();
            }
            self.swap_neighbours();
            let now = self.crossings();
            if now < best {
                (best, best_layers) = (now, self.layers.clone());
            }
        }
        self.layers = best_layers;
    }

    /// Swaps two that stand side by side wherever that saves a crossing.
    fn swap_neighbours(&mut self) {
        for l in 0..self.layers.len() {
            for i in 1..self.layers[l].len() {
                let before = self.crossings();
                self.layers[l].swap(i - 1, i);
                if self.crossings() >= before {
                    self.layers[l].swap(i - 1, i);
                }
            }
        }
    }

    /// Heights: each slot near the middle of its neighbours, in its layer's order, without overlap.
    fn place(&mut self) {
        for layer in &self.layers {
            let mut y = 0.0;
            for &slot in layer {
                self.slots[slot].y = y + self.slots[slot].height / 2.0;
                y += self.slots[slot].height + GAP;
            }
        }
        for _ in 0..SWEEPS {
            for l in 0..self.layers.len() {
                let order = self.layers[l].clone();
                let wish = |slot: usize| {
                    let mut near = self.neighbours(slot, true);
                    near.extend(self.neighbours(slot, false));
                    match near.len() {
                        0 => self.slots[slot].y,
                        n => near.iter().map(|&s| self.slots[s].y).sum::<f64>() / n as f64,
                    }
                };
                let wishes: Vec<f64> = order.iter().map(|&s| wish(s)).collect();
                let mut placed = wishes.clone();
                let apart = |a: usize, b: usize| (self.slots[a].height + self.slots[b].height) / 2.0 + GAP;
                // Downwards and upwards in turn: the mean of both pushes keeps a layer in the middle.
                let mut up = wishes.clone();
                for i in 1..order.len() {
                    placed[i] = placed[i].max(placed[i - 1] + apart(order[i - 1], order[i]));
                }
                for i in (0..order.len().saturating_sub(1)).rev() {
                    up[i] = up[i].min(up[i + 1] - apart(order[i], order[i + 1]));
                }
                for (i, &slot) in order.iter().enumerate() {
                    self.slots[slot].y = (placed[i] + up[i]) / 2.0;
                }
            }
        }
        let top = self.slots.iter().map(|s| s.y - s.height / 2.0).fold(f64::INFINITY, f64::min);
        self.slots.iter_mut().for_each(|s| s.y -= top);
    }
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn caption(out: &mut String, x: f64, y: f64, lines: &[String]) {
    let widest = lines.iter().map(|l| width(l) * 0.86).fold(0.0, f64::max);
    let height = lines.len() as f64 * 15.0;
    let _ = writeln!(
        out,
        r##"<rect x="{:.1}" y="{:.1}" width="{:.1}" height="{height:.1}" fill="#fdfcfa" fill-opacity="0.9"/>"##,
        x - widest / 2.0 - 3.0,
        y - height / 2.0,
        widest + 6.0
    );
    for (i, line) in lines.iter().enumerate() {
        let at = y - height / 2.0 + 11.5 + i as f64 * 15.0;
        let _ = writeln!(
            out,
            r##"<text x="{x:.1}" y="{at:.1}" font-size="12" fill="#22303a" text-anchor="middle">{}</text>"##,
            escape(line)
        );
    }
}

/// The picture as an SVG document. `title` is what it is a picture of.
pub fn svg(title: &str, boxes: &[DiagramBox], lines: &[DiagramLine]) -> String {
    let made = layout(boxes, lines);
    // Layers are as wide as their widest box, with room for the widest caption between.
    let mut left_of = vec![];
    let mut x = MARGIN;
    let room = lines.iter().flat_map(|l| &l.captions).map(|c| width(c) * 0.86).fold(40.0, f64::max) + 50.0;
    let mut widths = vec![];
    for layer in &made.layers {
        let own = layer.iter().filter_map(|&s| made.slots[s].line_box).map(|b| box_size(&boxes[b]).0);
        let own = own.fold(0.0, f64::max);
        left_of.push(x);
        widths.push(own);
        x += own + room;
    }
    let total_width = (x - room).max(0.0) + MARGIN + 60.0;
    let bottom = made.slots.iter().map(|s| s.y + s.height / 2.0).fold(0.0, f64::max);
    let total_height = bottom + 2.0 * MARGIN + 30.0;
    let middle = |slot: usize| {
        let s = &made.slots[slot];
        (left_of[s.layer] + widths[s.layer] / 2.0, s.y + MARGIN + 20.0)
    };
    // A line that leads through a layer does so level, past the boxes beside it.
    let half = |slot: usize| {
        let of_layer = widths[made.slots[slot].layer];
        made.slots[slot].line_box.map_or(of_layer, |b| box_size(&boxes[b]).0) / 2.0
    };
    let mut out = format!(
        r##"<svg xmlns="http://www.w3.org/2000/svg" width="{total_width:.0}" height="{total_height:.0}" viewBox="0 0 {total_width:.0} {total_height:.0}" font-family="sans-serif" role="img">
<title>{}</title>
<defs><marker id="tip" viewBox="0 0 10 10" refX="9" refY="5" markerWidth="8" markerHeight="8" orient="auto-start-reverse"><path d="M0 0L10 5L0 10z" fill="#8b98a1"/></marker></defs>
<rect width="100%" height="100%" fill="#fdfcfa"/>
"##,
        escape(title)
    );
    let mut captions = vec![];
    let mut loops = vec![0usize; boxes.len()];
    for (line, way) in lines.iter().zip(&made.ways) {
        let tip = |show: bool, side: &str| {
            if show { format!(r##" marker-{side}="url(#tip)""##) } else { String::new() }
        };
        if way.is_empty() {
            // From a box to itself: a bow over its upper right corner.
            let (cx, cy) = middle(line.from);
            let (w, h) = box_size(&boxes[line.from]);
            let reach = 26.0 + 14.0 * loops[line.from] as f64;
            loops[line.from] += line.captions.len();
            let (right, top) = (cx + w / 2.0, cy - h / 2.0);
            let _ = writeln!(
                out,
                r##"<path d="M{:.1} {top:.1}C{:.1} {:.1} {:.1} {:.1} {right:.1} {:.1}" fill="none" stroke="#8b98a1" stroke-width="1.4"{}/>"##,
                right - 18.0,
                right - 18.0,
                top - reach * 1.4,
                right + reach * 1.8,
                top - reach * 0.6,
                top + 16.0,
                tip(line.directed, "end")
            );
            captions.push((right + reach * 0.55, top - reach * 0.62, &line.captions));
            continue;
        }
        let turned = way[0] != line.from;
        let mut points: Vec<(f64, f64)> = vec![];
        for (i, &slot) in way.iter().enumerate() {
            let (cx, cy) = middle(slot);
            if i > 0 {
                points.push((cx - half(slot), cy));
            }
            if i + 1 < way.len() {
                points.push((cx + half(slot), cy));
            }
        }
        let mut path = format!("M{:.1} {:.1}", points[0].0, points[0].1);
        for pair in points.windows(2) {
            let ((x0, y0), (x1, y1)) = (pair[0], pair[1]);
            let bend = (x1 - x0) * 0.45;
            let _ = write!(path, "C{:.1} {y0:.1} {:.1} {y1:.1} {x1:.1} {y1:.1}", x0 + bend, x1 - bend);
        }
        let _ = writeln!(
            out,
            r##"<path d="{path}" fill="none" stroke="#8b98a1" stroke-width="1.4"{}{}/>"##,
            tip(line.directed && !turned, "end"),
            tip(line.directed && turned, "start")
        );
        let (a, b) = match way.len() {
            2 => (points[0], points[1]),
            _ => (points[1], points[2 % points.len()]),
        };
        captions.push(((a.0 + b.0) / 2.0, (a.1 + b.1) / 2.0, &line.captions));
    }
    for (slot, b) in boxes.iter().enumerate() {
        let ((cx, cy), (w, h)) = (middle(slot), box_size(b));
        let _ = writeln!(
            out,
            r##"<rect x="{:.1}" y="{:.1}" width="{w:.1}" height="{h:.1}" rx="7" fill="#ffffff" stroke="#2f6f73" stroke-width="2"/>"##,
            cx - w / 2.0,
            cy - h / 2.0
        );
        for (i, line) in b.lines.iter().enumerate() {
            let weight = if i == 0 { "bold" } else { "normal" };
            let y = cy - h / 2.0 + PADDING + 13.0 + i as f64 * LINE;
            let _ = writeln!(
                out,
                r##"<text x="{cx:.1}" y="{y:.1}" font-size="14" font-weight="{weight}" fill="#22303a" text-anchor="middle">{}</text>"##,
                escape(line)
            );
        }
    }
    for (x, y, lines) in captions {
        caption(&mut out, x, y, lines);
    }
    out.push_str("</svg>\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(from: usize, to: usize) -> DiagramLine {
        DiagramLine { from, to, captions: vec!["E".into()], directed: true }
    }

    fn boxes(count: usize) -> Vec<DiagramBox> {
        (0..count).map(|i| DiagramBox { lines: vec![format!("B{i}"), "key a".into()] }).collect()
    }

    #[test]
    fn what_needs_no_crossing_has_none() {
        // Two paths side by side, given crosswise, and a line over two layers.
        let lines = [line(0, 3), line(1, 2), line(3, 5), line(2, 4), line(0, 5)];
        assert_eq!(layout(&boxes(6), &lines).crossings(), 0);
        let tree: Vec<DiagramLine> = (1..15).map(|i| line((i - 1) / 2, i)).collect();
        assert_eq!(layout(&boxes(15), &tree).crossings(), 0);
    }

    #[test]
    fn boxes_of_a_layer_do_not_overlap_and_cycles_end() {
        let lines = [line(0, 1), line(1, 2), line(2, 0), line(1, 1), line(0, 2), line(3, 1), line(4, 1)];
        let made = layout(&boxes(5), &lines);
        for layer in &made.layers {
            for pair in layer.windows(2) {
                let (a, b) = (&made.slots[pair[0]], &made.slots[pair[1]]);
                assert!(b.y - a.y >= (a.height + b.height) / 2.0 + GAP - 0.01, "{} {}", a.y, b.y);
            }
        }
        let text = svg("a <picture>", &boxes(5), &lines);
        assert!(text.contains("<title>a &lt;picture&gt;</title>"));
        assert_eq!(text.matches("<path d=").count(), lines.len() + 1);
    }
}
