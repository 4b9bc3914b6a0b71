//! Calls by name: the procedure is there, its arguments and columns too, and literals are of the type they
//! should be.

use crate::ast::*;
use crate::check::{Bound, Checker};
use crate::class::Class;
use crate::procedure::{Gives, Procedure, Takes};
use crate::scope::VariableKind;
use crate::{Diagnostic, Span, nearest};

impl Checker<'_> {
    pub(super) fn procedure(
        &mut self, name: &Name, arguments: &[Expression], yields: Option<&[(Name, Name)]>, span: Span,
    ) {
        let known = self.known.procedures.clone();
        let Some(procedure) = known.iter().find(|p| p.name.eq_ignore_ascii_case(&name.text)) else {
            let near = nearest(&name.text, known.iter().map(|p| p.name));
            let hint = match near {
                Some(near) => format!("did you mean {near}?"),
                None => {
                    "a query may be called: CALL { ... }; `graphodrome measure list` lists what else".into()
                }
            };
            let problem = Diagnostic::unknown(name.span, format!("there is no procedure {}", name.text));
            self.found.push(problem.hint(hint));
            return;
        };
        if let Some(second) = arguments.get(1) {
            self.found.push(Diagnostic::syntax(second.span, one_record(procedure)).hint(example(procedure)));
        }
        match arguments.first() {
            Some(given) => self.options(procedure, given),
            None => self.missing(procedure, &[], name.span),
        }
        self.yields(procedure, yields, span);
    }

    fn options(&mut self, procedure: &Procedure, given: &Expression) {
        let class = self.expression(given, false);
        let ExpressionKind::Record(fields) = &given.kind else {
            if !matches!(class, Class::Unknown | Class::Record) {
                self.found
                    .push(Diagnostic::syntax(given.span, one_record(procedure)).hint(example(procedure)));
            }
            return;
        };
        for (name, value) in fields {
            let Some(argument) = procedure.argument(&name.text) else {
                let text = format!("{} has no argument {}", procedure.name, name.text);
                let all: Vec<&str> = procedure.arguments.iter().map(|a| a.name).collect();
                let hint = match nearest(&name.text, all.iter().copied()) {
                    Some(near) => format!("did you mean {near}?"),
                    None => format!("its arguments are {}", all.join(", ")),
                };
                self.found.push(Diagnostic::unknown(name.span, text).hint(hint));
                continue;
            };
            let wanted = match argument.takes {
                Takes::NodePattern | Takes::EdgePattern | Takes::Text => Class::Text,
                Takes::Number | Takes::WholeNumber => Class::Number,
                Takes::Node => Class::Node,
                Takes::Nodes => continue,
            };
            // What is wrong within it was said above.
            let said = self.found.len();
            let class = self.expression(value, false);
            self.found.truncate(said);
            self.want(value, class, wanted, &format!("{} of {}", argument.name, procedure.name));
        }
        let names: Vec<&str> = fields.iter().map(|(name, _)| &*name.text).collect();
        self.missing(procedure, &names, given.span);
    }

    fn missing(&mut self, procedure: &Procedure, given: &[&str], span: Span) {
        for argument in procedure.arguments.iter().filter(|a| a.usual.is_none() && !given.contains(&a.name)) {
            let text = format!("{} needs its argument {}", procedure.name, argument.name);
            let hint = format!("{}: {}", argument.takes.describe(), argument.about);
            self.found.push(Diagnostic::syntax(span, text).hint(hint));
        }
    }

    fn yields(&mut self, procedure: &Procedure, yields: Option<&[(Name, Name)]>, span: Span) {
        let bound = |gives: Gives| match gives {
            Gives::Node => Bound::of(VariableKind::Node),
            Gives::Edge => Bound::of(VariableKind::Edge),
            Gives::Float | Gives::WholeNumber => Bound::value(Class::Number),
            Gives::Truth => Bound::value(Class::Bool),
            Gives::Text => Bound::value(Class::Text),
            Gives::Nodes => Bound::value(Class::List),
        };
        let Some(yields) = yields else {
            for column in &procedure.yields {
                self.bind(&Name { text: column.name.into(), span }, bound(column.gives));
            }
            return;
        };
        for (name, alias) in yields {
            match procedure.column(&name.text) {
                Some(at) => self.bind(alias, bound(procedure.yields[at].gives)),
                None => {
                    let all: Vec<&str> = procedure.yields.iter().map(|c| c.name).collect();
                    let text = format!("{} has no column {}", procedure.name, name.text);
                    let hint = format!("its columns are {}", all.join(", "));
                    self.found.push(Diagnostic::unknown(name.span, text).hint(hint));
                    self.bind(alias, Bound::value(Class::Unknown));
                }
            }
        }
    }
}

fn one_record(procedure: &Procedure) -> String {
    format!("the arguments of {} are one record", procedure.name)
}

fn example(procedure: &Procedure) -> String {
    let first = procedure.arguments.first().map_or("", |a| a.name);
    format!("by name: {}({{{first}: ...}})", procedure.name)
}
