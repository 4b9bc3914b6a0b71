//! Programs: the automaton of a path pattern, as states that are tried in order.

use graphodrome_graph::{Direction, EdgeTest, NodeTest, PathValue, Value};
use graphodrome_language::ast::PathMode;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use crate::batch::Vector;
use crate::expression::Expr;

#[derive(Clone, Debug)]
pub(crate) enum State {
    /// The current node must pass; it is bound to `local`, or, with `again`, it must be what is there.
    Node {
        test: NodeTest,
        local: Option<usize>,
        again: bool,
        conditions: Vec<Expr>,
        next: usize,
    },
    /// One edge on.
    Edge {
        test: EdgeTest,
        direction: Direction,
        local: Option<usize>,
        again: bool,
        conditions: Vec<Expr>,
        next: usize,
    },
    Fork(usize, usize),
    /// A place that matters later: where a part with a mode or a name of its own begins or ends.
    Mark {
        mark: Mark,
        next: usize,
    },
    /// The end of a parenthesised part: its conditions on what it bound.
    End {
        conditions: Vec<Expr>,
        next: usize,
    },
    Accept,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mark {
    /// Up to the matching end no edge or node comes twice, as the mode has it.
    ModeBegins(PathMode),
    ModeEnds,
    PathBegins,
    /// What lies since the matching beginning is bound to the local.
    PathEnds {
        local: usize,
    },
    /// A part begins whose conditions read lists of what it binds.
    ListsBegin,
    ListsEnd,
    /// What `local` was bound to since the matching beginning, which is so many lists parts further out, as
    /// a list in the local `into`.
    List {
        local: usize,
        out: usize,
        into: usize,
    },
    /// Which alternative was taken, where that tells matches apart.
    Branch(u32),
    /// A variable stands here again: where it does tells matches apart.
    Again {
        local: usize,
    },
}

#[derive(Clone, Debug)]
pub(crate) struct Program {
    pub states: Vec<State>,
    /// How many variables it binds; conditions read them as the slots after the input's.
    pub locals: usize,
    /// How many of them the user named: these tell matches apart.
    pub named: usize,
    /// Per state: what makes ways that meet there, at one node, go on in the same ways: the locals that
    /// conditions ahead read. `None` within a part with a mode of its own, where all of the way does.
    pub alike: Vec<Option<Vec<usize>>>,
    /// One match may be found in several ways: only the first counts.
    pub ambiguous: bool,
    /// It has marks of modes or paths.
    pub marked: bool,
    /// It is walked from its right end.
    pub reversed: bool,
}

impl Program {
    /// Which edges each of its variables may be bound to.
    pub fn edge_tests(&self) -> Vec<(Option<usize>, EdgeTest)> {
        let edge = |state: &State| match state {
            State::Edge { test, local, again: false, .. } => Some((*local, test.clone())),
            _ => None,
        };
        self.states.iter().filter_map(edge).collect()
    }
}

/// What happened along a path: a variable was bound, or a mark passed.
#[derive(Clone, Debug)]
pub(crate) enum Event {
    /// A variable, its value, and with how many edges the path had then.
    Bound(usize, Value, u32),
    /// With how many edges the path had then.
    Passed(Mark, u32),
}

/// Where parts that are still open began.
#[derive(Debug, Default)]
pub(crate) struct OpenParts {
    pub modes: Vec<(PathMode, usize)>,
    pub paths: Vec<usize>,
    /// With how many events each of them began.
    pub lists: Vec<usize>,
}

impl OpenParts {
    /// Takes the event after so many others.
    pub fn note(&mut self, event: &Event, before: usize) {
        let Event::Passed(mark, edges) = event else { return };
        match mark {
            Mark::ModeBegins(mode) => self.modes.push((*mode, *edges as usize)),
            Mark::ModeEnds => {
                self.modes.pop();
            }
            Mark::PathBegins => self.paths.push(*edges as usize),
            Mark::PathEnds { .. } => {
                self.paths.pop();
            }
            Mark::ListsBegin => self.lists.push(before),
            Mark::ListsEnd => {
                self.lists.pop();
            }
            Mark::Branch(_) | Mark::Again { .. } | Mark::List { .. } => {}
        }
    }

    pub fn after<'e>(events: impl Iterator<Item = &'e Event>) -> OpenParts {
        let mut open = OpenParts::default();
        events.enumerate().for_each(|(i, e)| open.note(e, i));
        open
    }

    /// What a local was bound to since a lists part began, in the order in which the pattern is written.
    pub fn list<'e>(
        &self, events: impl Iterator<Item = &'e Event>, local: usize, out: usize, reversed: bool,
    ) -> Value {
        let from = self.lists.len().checked_sub(out + 1).map_or(0, |at| self.lists[at]);
        let bound = events.skip(from).filter_map(|event| match event {
            Event::Bound(l, value, _) if *l == local => Some(value.clone()),
            _ => None,
        });
        let mut items: Vec<Value> = bound.collect();
        if reversed {
            items.reverse();
        }
        Value::list(items)
    }

    /// Whether a path may go on over `edge` to `node` in all modes that are open.
    pub fn allow(&self, nodes: &[u32], edges: &[u32], edge: u32, node: u32) -> bool {
        self.modes.iter().all(|&(mode, from)| allowed(mode, &nodes[from..], &edges[from..], edge, node))
    }
}

