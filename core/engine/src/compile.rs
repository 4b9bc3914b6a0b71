//! Syntax-tree expressions to compiled ones, against a schema of slots.

use std::cell::RefCell;
use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::ast::{BinaryOperator, Expression, ExpressionKind};
use graphodrome_language::{Diagnostic, VariableKind, called_otherwise, nearest};

use crate::Parameters;
use crate::alternatives::{disjuncts, with_lists};
use crate::batch::Batch;
use crate::counters::Counters;
use crate::evaluate::Evaluator;
use crate::expression::{Expr, Kind};
use crate::functions::FUNCTIONS;
use crate::known_list::ListTable;
use crate::outcome::Outcome;
use crate::plan::Schema;
use crate::row::Row;
use crate::scope::Scope;

/// Where an `EXISTS` or an aggregate of this text position has been computed already.
pub(crate) type Computed = Vec<(ExpressionKind, usize)>;

pub(crate) struct Compiler<'a> {
    pub scope: &'a Scope,
    pub schema: &'a Schema,
    pub parameters: &'a PlanParameters<'a>,
    /// Expressions whose value is in a slot already: group keys, aggregates, subqueries.
    pub computed: &'a Computed,
    /// After grouping: what is not there was neither grouped by nor aggregated.
    pub grouped: bool,
    /// Alternatives become lists.
    pub lists: bool,
}

/// A parameter whose value a plan depends on.
pub(crate) type Looked = (Arc<str>, Value);

/// The parameters of a query while it is planned. A plan knows them by number, so that it can be run
/// again with others; where planning looks at a value, the plan is for that value alone.
pub(crate) struct PlanParameters<'p> {
    given: &'p Parameters,
    used: RefCell<Vec<Arc<str>>>,
    looked: RefCell<Vec<Looked>>,
    /// Names of parameters whose values an estimate looked at.
    estimated: RefCell<Vec<Arc<str>>>,
    /// Whether estimates look at no values.
    blind: bool,
}

