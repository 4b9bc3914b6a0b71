//! Expressions: names, and what each part yields.

use graphodrome_graph::{Code, Element};

use crate::ast::*;
use crate::check::{Bound, Checker};
use crate::class::{Class, signature};
use crate::scope::VariableKind;
use crate::{Diagnostic, Span, nearest};

impl Checker<'_> {
    /// A condition: true, false or unknown.
    pub(super) fn condition(&mut self, condition: &Expression) {
        let class = self.expression(condition, false);
        self.want(condition, class, Class::Bool, "a condition");
    }

    pub(super) fn want(&mut self, e: &Expression, class: Class, wanted: Class, what: &str) {
        if !class.fits(wanted) {
            self.found.push(Diagnostic::error(
                Code::WRONG_TYPE,
                e.span,
                format!("{what} must be {}, and this is {}", wanted.describe(), class.describe()),
            ));
        }
    }

    pub(super) fn comparable(&mut self, a: Class, b: Class, span: Span) {
        if !a.comparable(b) {
            self.found.push(
                Diagnostic::error(
                    Code::NOT_COMPARABLE,
                    span,
                    format!("{} cannot be compared with {}", a.describe(), b.describe()),
                )
                .hint("CAST one side to the other's type"),
            );
        }
    }

    pub(crate) fn expression(&mut self, expression: &Expression, in_aggregate: bool) -> Class {
        use ExpressionKind::*;
        match &expression.kind {
            Literal(value) => Class::of_value(value),
            Variable(name) => match self.scope.get(name) {
                Some(bound) => bound.class,
                None => {
                    self.unbound(&Name { text: name.clone(), span: expression.span });
                    Class::Unknown
                }
            },
            Parameter(name) => {
                self.parameter(expression, name);
                Class::Unknown
            }
            Property(operand, property) => self.property_of(expression, operand, property, in_aggregate),
            Aggregate { function, argument, second, .. } => {
                self.aggregate(expression, *function, argument, second.as_deref(), in_aggregate)
            }
            CountAll => Class::Number,
            Exists(query) => {
                self.inner_query(query, true);
                Class::Bool
            }
            Subquery(query) => {
                let columns = self.inner_query(query, false);
                match columns.as_deref() {
                    Some([(_, bound)]) => bound.class,
                    _ => {
                        let found = columns.map_or(0, |c| c.len());
                        self.found.push(
                            Diagnostic::syntax(
                                expression.span,
                                format!("VALUE {{ ... }} returns one column, and this has {found}"),
                            )
                            .hint("end it with RETURN and one expression"),
                        );
                        Class::Unknown
                    }
                }
            }
            Let(bindings, body) => {
                let outer = self.scope.clone();
                for (name, value) in bindings {
                    let bound = self.bound_of(value);
                    self.scope.insert(name.text.clone(), bound);
                }
                let class = self.expression(body, in_aggregate);
                self.scope = outer;
                class
            }
            IsLabeled { operand, names, .. } => {
                self.expression(operand, in_aggregate);
                if let Variable(name) = &operand.kind {
                    let variable = Name { text: name.clone(), span: operand.span };
                    names.iter().for_each(|label| self.label_of(&variable, label));
                }
                Class::Bool
            }
            Not(a) => {
                let class = self.expression(a, in_aggregate);
                self.want(a, class, Class::Bool, "an operand of NOT");
                Class::Bool
            }
            Negate(a) => {
                let class = self.expression(a, in_aggregate);
                if class != Class::Duration {
                    self.want(a, class, Class::Number, "the operand of -");
                }
                class
            }
            Binary(operator, a, b) => self.binary(expression, *operator, a, b, in_aggregate),
            In { operand, list, .. } => {
                let item = self.expression(operand, in_aggregate);
                let class = self.expression(list, in_aggregate);
                self.want(list, class, Class::List, "the right side of IN");
                if let List(items) = &list.kind {
                    for literal in items {
                        if let Literal(value) = &literal.kind {
                            self.comparable(item, Class::of_value(value), operand.span.to(literal.span));
                        }
                    }
                }
                Class::Bool
            }
            Between { operand, low, high, .. } => {
                let class = self.expression(operand, in_aggregate);
                for bound in [low, high] {
                    let other = self.expression(bound, in_aggregate);
                    self.comparable(class, other, operand.span.to(bound.span));
                }
                Class::Bool
            }
            Like { operand, pattern, escape, .. } => {
                for side in [Some(operand), Some(pattern), escape.as_ref()].into_iter().flatten() {
                    let class = self.expression(side, in_aggregate);
                    self.want(side, class, Class::Text, "both sides of LIKE");
                }
                Class::Bool
            }
            Case { operand, branches, otherwise } => {
                let subject = operand.as_ref().map(|o| self.expression(o, in_aggregate));
                let mut result: Option<Class> = None;
                for (when, then) in branches {
                    let class = self.expression(when, in_aggregate);
                    match subject {
                        Some(subject) => self.comparable(subject, class, when.span),
                        None => self.want(when, class, Class::Bool, "what follows WHEN"),
                    }
                    let class = self.expression(then, in_aggregate);
                    result = Some(result.map_or(class, |before| before.or(class)));
                }
                if let Some(otherwise) = otherwise {
                    let class = self.expression(otherwise, in_aggregate);
                    result = Some(result.map_or(class, |before| before.or(class)));
                }
                result.unwrap_or(Class::Unknown)
            }
            Cast(operand, value_type) | Require(operand, value_type, _) => {
                self.expression(operand, in_aggregate);
                Class::of_type(value_type)
            }
            Call { function, arguments } => self.call(function, arguments, in_aggregate),
            _ => {
                let mut parts = vec![];
                expression.each_part(&mut |part| parts.push(part));
                parts.into_iter().for_each(|part| {
                    self.expression(part, in_aggregate);
                });
                if let Record(fields) = &expression.kind {
                    for (i, (name, _)) in fields.iter().enumerate() {
                        if fields[..i].iter().any(|(n, _)| n.text == name.text) {
                            self.found.push(Diagnostic::syntax(
                                name.span,
                                format!("the field {} is given twice", name.text),
                            ));
                        }
                    }
                }
                match &expression.kind {
                    List(_) => Class::List,
                    Record(_) => Class::Record,
                    Path(_) => Class::Path,
                    Index(..) => Class::Unknown,
                    _ => Class::Bool,
                }
            }
        }
    }

    fn parameter(&mut self, expression: &Expression, name: &str) {
        let Some(given) = self.parameters else { return };
        if given.iter().any(|g| **g == *name) {
            return;
        }
        let hint = nearest(name, given.iter().map(|g| &**g)).map(|n| format!("did you mean ${n}?"));
        self.found.push(
            Diagnostic::unknown(expression.span, format!("the parameter ${name} has no value"))
                .maybe_hint(hint.or_else(|| Some(format!("give it with -p {name}=...")))),
        );
    }

    fn property_of(
        &mut self, expression: &Expression, operand: &Expression, property: &Name, in_aggregate: bool,
    ) -> Class {
        let class = self.expression(operand, in_aggregate);
        let ExpressionKind::Variable(name) = &operand.kind else {
            if !matches!(class, Class::Unknown | Class::Node | Class::Edge | Class::Record) {
                self.found.push(Diagnostic::error(
                    Code::WRONG_TYPE,
                    operand.span,
                    format!(
                        "what stands before a dot must be a node, an edge or a RECORD, and this is {}",
                        class.describe()
                    ),
                ));
            }
            return Class::Unknown;
        };
        let Some(bound) = self.scope.get(name).cloned() else { return Class::Unknown };
        let element = match bound.kind {
            VariableKind::Node => Element::Node,
            VariableKind::Edge => Element::Edge,
            VariableKind::NodeGroup if in_aggregate => Element::Node,
            VariableKind::EdgeGroup if in_aggregate => Element::Edge,
            VariableKind::NodeGroup | VariableKind::EdgeGroup | VariableKind::PathGroup => {
                self.found.push(
                    Diagnostic::syntax(
                        expression.span,
                        format!(
                            "{name} is {} (it is bound under a quantifier) and has no properties of its own",
                            bound.kind.describe()
                        ),
                    )
                    .hint(format!(
                        "aggregate over it, as in SUM({name}.{0}) or COLLECT_LIST({name}.{0})",
                        property.text
                    )),
                );
                return Class::Unknown;
            }
            VariableKind::Path => {
                self.found.push(
                    Diagnostic::syntax(expression.span, format!("{name} is a path and has no properties"))
                        .hint(format!("PATH_LENGTH({name}), NODES({name}) and EDGES({name}) take it apart")),
                );
                return Class::Unknown;
            }
            VariableKind::Value => {
                if !matches!(bound.class, Class::Unknown | Class::Record | Class::Node | Class::Edge) {
                    self.found.push(Diagnostic::error(
                        Code::WRONG_TYPE,
                        expression.span,
                        format!("{name} is {} and has no properties", bound.class.describe()),
                    ));
                }
                return Class::Unknown;
            }
        };
        self.property(property, Some(element), bound.labels.as_ref());
        self.property_class(&property.text, element, bound.labels.as_ref())
    }

    fn aggregate(
        &mut self, expression: &Expression, function: crate::ast::Aggregate, argument: &Expression,
        second: Option<&Expression>, in_aggregate: bool,
    ) -> Class {
        use crate::ast::Aggregate::*;
        // Over a group variable it works within the row, and another may go over the rows.
        let within_row = !argument.contains_aggregate()
            && crate::read_by_element(argument)
                .iter()
                .any(|name| self.scope.get(name).is_some_and(|b| b.kind.is_group()));
        if in_aggregate && !within_row {
            self.found.push(
                Diagnostic::syntax(expression.span, "an aggregate cannot stand inside another")
                    .hint("compute the inner one first"),
            );
        }
        if let (InOrder(_), false) = (function, within_row) {
            self.found.push(
                Diagnostic::syntax(expression.span, "this asks for the order of values along a path, and rows have none")
                    .hint("use it over a variable that is bound under a quantifier: (a)-[e]->+(b) WHERE RISING(e.day)"),
            );
        }
        let outer = self.scope.clone();
        if within_row {
            // Each element of the list in turn.
            for bound in self.scope.values_mut().filter(|b| b.kind.is_group()) {
                *bound = Bound { labels: bound.labels.take(), ..Bound::of(bound.kind.single()) };
            }
        }
        let class = self.expression(argument, true);
        self.scope = outer;
        if let Some(second) = second {
            let class = self.expression(second, true);
            self.want(second, class, Class::Number, "the share of a percentile");
        }
        match function {
            Count => Class::Number,
            CollectList => Class::List,
            InOrder(_) => Class::Bool,
            Min | Max => class,
            _ => {
                if class != Class::Duration {
                    self.want(argument, class, Class::Number, "what is summed or averaged");
                }
                if class == Class::Duration { class } else { Class::Number }
            }
        }
    }

    /// A property of a variable on one side of an equality, a literal on the other.
    fn equal_to_literal(&mut self, side: &Expression, literal: &Expression) {
        let ExpressionKind::Property(operand, property) = &side.kind else { return };
        let ExpressionKind::Variable(name) = &operand.kind else { return };
        let Some(bound) = self.scope.get(name).cloned() else { return };
        let element = match bound.kind {
            VariableKind::Node => Element::Node,
            VariableKind::Edge => Element::Edge,
            _ => return,
        };
        self.float_equality(literal, &property.text, element, bound.labels.as_ref());
    }

    fn binary(
        &mut self, e: &Expression, operator: BinaryOperator, a: &Expression, b: &Expression,
        in_aggregate: bool,
    ) -> Class {
        use BinaryOperator::*;
        let (x, y) = (self.expression(a, in_aggregate), self.expression(b, in_aggregate));
        match operator {
            And | Or | Xor => {
                self.want(a, x, Class::Bool, "an operand of AND, OR and XOR");
                self.want(b, y, Class::Bool, "an operand of AND, OR and XOR");
                Class::Bool
            }
            Equal | NotEqual | Less | LessOrEqual | Greater | GreaterOrEqual => {
                self.comparable(x, y, e.span);
                if operator == Equal {
                    self.equal_to_literal(a, b);
                    self.equal_to_literal(b, a);
                }
                Class::Bool
            }
            Concatenate => {
                let joins = |c: Class| {
                    matches!(c, Class::Unknown | Class::Text | Class::Bytes | Class::List | Class::Path)
                };
                for (side, class) in [(a, x), (b, y)] {
                    if !joins(class) {
                        self.found.push(
                            Diagnostic::error(
                                Code::WRONG_TYPE,
                                side.span,
                                format!(
                                    "|| joins two STRINGs, two LISTs, two PATHs or BYTES, and this is {}",
                                    class.describe()
                                ),
                            )
                            .hint("CAST(... AS STRING) makes a text of a value"),
                        );
                    }
                }
                if x == Class::Unknown { y } else { x }
            }
            Add | Subtract | Multiply | Divide => {
                let temporal = |c: Class| c.is_temporal() || c == Class::Duration;
                if temporal(x) || temporal(y) {
                    return match (x, y) {
                        // The difference of two of a kind.
                        (x, y) if x.is_temporal() && y.is_temporal() => Class::Duration,
                        // Which of the two kinds the unknown is decides.
                        (x, Class::Unknown) if x.is_temporal() && operator == Subtract => Class::Unknown,
                        (Class::Unknown, y) if y.is_temporal() && operator == Subtract => Class::Duration,
                        (Class::Unknown, _) => Class::Unknown,
                        (Class::Duration, other) if other.is_temporal() => other,
                        (Class::Duration, Class::Unknown) if operator == Add => Class::Unknown,
                        (instant, _) if instant.is_temporal() && operator != Multiply => instant,
                        _ => Class::Duration,
                    };
                }
                let what = format!("an operand of {}", operator.symbol());
                self.want(a, x, Class::Number, &what);
                self.want(b, y, Class::Number, &what);
                if x == Class::Unknown || y == Class::Unknown { Class::Unknown } else { Class::Number }
            }
        }
    }

    fn call(&mut self, function: &Name, arguments: &[Expression], in_aggregate: bool) -> Class {
        // PROPERTY_EXISTS(n, name) takes a name, not a value.
        if *function.text == *"PROPERTY_EXISTS" && arguments.len() == 2 {
            self.expression(&arguments[0], in_aggregate);
            return Class::Bool;
        }
        let classes: Vec<Class> = arguments.iter().map(|a| self.expression(a, in_aggregate)).collect();
        if *function.text == *"ABS" && classes == [Class::Duration] {
            return Class::Duration;
        }
        if matches!(&*function.text, "COALESCE" | "NULLIF") {
            return classes.into_iter().reduce(Class::or).unwrap_or(Class::Unknown);
        }
        let Some((wanted, result)) = signature(&function.text) else { return Class::Unknown };
        for ((argument, class), wanted) in arguments.iter().zip(classes).zip(wanted) {
            self.want(argument, class, *wanted, &format!("an argument of {}", function.text));
        }
        result
    }
}