/// Whether a path of these nodes and edges may go on over `edge` to `node`.
pub(crate) fn allowed(mode: PathMode, nodes: &[u32], edges: &[u32], edge: u32, node: u32) -> bool {
    match mode {
        PathMode::Walk => true,
        PathMode::Trail => !edges.contains(&edge),
        PathMode::Acyclic => !nodes.contains(&node),
        // Only the very last node may be the first again.
        PathMode::Simple => {
            let closed = !edges.is_empty() && nodes.last() == nodes.first();
            !closed && (!nodes.contains(&node) || nodes.first() == Some(&node))
        }
    }
}

/// A part of a path as a value, in the order in which the pattern is written.
pub(crate) fn part(nodes: &[u32], edges: &[u32], from: usize, reversed: bool) -> Value {
    let mut path = PathValue { nodes: nodes[from..].to_vec(), edges: edges[from..].to_vec() };
    if reversed {
        path.nodes.reverse();
        path.edges.reverse();
    }
    Value::Path(Arc::new(path))
}

/// Per state the locals that are read after it and bound before it; `None` where a part is open that depends
/// on all of its way: one with a mode, or with conditions on lists. `reads` are the locals that a state's conditions read.
pub(crate) fn alike(states: &[State], reads: &dyn Fn(&State) -> Vec<usize>) -> Vec<Option<Vec<usize>>> {
    let nexts = |state: &State| -> Vec<usize> {
        match state {
            State::Node { next, .. }
            | State::Edge { next, .. }
            | State::Mark { next, .. }
            | State::End { next, .. } => vec![*next],
            State::Fork(a, b) => vec![*a, *b],
            State::Accept => vec![],
        }
    };
    // Which locals are read before they are bound again, from each state on.
    let mut live: Vec<Vec<usize>> = vec![vec![]; states.len()];
    loop {
        let mut changed = false;
        for (i, state) in states.iter().enumerate().rev() {
            let mut here: Vec<usize> = nexts(state).into_iter().flat_map(|n| live[n].clone()).collect();
            let (own, again) = match state {
                State::Node { local, again, .. } | State::Edge { local, again, .. } => (*local, *again),
                _ => (None, false),
            };
            here.extend(reads(state));
            here.retain(|l| Some(*l) != own || again);
            here.extend(own.filter(|_| again));
            here.sort_unstable();
            here.dedup();
            if here != live[i] {
                live[i] = here;
                changed = true;
            }
        }
        if !changed {
            break;
        }
    }
    // How many parts with a mode are open at each state.
    let mut depth: Vec<Option<u32>> = vec![None; states.len()];
    let mut left = vec![(0, 0)];
    while let Some((state, open)) = left.pop() {
        if depth[state].is_some() {
            continue;
        }
        depth[state] = Some(open);
        let after = match &states[state] {
            State::Mark { mark: Mark::ModeBegins(_) | Mark::ListsBegin, .. } => open + 1,
            State::Mark { mark: Mark::ModeEnds | Mark::ListsEnd, .. } => open.saturating_sub(1),
            _ => open,
        };
        left.extend(nexts(&states[state]).into_iter().map(|n| (n, after)));
    }
    live.into_iter().zip(depth).map(|(live, open)| (open.unwrap_or(0) == 0).then_some(live)).collect()
}

impl Program {
    /// A number that tells bindings apart: those with the same path and variables share it. 128 bits make
    /// two that are not the same meet less often than memory fails.
    pub fn fingerprint<'e>(
        &self, before: u128, edge: Option<u32>, events: impl Iterator<Item = &'e Event>,
    ) -> u128 {
        let mut halves = [before as u64, (before >> 64) as u64];
        // Where nothing was added the number stays: the same way may be looked at in two places.
        for (i, half) in halves.iter_mut().enumerate().filter(|_| edge.is_some()) {
            let mut hasher = std::collections::hash_map::DefaultHasher::new();
            (i, *half, edge).hash(&mut hasher);
            *half = hasher.finish();
        }
        for event in events {
            let told = match event {
                Event::Bound(local, value, at) if *local < self.named => Some((*local, *at, value.clone())),
                Event::Passed(Mark::Branch(n), at) => Some((usize::MAX, *at, Value::Int(*n as i64))),
                Event::Passed(Mark::Again { local }, at) if *local < self.named => {
                    Some((usize::MAX - 1 - *local, *at, Value::Null))
                }
                _ => None,
            };
            let Some(told) = told else { continue };
            for (i, half) in halves.iter_mut().enumerate() {
                let mut hasher = std::collections::hash_map::DefaultHasher::new();
                (i, *half).hash(&mut hasher);
                told.hash(&mut hasher);
                *half = hasher.finish();
            }
        }
        (halves[1] as u128) << 64 | halves[0] as u128
    }
}

/// A variable of the search that is wanted outside it.
#[derive(Clone, Debug)]
pub(crate) struct OutputVariable {
    pub local: usize,
    pub kind: OutputKind,
    /// A list of all its bindings; otherwise its only one, or null.
    pub group: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OutputKind {
    Node,
    Edge,
    Path,
}

impl OutputVariable {
    pub fn vector(&self) -> Vector {
        match (self.group, self.kind) {
            (true, _) | (_, OutputKind::Path) => Vector::Values(vec![]),
            (false, OutputKind::Node) => Vector::Nodes(vec![]),
            (false, OutputKind::Edge) => Vector::Edges(vec![]),
        }
    }

    /// Its value from what was bound, in order.
    pub fn value(&self, events: &[Event], reversed: bool) -> Value {
        let mut found: Vec<Value> = events
            .iter()
            .filter_map(|event| match event {
                Event::Bound(local, value, _) if *local == self.local => Some(value.clone()),
                _ => None,
            })
            .collect();
        if !self.group {
            return found.pop().unwrap_or(Value::Null);
        }
        if reversed {
            found.reverse();
        }
        Value::list(found)
    }
}
