//! Compiled expressions: names are slots, parameters are numbers, properties know their columns.

use std::sync::Arc;

use graphodrome_graph::{Element, LabelExpression, PropertyReader, Truth, Value, ValueType};
use graphodrome_language::Span;
use graphodrome_language::ast::{Aggregate, BinaryOperator, NormalForm};

use crate::functions::Function;
use crate::known_list::ListTable;

#[derive(Clone, Debug)]
pub(crate) struct Expr {
    pub kind: Kind,
    pub span: Span,
}

/// What a path value is put together from.
#[derive(Clone, Debug)]
pub(crate) enum Piece {
    Node(usize),
    Edge(usize),
    /// A path column; its first node is the node before it.
    Path(usize),
}

#[derive(Clone, Debug)]
pub(crate) enum Kind {
    Constant(Value),
    /// Its value comes with the request: a plan serves many.
    Parameter(usize),
    Slot(usize),
    NodeProperty(usize, PropertyReader),
    EdgeProperty(usize, PropertyReader),
    /// Of a value known at run time only: a record, or an element out of a list.
    Property(Box<Expr>, PropertyReader, PropertyReader),
    Not(Box<Expr>),
    Negate(Box<Expr>),
    Binary(BinaryOperator, Box<Expr>, Box<Expr>),
    IsNull(Box<Expr>, bool),
    IsTruth(Box<Expr>, Truth, bool),
    IsLabeled(Box<Expr>, LabelExpression, bool),
    /// Of a type; whether null is; negated.
    IsTyped(Box<Expr>, ValueType, bool, bool),
    IsDirected(Box<Expr>, bool),
    IsEnd {
        node: Box<Expr>,
        edge: Box<Expr>,
        source: bool,
        negated: bool,
    },
    /// Whether it is negated, and the list as a table.
    In(Box<Expr>, Box<Expr>, bool, ListTable),
    Between(Box<Expr>, Box<Expr>, Box<Expr>, bool),
    /// Text, pattern and what escapes in it; negated.
    Like(Box<Expr>, Box<Expr>, Option<Box<Expr>>, bool),
    Case {
        operand: Option<Box<Expr>>,
        branches: Vec<(Expr, Expr)>,
        otherwise: Option<Box<Expr>>,
    },
    Cast(Box<Expr>, ValueType),
    Call(Function, Vec<Expr>),
    List(Vec<Expr>),
    Record(Vec<(Arc<str>, Expr)>),
    Index(Box<Expr>, Box<Expr>),
    /// An aggregate over a group variable, within the row: `argument` reads the element at `local`.
    Fold {
        list: usize,
        local: usize,
        function: Aggregate,
        distinct: bool,
        /// Of a percentile.
        share: Option<Box<Expr>>,
        argument: Box<Expr>,
    },
    Path(Vec<Piece>),
    /// The number of edges of such a path.
    Length(Vec<Piece>),
    /// `PATH [n, e, m]`.
    PathOf(Vec<Expr>),
    /// Values in the slots from `first` on, for the body.
    Let {
        first: usize,
        values: Vec<Expr>,
        body: Box<Expr>,
    },
    /// A value that must be of a type; whether null is left out.
    Require(Box<Expr>, ValueType, bool),
    IsNormalized(Box<Expr>, NormalForm, bool),
    /// Of two slots with edges or paths.
    NoSharedEdge(usize, usize),
}

/// One property of the element in a slot.
#[derive(Clone, Copy)]
pub(crate) struct OnlyProperty<'e> {
    pub slot: usize,
    pub element: Element,
    pub reader: &'e PropertyReader,
}

