//! A picture of boxes and lines as SVG, laid out in layers: cycles are opened, long lines lead through the
//! layers between, boxes are put in an order with few crossings, and captions where they cover nothing.

use std::fmt::Write;

/// Where the layers of a picture follow each other to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flow {
    Right,
    Down,
}

/// A box of a picture: its first line stands out. `places` are what it stands for, in the picture's
/// `data-places`.
pub struct DiagramBox {
    pub lines: Vec<String>,
    pub places: Vec<usize>,
}

/// A line between two boxes, by their places.
pub struct DiagramLine {
    pub from: usize,
    pub to: usize,
    pub captions: Vec<String>,
    pub directed: bool,
    pub places: Vec<usize>,
}

const CHARACTER: f64 = 7.4;
const LINE: f64 = 18.0;
const PADDING: f64 = 10.0;
/// Between two boxes of a layer, and between a box and a line that leads past it.
const GAP: f64 = 26.0;
const MARGIN: f64 = 20.0;
const SWEEPS: usize = 12;
/// Pictures with more pieces of lines are ordered once only.
const MOST_HOPS: usize = 120;

/// A place in a layer: a box, or a point that a long line leads through.
struct Slot {
    line_box: Option<usize>,
    layer: usize,
    /// How much of its layer it takes, and the middle of that.
    extent: f64,
    middle: f64,
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

fn layout(boxes: &[DiagramBox], lines: &[DiagramLine], flow: Flow) -> Layout {
    let across = |(width, height): (f64, f64)| if flow == Flow::Right { height } else { width };
    let layer_of = assign_layers(boxes.len(), lines);
    let mut slots: Vec<Slot> = (boxes.iter().enumerate())
        .map(|(i, b)| Slot {
            line_box: Some(i),
            layer: layer_of[i],
            extent: across(box_size(b)),
            middle: 0.0,
        })
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
                slots.push(Slot { line_box: None, layer, extent: across((12.0, LINE)), middle: 0.0 });
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

    /// The order with the fewest crossings out of some: sweeps begin at several orders, as each begins well
    /// for some pictures only.
    fn order(&mut self) {
        let given = self.layers.clone();
        let (mut best, mut best_layers) = (self.crossings(), given.clone());
        let starts = if self.hops.len() <= MOST_HOPS { 8 } else { 1 };
        for start in 0..starts {
            if best == 0 {
                break;
            }
            self.layers.clone_from(&given);
            for layer in &mut self.layers {
                match start {
                    0 => {}
                    1 => layer.reverse(),
                    _ => layer.sort_by_key(|&slot| (slot + 1).wrapping_mul(7919 * (start + 1)) % 101),
                }
            }
            for sweep in 0..SWEEPS {
                self.sweep(sweep % 2 == 0);
                let now = self.crossings();
                if now < best {
                    (best, best_layers) = (now, self.layers.clone());
                }
            }
        }
        self.layers = best_layers;
    }

    /// Puts each layer in the order of the mean place of its neighbours in the one before.
    fn sweep(&mut self, from_left: bool) {
        let range: Vec<usize> = match from_left {
            true => (0..self.layers.len()).collect(),
            false => (0..self.layers.len()).rev().collect(),
        };
        for l in range {
            let mut position = vec![0usize; self.slots.len()];
            self.layers.iter().flat_map(|layer| layer.iter().enumerate()).for_each(|(i, &s)| position[s] = i);
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

    /// Places across: each slot near the middle of its neighbours, in its layer's order, without overlap.
    fn place(&mut self) {
        for layer in &self.layers {
            let mut y = 0.0;
            for &slot in layer {
                self.slots[slot].middle = y + self.slots[slot].extent / 2.0;
                y += self.slots[slot].extent + GAP;
            }
        }
        for _ in 0..SWEEPS {
            for l in 0..self.layers.len() {
                let order = self.layers[l].clone();
                let wish = |slot: usize| {
                    let mut near = self.neighbours(slot, true);
                    near.extend(self.neighbours(slot, false));
                    match near.len() {
                        0 => self.slots[slot].middle,
                        n => near.iter().map(|&s| self.slots[s].middle).sum::<f64>() / n as f64,
                    }
                };
                let wishes: Vec<f64> = order.iter().map(|&s| wish(s)).collect();
                let mut placed = wishes.clone();
                let apart = |a: usize, b: usize| (self.slots[a].extent + self.slots[b].extent) / 2.0 + GAP;
                // Downwards and upwards in turn: the mean of both pushes keeps a layer in the middle.
                let mut up = wishes.clone();
                for i in 1..order.len() {
                    placed[i] = placed[i].max(placed[i - 1] + apart(order[i - 1], order[i]));
                }
                for i in (0..order.len().saturating_sub(1)).rev() {
                    up[i] = up[i].min(up[i + 1] - apart(order[i], order[i + 1]));
                }
                for (i, &slot) in order.iter().enumerate() {
                    self.slots[slot].middle = (placed[i] + up[i]) / 2.0;
                }
            }
        }
        let top = self.slots.iter().map(|s| s.middle - s.extent / 2.0).fold(f64::INFINITY, f64::min);
        self.slots.iter_mut().for_each(|s| s.middle -= top);
    }
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

type Point = (f64, f64);

/// A rectangle by its middle and size.
#[derive(Clone, Copy)]
struct Area {
    middle: Point,
    size: (f64, f64),
}

impl Area {
    fn overlaps(&self, other: &Area) -> bool {
        let apart = |a: f64, b: f64, x: f64, y: f64| (a - b).abs() >= (x + y) / 2.0 + 2.0;
        !apart(self.middle.0, other.middle.0, self.size.0, other.size.0)
            && !apart(self.middle.1, other.middle.1, self.size.1, other.size.1)
    }
}

fn caption_area(lines: &[String], middle: Point) -> Area {
    let widest = lines.iter().map(|l| width(l) * 0.86).fold(0.0, f64::max);
    Area { middle, size: (widest + 6.0, lines.len() as f64 * 15.0) }
}

/// A piece of a line: where it begins and ends, and what it is drawn towards.
struct Curve([Point; 4]);

impl Curve {
    fn at(&self, t: f64) -> Point {
        let weights = [(1.0 - t).powi(3), 3.0 * t * (1.0 - t).powi(2), 3.0 * t * t * (1.0 - t), t.powi(3)];
        let sum = |of: fn(&Point) -> f64| self.0.iter().zip(weights).map(|(p, w)| of(p) * w).sum();
        (sum(|p| p.0), sum(|p| p.1))
    }
}

/// Where a caption goes: on its line, as near to the middle as nothing is in the way.
fn free_place(lines: &[String], curves: &[Curve], taken: &[Area]) -> Point {
    let steps = [0.5, 0.42, 0.58, 0.34, 0.66, 0.26, 0.74, 0.18, 0.82];
    let order = (0..curves.len())
        .map(|i| if i % 2 == 0 { curves.len() / 2 + i / 2 } else { curves.len() / 2 - i.div_ceil(2) });
    let mut places: Vec<Point> = vec![];
    for curve in order.filter_map(|i| curves.get(i)) {
        places.extend(steps.map(|t| curve.at(t)));
    }
    let free = |p: &&Point| !taken.iter().any(|t| t.overlaps(&caption_area(lines, **p)));
    places.iter().find(free).or(places.first()).copied().unwrap_or_default()
}

fn list(places: &[usize]) -> String {
    places.iter().map(usize::to_string).collect::<Vec<_>>().join(",")
}

const STYLE: &str = ".ground{fill:#fdfcfa}.box rect{fill:#fff;stroke:#2f6f73;stroke-width:2}.line path{fill:none;stroke:#8b98a1;stroke-width:1.4}.tip{fill:#8b98a1}text{fill:#22303a;text-anchor:middle}.caption rect{fill:#fdfcfa;fill-opacity:.92}";

/// A picture while it is drawn.
struct Drawing<'p> {
    boxes: &'p [DiagramBox],
    flow: Flow,
    made: Layout,
    /// Where each layer begins, and how thick it is.
    layers: Vec<(f64, f64)>,
    loops_room: f64,
    /// Loops of each box so far.
    loops: Vec<usize>,
    /// What captions must not cover.
    taken: Vec<Area>,
    far: Point,
}

impl<'p> Drawing<'p> {
    fn new(boxes: &'p [DiagramBox], lines: &[DiagramLine], flow: Flow) -> Drawing<'p> {
        let made = layout(boxes, lines, flow);
        // Layers are as thick as their thickest box, with room for the captions between.
        let captions = lines.iter().flat_map(|l| &l.captions).map(|c| width(c) * 0.86).fold(40.0, f64::max);
        let room = if flow == Flow::Right { captions + 50.0 } else { 84.0 };
        let loops_room = if lines.iter().any(|l| l.from == l.to) { 34.0 } else { 0.0 };
        let loops = vec![0; boxes.len()];
        let (layers, taken, far) = (vec![], vec![], (0.0, 0.0));
        let mut drawing = Drawing { boxes, flow, made, layers, loops_room, loops, taken, far };
        let mut next = MARGIN + loops_room;
        for layer in &drawing.made.layers {
            let own = layer.iter().filter_map(|&s| drawing.made.slots[s].line_box);
            let own = own.map(|b| drawing.along(box_size(&boxes[b]))).fold(0.0, f64::max);
            drawing.layers.push((next, own));
            next += own + room;
        }
        let area = |(slot, b)| Area { middle: drawing.place(slot), size: box_size(b) };
        drawing.taken = boxes.iter().enumerate().map(area).collect();
        drawing
    }

    fn along(&self, (width, height): (f64, f64)) -> f64 {
        if self.flow == Flow::Right { width } else { height }
    }

    /// The middle of a box, or of where a line goes through a layer.
    fn place(&self, slot: usize) -> Point {
        let s = &self.made.slots[slot];
        let (start, size) = self.layers[s.layer];
        let (along, across) = (start + size / 2.0, s.middle + MARGIN + self.loops_room);
        if self.flow == Flow::Right { (along, across) } else { (across, along) }
    }

    /// A line that leads through a layer does so straight, past the boxes beside it.
    fn half(&self, slot: usize) -> f64 {
        let s = &self.made.slots[slot];
        s.line_box.map_or(self.layers[s.layer].1, |b| self.along(box_size(&self.boxes[b]))) / 2.0
    }

    fn towards(&self, (x, y): Point, by: f64) -> Point {
        if self.flow == Flow::Right { (x + by, y) } else { (x, y + by) }
    }

    fn reaches(&mut self, (x, y): Point) {
        self.far = (self.far.0.max(x), self.far.1.max(y));
    }

    /// From a box to itself: a bow over its upper right corner.
    fn bow(&mut self, of: usize, captions: usize) -> Vec<Curve> {
        let ((cx, cy), (w, h)) = (self.place(of), box_size(&self.boxes[of]));
        let reach = 28.0 + 14.0 * self.loops[of] as f64;
        self.loops[of] += captions;
        let (edge, top) = (cx + w / 2.0, cy - h / 2.0);
        let bends = [(edge - 18.0, top - reach * 1.4), (edge + reach * 1.8, top - reach * 0.6)];
        vec![Curve([(edge - 18.0, top), bends[0], bends[1], (edge, top + 16.0)])]
    }

    fn curves(&self, way: &[usize]) -> Vec<Curve> {
        let mut points: Vec<Point> = vec![];
        for (i, &slot) in way.iter().enumerate() {
            if i > 0 {
                points.push(self.towards(self.place(slot), -self.half(slot)));
            }
            if i + 1 < way.len() {
                points.push(self.towards(self.place(slot), self.half(slot)));
            }
        }
        let curve = |pair: &[Point]| {
            let bend = self.along((pair[1].0 - pair[0].0, pair[1].1 - pair[0].1)) * 0.45;
            Curve([pair[0], self.towards(pair[0], bend), self.towards(pair[1], -bend), pair[1]])
        };
        points.windows(2).map(curve).collect()
    }

    /// A line as an element, and its caption as another.
    fn line(&mut self, place: usize, line: &DiagramLine) -> (String, String) {
        let way = std::mem::take(&mut self.made.ways[place]);
        let turned = way.first().is_some_and(|first| *first != line.from);
        let curves = match way.is_empty() {
            true => self.bow(line.from, line.captions.len()),
            false => self.curves(&way),
        };
        let mut path = String::new();
        for (i, Curve([a, b, c, d])) in curves.iter().enumerate() {
            if i == 0 {
                let _ = write!(path, "M{:.1} {:.1}", a.0, a.1);
            }
            let _ = write!(path, "C{:.1} {:.1} {:.1} {:.1} {:.1} {:.1}", b.0, b.1, c.0, c.1, d.0, d.1);
        }
        let tip = match (line.directed, turned) {
            (true, false) => r##" marker-end="url(#tip)""##,
            (true, true) => r##" marker-start="url(#tip)""##,
            (false, _) => "",
        };
        let places = list(&line.places);
        let drawn = format!(
            r##"<g class="line" data-kind="edge" data-places="{places}"><path d="{path}"{tip}/></g>"##
        );
        let at = free_place(&line.captions, &curves, &self.taken);
        let area = caption_area(&line.captions, at);
        let (w, h) = area.size;
        let (left, top) = (at.0 - w / 2.0, at.1 - h / 2.0);
        let mut written = format!(
            r##"<g class="caption" data-kind="edge" data-places="{places}"><rect x="{left:.1}" y="{top:.1}" width="{w:.1}" height="{h:.1}"/>"##
        );
        for (i, text) in line.captions.iter().enumerate() {
            let (x, y, text) = (at.0, top + 11.5 + i as f64 * 15.0, escape(text));
            let _ = write!(written, r##"<text x="{x:.1}" y="{y:.1}" font-size="12">{text}</text>"##);
        }
        written.push_str("</g>\n");
        self.taken.push(area);
        self.reaches((at.0 + w / 2.0, at.1 + h / 2.0));
        (drawn, written)
    }

    fn filled_box(&mut self, slot: usize) -> String {
        let b = &self.boxes[slot];
        let ((cx, cy), (w, h)) = (self.place(slot), box_size(b));
        let (left, top) = (cx - w / 2.0, cy - h / 2.0);
        let mut filled = format!(
            r##"<g class="box" data-kind="node" data-places="{}"><rect x="{left:.1}" y="{top:.1}" width="{w:.1}" height="{h:.1}" rx="7"/>"##,
            list(&b.places)
        );
        for (i, line) in b.lines.iter().enumerate() {
            let weight = if i == 0 { r##" font-weight="bold""## } else { "" };
            let (y, text) = (top + PADDING + 13.0 + i as f64 * LINE, escape(line));
            let _ = write!(filled, r##"<text x="{cx:.1}" y="{y:.1}" font-size="14"{weight}>{text}</text>"##);
        }
        filled.push_str("</g>\n");
        self.reaches((cx + w / 2.0, cy + h / 2.0));
        filled
    }
}

/// The picture as an SVG document. `title` is what it is a picture of.
pub fn svg(title: &str, boxes: &[DiagramBox], lines: &[DiagramLine], flow: Flow) -> String {
    let mut drawing = Drawing::new(boxes, lines, flow);
    // The short ones first: the long ones have more places for their captions.
    let mut order: Vec<usize> = (0..lines.len()).collect();
    order.sort_by_key(|&i| drawing.made.ways[i].len());
    let (mut drawn, mut written) = (String::new(), String::new());
    for i in order {
        let (line, caption) = drawing.line(i, &lines[i]);
        let _ = writeln!(drawn, "{line}");
        written.push_str(&caption);
    }
    let filled: String = (0..boxes.len()).map(|slot| drawing.filled_box(slot)).collect();
    let (width, height) = (drawing.far.0 + MARGIN + drawing.loops_room * 0.4, drawing.far.1 + MARGIN);
    format!(
        r##"<svg xmlns="http://www.w3.org/2000/svg" width="{width:.0}" height="{height:.0}" viewBox="0 0 {width:.0} {height:.0}" font-family="sans-serif" role="img">
<title>{}</title>
<style>{STYLE}</style>
<defs><marker id="tip" viewBox="0 0 10 10" refX="9" refY="5" markerWidth="8" markerHeight="8" orient="auto-start-reverse"><path class="tip" d="M0 0L10 5L0 10z"/></marker></defs>
<rect class="ground" width="100%" height="100%"/>
{drawn}{filled}{written}</svg>
"##,
        escape(title)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(from: usize, to: usize) -> DiagramLine {
        DiagramLine { from, to, captions: vec!["E".into()], directed: true, places: vec![from] }
    }

    fn boxes(count: usize) -> Vec<DiagramBox> {
        (0..count)
            .map(|i| DiagramBox { lines: vec![format!("B{i}"), "key a".into()], places: vec![i] })
            .collect()
    }

    #[test]
    fn what_needs_no_crossing_has_none() {
        // Two paths side by side, given crosswise, and a line over two layers.
        let lines = [line(0, 3), line(1, 2), line(3, 5), line(2, 4), line(0, 5)];
        assert_eq!(layout(&boxes(6), &lines, Flow::Right).crossings(), 0);
        let tree: Vec<DiagramLine> = (1..15).map(|i| line((i - 1) / 2, i)).collect();
        assert_eq!(layout(&boxes(15), &tree, Flow::Down).crossings(), 0);
    }

    #[test]
    fn boxes_of_a_layer_do_not_overlap_and_cycles_end() {
        let lines = [line(0, 1), line(1, 2), line(2, 0), line(1, 1), line(0, 2), line(3, 1), line(4, 1)];
        let made = layout(&boxes(5), &lines, Flow::Down);
        for layer in &made.layers {
            for pair in layer.windows(2) {
                let (a, b) = (&made.slots[pair[0]], &made.slots[pair[1]]);
                assert!(
                    b.middle - a.middle >= (a.extent + b.extent) / 2.0 + GAP - 0.01,
                    "{} {}",
                    a.middle,
                    b.middle
                );
            }
        }
        let text = svg("a <picture>", &boxes(5), &lines, Flow::Right);
        assert!(text.contains("<title>a &lt;picture&gt;</title>"));
        assert_eq!(text.matches("<path d=").count(), lines.len());
    }
}
