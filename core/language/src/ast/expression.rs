//! Expressions.

use std::sync::Arc;

use graphodrome_graph::{LabelExpression, Truth, Value, ValueType};

use super::{Name, Query};
use crate::Span;

#[derive(Clone, Debug)]
pub struct Expression {
    pub kind: ExpressionKind,
    pub span: Span,
}

/// Expressions are the same wherever they stand: ORDER BY may repeat an item.
impl PartialEq for Expression {
    fn eq(&self, other: &Expression) -> bool {
        self.kind == other.kind
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum BinaryOperator {
    Or,
    Xor,
    And,
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Add,
    Subtract,
    Multiply,
    Divide,
    Concatenate,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Aggregate {
    Count,
    Sum,
    Avg,
    Min,
    Max,
    CollectList,
    StddevSamp,
    StddevPop,
    PercentileCont,
    PercentileDisc,
    /// Ours.
    Product,
    /// Ours: whether values follow each other in an order, along a path. Rows have none.
    InOrder(Progression),
}

/// How values follow each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Progression {
    pub falling: bool,
    /// Two that are equal may follow each other.
    pub level: bool,
}

impl Progression {
    /// The same read from the other end.
    pub fn turned(self) -> Progression {
        Progression { falling: !self.falling, ..self }
    }

    /// Whether a value that compares so with the one before it may follow it.
    pub fn allows(self, after: std::cmp::Ordering) -> bool {
        match after {
            std::cmp::Ordering::Equal => self.level,
            std::cmp::Ordering::Greater => !self.falling,
            std::cmp::Ordering::Less => self.falling,
        }
    }
}

#[derive(Clone, Debug, PartialEq)]
pub enum ExpressionKind {
    Literal(Value),
    Parameter(Arc<str>),
    Variable(Arc<str>),
    Property(Box<Expression>, Name),
    Not(Box<Expression>),
    Negate(Box<Expression>),
    Binary(BinaryOperator, Box<Expression>, Box<Expression>),
    IsNull {
        operand: Box<Expression>,
        negated: bool,
    },
    IsTruth {
        operand: Box<Expression>,
        truth: Truth,
        negated: bool,
    },
    IsLabeled {
        operand: Box<Expression>,
        labels: LabelExpression,
        names: Vec<Name>,
        negated: bool,
    },
    IsTyped {
        operand: Box<Expression>,
        value_type: ValueType,
        /// `NOT NULL` after the type: null is not of it.
        not_null: bool,
        negated: bool,
    },
    IsDirected {
        operand: Box<Expression>,
        negated: bool,
    },
    /// `n IS SOURCE OF e` and `n IS DESTINATION OF e`.
    IsEnd {
        node: Box<Expression>,
        edge: Box<Expression>,
        source: bool,
        negated: bool,
    },
    In {
        operand: Box<Expression>,
        list: Box<Expression>,
        negated: bool,
    },
    Between {
        operand: Box<Expression>,
        low: Box<Expression>,
        high: Box<Expression>,
        negated: bool,
    },
    Like {
        operand: Box<Expression>,
        pattern: Box<Expression>,
        /// The character that takes their meaning from `%` and `_`; without it that is `\`.
        escape: Option<Box<Expression>>,
        negated: bool,
    },
    Case {
        operand: Option<Box<Expression>>,
        branches: Vec<(Expression, Expression)>,
        otherwise: Option<Box<Expression>>,
    },
    Cast(Box<Expression>, ValueType),
    Call {
        function: Name,
        arguments: Vec<Expression>,
    },
    CountAll,
    Aggregate {
        function: Aggregate,
        distinct: bool,
        argument: Box<Expression>,
        /// The share of a percentile.
        second: Option<Box<Expression>>,
    },
    List(Vec<Expression>),
    Record(Vec<(Name, Expression)>),
    Index(Box<Expression>, Box<Expression>),
    Exists(Box<Query>),
    /// `VALUE { query }`: the one value of its one row.
    Subquery(Box<Query>),
    /// A value that must be of a type, not null where that is said.
    Require(Box<Expression>, ValueType, bool),
    /// `LET x = 1 IN x + x END`.
    Let(Vec<(Name, Expression)>, Box<Expression>),
    /// `PATH [n, e, m]`.
    Path(Vec<Expression>),
    /// `IS [NOT] [NFC] NORMALIZED`.
    IsNormalized {
        operand: Box<Expression>,
        form: NormalForm,
        negated: bool,
    },
}

/// Unicode's normal forms.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum NormalForm {
    Nfc,
    Nfd,
    Nfkc,
    Nfkd,
}

/// Calls `$visit` for every direct part of an expression; one text for parts that are read and parts that may be
/// replaced.
macro_rules! each_part {
    ($kind:expr, $visit:ident, $iter:ident) => {{
        use ExpressionKind::*;
        match $kind {
            Literal(_) | Parameter(_) | Variable(_) | CountAll | Exists(_) | Subquery(_) => {}
            Let(bindings, body) => {
                bindings.$iter().for_each(|(_, e)| $visit(e));
                $visit(body);
            }
            Property(a, _) | Not(a) | Negate(a) | Cast(a, _) | Require(a, ..) => $visit(a),
            IsNull { operand, .. }
            | IsTruth { operand, .. }
            | IsLabeled { operand, .. }
            | IsTyped { operand, .. }
            | IsNormalized { operand, .. }
            | IsDirected { operand, .. } => $visit(operand),
            Binary(_, a, b) | Index(a, b) => {
                $visit(a);
                $visit(b);
            }
            IsEnd { node, edge, .. } => {
                $visit(node);
                $visit(edge);
            }
            In { operand, list, .. } => {
                $visit(operand);
                $visit(list);
            }
            Between { operand, low, high, .. } => {
                $visit(operand);
                $visit(low);
                $visit(high);
            }
            Like { operand, pattern, escape, .. } => {
                $visit(operand);
                $visit(pattern);
                escape.$iter().for_each(|e| $visit(e));
            }
            Case { operand, branches, otherwise } => {
                operand.$iter().for_each(|e| $visit(e));
                for (when, then) in branches {
                    $visit(when);
                    $visit(then);
                }
                otherwise.$iter().for_each(|e| $visit(e));
            }
            Call { arguments, .. } => arguments.$iter().for_each($visit),
            Aggregate { argument, second, .. } => {
                $visit(argument);
                second.$iter().for_each(|e| $visit(e));
            }
            List(items) | Path(items) => items.$iter().for_each($visit),
            Record(fields) => fields.$iter().for_each(|(_, e)| $visit(e)),
        }
    }};
}

impl Expression {
    /// Calls `visit` for every direct part.
    pub fn each_part<'e>(&'e self, visit: &mut dyn FnMut(&'e Expression)) {
        each_part!(&self.kind, visit, iter)
    }