impl<'p> PlanParameters<'p> {
    pub fn new(given: &'p Parameters) -> PlanParameters<'p> {
        PlanParameters {
            given,
            used: RefCell::default(),
            looked: RefCell::default(),
            estimated: RefCell::default(),
            blind: false,
        }
    }

    /// Those of a plan whose estimates look at no values.
    pub fn blind(given: &'p Parameters) -> PlanParameters<'p> {
        PlanParameters { blind: true, ..PlanParameters::new(given) }
    }

    /// `None` where the request has no such parameter.
    fn number(&self, name: &str) -> Option<usize> {
        self.given.get(name)?;
        let mut used = self.used.borrow_mut();
        if let Some(number) = used.iter().position(|known| **known == *name) {
            return Some(number);
        }
        used.push(name.into());
        Some(used.len() - 1)
    }

    /// The value given, which the plan from now on depends on.
    pub fn look(&self, name: &str) -> Option<Value> {
        let value = self.given.get(name)?;
        let mut looked = self.looked.borrow_mut();
        if !looked.iter().any(|(known, _)| **known == *name) {
            looked.push((name.into(), value.clone()));
        }
        Some(value.clone())
    }

    /// The value given, for an estimate, which the plan from now on depends on.
    pub fn look_for_estimate(&self, name: &str) -> Option<Value> {
        if self.blind {
            return None;
        }
        let value = self.look(name)?;
        let mut estimated = self.estimated.borrow_mut();
        if !estimated.iter().any(|known| **known == *name) {
            estimated.push(name.into());
        }
        Some(value)
    }

    /// The value given, for an estimate that serves other values as well.
    pub fn peek(&self, name: &str) -> Option<Value> {
        self.given.get(name).cloned()
    }

    /// The names used, in the order of their numbers, the values looked at, and of which of them estimates looked at.
    pub fn taken(&self) -> (Vec<Arc<str>>, Vec<Looked>, Vec<Arc<str>>) {
        (self.used.take(), self.looked.take(), self.estimated.take())
    }

    /// Names of those given.
    pub fn names(&self) -> Vec<Arc<str>> {
        self.given.keys().map(|k| k.as_str().into()).collect()
    }
}

static NO_SCHEMA: Schema = Schema { variables: vec![] };
static NO_COMPUTED: Computed = vec![];

impl<'a> Compiler<'a> {
    /// For expressions without variables and parameters.
    pub fn constant(scope: &'a Scope, parameters: &'a PlanParameters<'a>) -> Self {
        Compiler {
            scope,
            schema: &NO_SCHEMA,
            parameters,
            computed: &NO_COMPUTED,
            grouped: false,
            lists: true,
        }
    }

    pub fn expression(&self, e: &Expression) -> Outcome<Expr> {
        let kind = self.kind(e)?;
        let expr = Expr { kind, span: e.span };
        Ok(self.folded(expr))
    }

    fn boxed(&self, e: &Expression) -> Outcome<Box<Expr>> {
        self.expression(e).map(Box::new)
    }

    fn all(&self, items: &[Expression]) -> Outcome<Vec<Expr>> {
        items.iter().map(|e| self.expression(e)).collect()
    }

    fn kind(&self, e: &Expression) -> Outcome<Kind> {
        if let Some((_, slot)) = self.computed.iter().find(|(known, _)| *known == e.kind) {
            return Ok(Kind::Slot(*slot));
        }
        if self.lists
            && let Some(listed) = with_lists(e)
        {
            return self.kind(&listed);
        }
        Ok(match &e.kind {
            ExpressionKind::Literal(value) => Kind::Constant(value.clone()),
            ExpressionKind::Parameter(name) => match self.parameters.number(name) {
                Some(number) => Kind::Parameter(number),
                None => {
                    return Err(Diagnostic::unknown(e.span, format!("the parameter ${name} has no value"))
                        .hint(format!("give it with -p {name}=...")));
                }
            },
            ExpressionKind::Variable(name) => match self.schema.slot(name) {
                Some(slot) => Kind::Slot(slot),
                None => return Err(self.unbound(e, name)),
            },
            ExpressionKind::Property(operand, name) => {
                if let ExpressionKind::Variable(variable) = &operand.kind
                    && let Some(slot) = self.schema.slot(variable)
                {
                    match self.schema.variables[slot].kind {
                        VariableKind::Node => {
                            return Ok(Kind::NodeProperty(slot, self.scope.node_reader(&name.text)));
                        }
                        VariableKind::Edge => {
                            return Ok(Kind::EdgeProperty(slot, self.scope.edge_reader(&name.text)));
                        }
                        _ => {}
                    }
                }
                let operand = self.boxed(operand)?;
                Kind::Property(
                    operand,
                    self.scope.node_reader(&name.text),
                    self.scope.edge_reader(&name.text),
                )
            }
            // A long chain is compiled without recursion along it.
            ExpressionKind::Binary(BinaryOperator::Or, ..) if self.computed.is_empty() => {
                let mut all = vec![];
                for disjunct in disjuncts(e) {
                    all.push(self.expression(disjunct)?);
                }
                let or = |a: Expr, b: Expr| {
                    let span = a.span.to(b.span);
                    let kind = Kind::Binary(BinaryOperator::Or, Box::new(a), Box::new(b));
                    self.folded(Expr { kind, span })
                };
                match all.into_iter().reduce(or) {
                    Some(whole) => whole.kind,
                    None => Kind::Constant(Value::Null),
                }
            }
            ExpressionKind::Not(a) => Kind::Not(self.boxed(a)?),
            ExpressionKind::Negate(a) => Kind::Negate(self.boxed(a)?),
            ExpressionKind::Binary(operator, a, b) => Kind::Binary(*operator, self.boxed(a)?, self.boxed(b)?),
            ExpressionKind::IsNull { operand, negated } => Kind::IsNull(self.boxed(operand)?, *negated),
            ExpressionKind::IsTruth { operand, truth, negated } => {
                Kind::IsTruth(self.boxed(operand)?, *truth, *negated)
            }
            ExpressionKind::IsLabeled { operand, labels, negated, .. } => {
                Kind::IsLabeled(self.boxed(operand)?, labels.clone(), *negated)
            }
            ExpressionKind::IsTyped { operand, value_type, not_null, negated } => {
                Kind::IsTyped(self.boxed(operand)?, value_type.clone(), !not_null, *negated)
            }
            ExpressionKind::IsDirected { operand, negated } => {
                Kind::IsDirected(self.boxed(operand)?, *negated)
            }
            ExpressionKind::IsEnd { node, edge, source, negated } => Kind::IsEnd {
                node: self.boxed(node)?,
                edge: self.boxed(edge)?,
                source: *source,
                negated: *negated,
            },
            ExpressionKind::In { operand, list, negated } => {
                Kind::In(self.boxed(operand)?, self.boxed(list)?, *negated, ListTable::default())
            }
            ExpressionKind::Between { operand, low, high, negated } => {
                Kind::Between(self.boxed(operand)?, self.boxed(low)?, self.boxed(high)?, *negated)
            }
            ExpressionKind::Like { operand, pattern, escape, negated } => {
                let escape = escape.as_ref().map(|e| self.boxed(e)).transpose()?;
                Kind::Like(self.boxed(operand)?, self.boxed(pattern)?, escape, *negated)
            }
            ExpressionKind::Case { operand, branches, otherwise } => Kind::Case {
                operand: operand.as_ref().map(|o| self.boxed(o)).transpose()?,
                branches: branches
                    .iter()
                    .map(|(when, then)| Ok((self.expression(when)?, self.expression(then)?)))
                    .collect::<Outcome<_>>()?,
                otherwise: otherwise.as_ref().map(|o| self.boxed(o)).transpose()?,
            },
            ExpressionKind::Cast(a, wanted) => Kind::Cast(self.boxed(a)?, wanted.clone()),
            ExpressionKind::Call { function, arguments } => {
                // Where nothing else of a path is read, its length is all there is of it.
                if let Some(slot) = length_of(e).and_then(|name| self.schema.slot(&length_name(name))) {
                    return Ok(Kind::Slot(slot));
                }
                // PROPERTY_EXISTS(n, name) takes a name, not a value.
                if *function.text == *"PROPERTY_EXISTS" && arguments.len() == 2 {
                    return self.property_exists(e, arguments);
                }
                let Some((_, found, least, most)) = FUNCTIONS.iter().find(|f| *f.0 == *function.text) else {
                    let near = nearest(&function.text, FUNCTIONS.iter().map(|f| f.0));
                    return Err(Diagnostic::unknown(
                        function.span,
                        format!("there is no function {}", function.text),
                    )
                    .maybe_hint(
                        called_otherwise(&function.text)
                            .map(String::from)
                            .or_else(|| near.map(|n| format!("did you mean {n}?"))),
                    ));
                };
                if arguments.len() < *least || arguments.len() > *most {
                    let wanted =
                        if least == most { format!("{least}") } else { format!("{least} to {most}") };
                    return Err(Diagnostic::syntax(
                        e.span,
                        format!("{} takes {wanted} argument(s), found {}", function.text, arguments.len()),
                    ));
                }
                Kind::Call(*found, self.all(arguments)?)
            }
            ExpressionKind::Aggregate { function, distinct, argument, second } => {
                let Some((list, name, kind)) = self.group_variable(argument) else {
                    return Err(Diagnostic::syntax(e.span, "an aggregate over rows stands only in RETURN")
                        .hint("over a variable bound under a quantifier it works anywhere"));
                };
                let mut inner = self.schema.clone();
                let local = inner.variables.len();
                inner.rename(list, "#group");
                inner.push(name, kind);
                let compiler = Compiler { schema: &inner, computed: &NO_COMPUTED, ..*self };
                Kind::Fold {
                    list,
                    local,
                    function: *function,
                    distinct: *distinct,
                    share: second.as_ref().map(|e| self.boxed(e)).transpose()?,
                    argument: compiler.boxed(argument)?,
                }
            }
            ExpressionKind::CountAll => {
                return Err(Diagnostic::syntax(e.span, "COUNT(*) stands only in RETURN"));
            }
            ExpressionKind::List(items) => Kind::List(self.all(items)?),
            ExpressionKind::Record(fields) => Kind::Record(
                fields
                    .iter()
                    .map(|(n, e)| Ok((n.text.clone(), self.expression(e)?)))
                    .collect::<Outcome<_>>()?,
            ),
            ExpressionKind::Index(a, b) => Kind::Index(self.boxed(a)?, self.boxed(b)?),
            ExpressionKind::Exists(_) | ExpressionKind::Subquery(_) => {
                return Err(Diagnostic::syntax(e.span, "not supported: a query at this place (feature GQ22)")
                    .hint("queries stand in WHERE after a pattern, FILTER, LET, FOR, ORDER BY, RETURN and what is set"));
            }
            ExpressionKind::Path(items) => Kind::PathOf(self.all(items)?),
            ExpressionKind::Require(a, wanted, not_null) => {
                Kind::Require(self.boxed(a)?, wanted.clone(), *not_null)
            }
            ExpressionKind::IsNormalized { operand, form, negated } => {
                Kind::IsNormalized(self.boxed(operand)?, *form, *negated)
            }
            ExpressionKind::Let(bindings, body) => {
                let first = self.schema.len();
                let mut inner = self.schema.clone();
                let mut values = vec![];
                for (name, value) in bindings {
                    let compiler = Compiler { schema: &inner, ..*self };
                    let value = compiler.expression(value)?;
                    let kind = expression_kind(&value, &inner);
                    values.push(value);
                    inner.push(name.text.clone(), kind);
                }
                let compiler = Compiler { schema: &inner, ..*self };
                Kind::Let { first, values, body: compiler.boxed(body)? }
            }
        })
    }

    fn property_exists(&self, e: &Expression, arguments: &[Expression]) -> Outcome<Kind> {
        let ExpressionKind::Variable(name) = &arguments[1].kind else {
            return Err(Diagnostic::syntax(e.span, "PROPERTY_EXISTS takes an element and a property name"));
        };
        let operand = self.boxed(&arguments[0])?;
        let property = Kind::Property(operand, self.scope.node_reader(name), self.scope.edge_reader(name));
        Ok(Kind::IsNull(Box::new(Expr { kind: property, span: e.span }), true))
    }

    /// The one group variable that an aggregate's argument reads, with the kind its elements have.
    fn group_variable(&self, argument: &Expression) -> Option<(usize, Arc<str>, VariableKind)> {
        graphodrome_language::read_by_element(argument).into_iter().find_map(|name| {
            let slot = self.schema.slot(&name)?;
            let kind = match self.schema.variables[slot].kind {
                VariableKind::NodeGroup => VariableKind::Node,
                VariableKind::EdgeGroup => VariableKind::Edge,
                VariableKind::PathGroup => VariableKind::Path,
                _ => return None,
            };
            Some((slot, name, kind))
        })
    }

    fn unbound(&self, e: &Expression, name: &str) -> Diagnostic {
        if self.grouped {
            return Diagnostic::unknown(e.span, format!("{name} is neither grouped by nor aggregated"))
                .hint("add it to GROUP BY, or put it into an aggregate");
        }
        let names = self.schema.variables.iter().map(|v| &*v.name).filter(|n| !n.starts_with('#'));
        let near = nearest(name, names);
        Diagnostic::unknown(e.span, format!("there is no variable {name} here"))
            .maybe_hint(near.map(|n| format!("did you mean {n}?")))
    }

    /// Replaces an expression of constants by its value. What fails stays as it is, to fail where and
    /// when it is evaluated.
    fn folded(&self, expr: Expr) -> Expr {
        let constant = match &expr.kind {
            Kind::Negate(a) | Kind::Not(a) | Kind::Cast(a, _) => a.as_constant().is_some(),
            Kind::Binary(_, a, b) => a.as_constant().is_some() && b.as_constant().is_some(),
            Kind::List(items) => items.iter().all(|i| i.as_constant().is_some()),
            _ => false,
        };
        if !constant {
            return expr;
        }
        let batch = Batch::unit();
        let row = Row { batch: &batch, row: 0, locals: &[] };
        let mut counters = Counters::default();
        match (Evaluator { scope: self.scope, counters: &mut counters }).value(&expr, row) {
            Ok(value) => Expr { kind: Kind::Constant(value), span: expr.span },
            Err(_) => expr,
        }
    }
}

/// A non-negative number for LIMIT and OFFSET.
pub(crate) fn row_count(expr: &Expr, what: &str, parameters: &PlanParameters<'_>) -> Outcome<usize> {
    let given = match expr.kind {
        Kind::Parameter(number) => {
            let name = parameters.used.borrow()[number].clone();
            parameters.look(&name)
        }
        _ => None,
    };
    match given.as_ref().or(expr.as_constant()) {
        Some(Value::Int(n)) if *n >= 0 => Ok(*n as usize),
        Some(other) => Err(Diagnostic::error(
            graphodrome_graph::Code("22G02"),
            expr.span,
            format!("{what} takes a number of rows from 0 up, found {}", other.excerpt()),
        )),
        None => Err(Diagnostic::syntax(expr.span, format!("{what} takes a number or a parameter"))),
    }
}

/// The column of a path of which only the length is read.
pub(crate) fn length_name(path: &str) -> Arc<str> {
    format!("#length of {path}").into()
}

/// Whether it is `PATH_LENGTH(name)`, and of which name.
pub(crate) fn length_of(e: &Expression) -> Option<&Arc<str>> {
    let ExpressionKind::Call { function, arguments } = &e.kind else { return None };
    let [Expression { kind: ExpressionKind::Variable(name), .. }] = &arguments[..] else { return None };
    function.text.eq_ignore_ascii_case("PATH_LENGTH").then_some(name)
}

/// What a compiled expression yields, as far as a column's form goes.
pub(crate) fn expression_kind(expr: &Expr, schema: &Schema) -> VariableKind {
    match &expr.kind {
        Kind::Slot(slot) => schema.variables.get(*slot).map_or(VariableKind::Value, |v| v.kind),
        Kind::Path(_) => VariableKind::Path,
        _ => VariableKind::Value,
    }
}
