//! Programs: the automaton of a quantified path, as states that are tried in order.

use graphodrome_graph::{Direction, EdgeTest, NodeTest, Value};

use crate::batch::Vector;
use crate::expression::Expr;

#[derive(Clone, Debug)]
pub(crate) enum State {
    /// The current node must pass; it is bound to `local`.
    Node {
        test: NodeTest,
        local: Option<usize>,
        conditions: Vec<Expr>,
        next: usize,
    },
    /// One edge on.
    Edge {
        test: EdgeTest,
        direction: Direction,
        local: Option<usize>,
        conditions: Vec<Expr>,
        next: usize,
    },
    Fork(usize, usize),
    /// The end of a parenthesised part: its conditions on what it bound.
    End {
        conditions: Vec<Expr>,
        next: usize,
    },
    Accept,
}

#[derive(Clone, Debug)]
pub(crate) struct Program {
    pub states: Vec<State>,
    /// How many variables it binds; conditions read them as the slots after the input's.
    pub locals: usize,
    pub memory: Memory,
}

/// How far back conditions look: whether two ways to the same state and node are alike.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Memory {
    /// Each condition reads only the element it stands at.
    None,
    /// Within one repetition: ways are alike again where the next one begins.
    Repetition,
    Long,
}

/// A variable of the search that is wanted outside it.
#[derive(Clone, Debug)]
pub(crate) struct OutputVariable {
    pub local: usize,
    pub is_node: bool,
    /// A list of all its bindings; otherwise its only one, or null.
    pub group: bool,
}

impl OutputVariable {
    pub fn vector(&self) -> Vector {
        match (self.group, self.is_node) {
            (true, _) => Vector::Values(vec![]),
            (false, true) => Vector::Nodes(vec![]),
            (false, false) => Vector::Edges(vec![]),
        }
    }

    /// Its value from what was bound, in order.
    pub fn value(&self, events: &[(usize, Value)], reversed: bool) -> Value {
        let mut found: Vec<Value> =
            events.iter().filter(|(local, _)| *local == self.local).map(|(_, v)| v.clone()).collect();
        if !self.group {
            return found.pop().unwrap_or(Value::Null);
        }
        if reversed {
            found.reverse();
        }
        Value::list(found)
    }
}