impl Expr {
    /// Calls `visit` for every direct part.
    fn each_part<'e>(&'e self, visit: &mut dyn FnMut(&'e Expr)) {
        use Kind::*;
        match &self.kind {
            Constant(_) | Parameter(_) | Slot(_) | NodeProperty(..) | EdgeProperty(..) | Path(_)
            | Length(_) | NoSharedEdge(..) => {}
            Property(a, ..)
            | Not(a)
            | Negate(a)
            | IsNull(a, _)
            | IsTruth(a, ..)
            | IsLabeled(a, ..)
            | IsTyped(a, ..)
            | IsDirected(a, _)
            | Cast(a, _)
            | Require(a, ..)
            | IsNormalized(a, ..) => visit(a),
            Like(a, b, escape, _) => {
                visit(a);
                visit(b);
                escape.iter().for_each(|e| visit(e));
            }
            Binary(_, a, b) | In(a, b, ..) | Index(a, b) => {
                visit(a);
                visit(b);
            }
            IsEnd { node, edge, .. } => {
                visit(node);
                visit(edge);
            }
            Between(a, b, c, _) => [a, b, c].into_iter().for_each(|e| visit(e)),
            Case { operand, branches, otherwise } => {
                operand.iter().chain(otherwise).for_each(|e| visit(e));
                for (when, then) in branches {
                    visit(when);
                    visit(then);
                }
            }
            Call(_, items) | List(items) | PathOf(items) => items.iter().for_each(visit),
            Record(fields) => fields.iter().for_each(|(_, e)| visit(e)),
            Fold { share, argument, .. } => {
                share.iter().for_each(|e| visit(e));
                visit(argument);
            }
            Let { values, body, .. } => {
                values.iter().for_each(&mut *visit);
                visit(body);
            }
        }
    }

    /// What it reads of a row, where that is one property of one element, however often.
    pub fn only_property(&self) -> Option<OnlyProperty<'_>> {
        let mut found = None;
        self.reads_only(&mut found).then_some(found)?
    }

    fn reads_only<'e>(&'e self, found: &mut Option<OnlyProperty<'e>>) -> bool {
        let property = match &self.kind {
            Kind::NodeProperty(slot, reader) => OnlyProperty { slot: *slot, element: Element::Node, reader },
            Kind::EdgeProperty(slot, reader) => OnlyProperty { slot: *slot, element: Element::Edge, reader },
            // They read elements, or fill slots of their own.
            Kind::Slot(_)
            | Kind::Property(..)
            | Kind::Fold { .. }
            | Kind::Let { .. }
            | Kind::Path(_)
            | Kind::Length(_)
            | Kind::NoSharedEdge(..) => return false,
            _ => {
                let mut only = true;
                self.each_part(&mut |part| only = only && part.reads_only(found));
                return only;
            }
        };
        let known = found.get_or_insert(property);
        known.slot == property.slot
            && known.element == property.element
            && known.reader.name == property.reader.name
    }

    /// Adds the slots that it reads, without those that it fills itself.
    pub fn slots(&self, found: &mut Vec<usize>) {
        let own = match &self.kind {
            Kind::Fold { local, .. } => *local..*local + 1,
            Kind::Let { first, values, .. } => *first..*first + values.len(),
            _ => 0..0,
        };
        let before = found.len();
        self.all_slots(found);
        if !own.is_empty() {
            let read: Vec<usize> = found.drain(before..).filter(|slot| !own.contains(slot)).collect();
            found.extend(read);
        }
    }

    fn all_slots(&self, found: &mut Vec<usize>) {
        match &self.kind {
            Kind::Slot(slot) | Kind::NodeProperty(slot, _) | Kind::EdgeProperty(slot, _) => found.push(*slot),
            Kind::Fold { list, .. } => found.push(*list),
            Kind::NoSharedEdge(a, b) => found.extend([*a, *b]),
            Kind::Path(pieces) | Kind::Length(pieces) => {
                found.extend(pieces.iter().map(|piece| match piece {
                    Piece::Node(slot) | Piece::Edge(slot) | Piece::Path(slot) => *slot,
                }))
            }
            _ => {}
        }
        self.each_part(&mut |part| part.slots(found));
    }

    /// Reads what lies from `first` on so many slots further back. Of conditions that bind nothing themselves.
    pub fn move_slots(&mut self, first: usize, by: usize) {
        match &mut self.kind {
            Kind::Slot(slot) if *slot >= first => *slot += by,
            Kind::Negate(a) | Kind::Not(a) => a.move_slots(first, by),
            Kind::Binary(_, a, b) => {
                a.move_slots(first, by);
                b.move_slots(first, by);
            }
            Kind::Between(a, b, c, _) => [a, b, c].into_iter().for_each(|e| e.move_slots(first, by)),
            Kind::Call(_, all) => all.iter_mut().for_each(|e| e.move_slots(first, by)),
            _ => {}
        }
    }

    pub fn as_constant(&self) -> Option<&Value> {
        match &self.kind {
            Kind::Constant(value) => Some(value),
            _ => None,
        }
    }
}
