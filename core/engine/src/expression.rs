//! Compiled expressions: names are slots, parameters are numbers, properties know their columns.

use std::sync::Arc;

use graphodrome_graph::{LabelExpression, PropertyReader, Truth, Value, ValueType};
use graphodrome_language::Span;
use graphodrome_language::ast::{Aggregate, BinaryOperator};

use crate::functions::Function;

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
    In(Box<Expr>, Box<Expr>, bool),
    Between(Box<Expr>, Box<Expr>, Box<Expr>, bool),
    Like(Box<Expr>, Box<Expr>, bool),
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
        argument: Box<Expr>,
    },
    Path(Vec<Piece>),
}

impl Expr {
    pub fn as_constant(&self) -> Option<&Value> {
        match &self.kind {
            Kind::Constant(value) => Some(value),
            _ => None,
        }
    }
}