    /// Calls `visit` for every direct part, which it may replace.
    pub fn each_part_mut(&mut self, visit: &mut dyn FnMut(&mut Expression)) {
        each_part!(&mut self.kind, visit, iter_mut)
    }

    pub fn contains_aggregate(&self) -> bool {
        if matches!(self.kind, ExpressionKind::Aggregate { .. } | ExpressionKind::CountAll) {
            return true;
        }
        let mut found = false;
        self.each_part(&mut |part| found |= part.contains_aggregate());
        found
    }

    /// The conditions that `AND` joins.
    pub fn conjuncts(&self) -> Vec<&Expression> {
        match &self.kind {
            ExpressionKind::Binary(BinaryOperator::And, a, b) => {
                let mut all = a.conjuncts();
                all.extend(b.conjuncts());
                all
            }
            _ => vec![self],
        }
    }
}

impl Aggregate {
    /// Whether it must keep each value until the end.
    pub fn keeps_values(self) -> bool {
        matches!(self, Aggregate::CollectList | Aggregate::PercentileCont | Aggregate::PercentileDisc)
    }
}

impl BinaryOperator {
    pub fn symbol(self) -> &'static str {
        use BinaryOperator::*;
        match self {
            Or => "OR",
            Xor => "XOR",
            And => "AND",
            Equal => "=",
            NotEqual => "<>",
            Less => "<",
            LessOrEqual => "<=",
            Greater => ">",
            GreaterOrEqual => ">=",
            Add => "+",
            Subtract => "-",
            Multiply => "*",
            Divide => "/",
            Concatenate => "||",
        }
    }
}
