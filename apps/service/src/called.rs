//! Saved queries within queries: `CALL sites_above({level: 120}) YIELD code` stands for the saved query, run for
//! each row with these values for its parameters.
//!
//! Its text, with the values in place of the parameters, is appended to the request's text behind a marker.
//! Positions in it are positions of one text, so an error names the saved query and the line.

use std::collections::{BTreeMap, BTreeSet};

use graphodrome_formats::SavedParameter;
use graphodrome_language::ast::{
    Clause, Composite, Expression, ExpressionKind, Linear, Name, Page, Part, Query, Return, ReturnItem,
    Statement,
};
use graphodrome_language::{Diagnostic, Span, TokenKind, nearest, parse, tokenize};
use graphodrome_store::SavedRecord;

use crate::problem::Problem;
use crate::state::App;
use crate::written::MARK;

/// Saved queries that call each other are not followed further, nor more of them written out, nor longer texts made.
const DEEPEST: usize = 8;
const MOST_CALLS: usize = 100;
const LONGEST: usize = 1 << 20;

/// The saved queries, by name.
pub type Known = BTreeMap<String, SavedRecord>;

/// The statements with every saved query that they call written out, and the text that their places are of.
pub async fn written_out(
    app: &App, text: String, statements: Vec<Statement>,
) -> Result<(String, Vec<Statement>), Problem> {
    if !statements.iter().any(calls) {
        return Ok((text, statements));
    }
    let known = reached(app, &text).await?;
    let is_missing = |s: &Statement| match s {
        Statement::Query(query) => called_names(query).iter().any(|name| !known.contains_key(&*name.text)),
        _ => false,
    };
    // All names are wanted only to say which was meant.
    let others = match statements.iter().any(is_missing) {
        true => app.catalog.saved_queries().await?.into_iter().map(|r| r.name).collect(),
        false => vec![],
    };
    // Not on a thread that answers requests: what is called may be long.
    tokio::task::spawn_blocking(move || {
        let mut writer = Writer::new(&known, others, text);
        let mut all = vec![];
        for statement in statements {
            all.push(match statement {
                Statement::Query(mut query) => {
                    writer
                        .query(&mut query)
                        .map_err(|wrong| Problem::from_diagnostic(wrong, &writer.text))?;
                    Statement::Query(query)
                }
                other => other,
            });
        }
        Ok((writer.text, all))
    })
    .await?
}

/// The saved queries that a text calls, and those that they call in turn.
pub async fn reached(app: &App, text: &str) -> Result<Known, Problem> {
    let mut known = Known::new();
    let mut next = names_in(text);
    while let Some(name) = next.pop() {
        if !known.contains_key(&name)
            && let Some(record) = app.catalog.saved_query(&name).await?
        {
            next.extend(names_in(&record.text));
            known.insert(name, record);
        }
    }
    Ok(known)
}

/// A text and those of all saved queries that it calls, each once: what its answer depends on.
pub fn texts(text: &str, known: &Known) -> Vec<String> {
    let (mut found, mut followed) = (vec![text.to_string()], BTreeSet::new());
    let mut next = names_in(text);
    while let Some(name) = next.pop() {
        if let Some(record) = known.get(&name)
            && followed.insert(name)
        {
            next.extend(names_in(&record.text));
            found.push(record.text.clone());
        }
    }
    found
}

/// Whether a text changes the graph, by itself or by a saved query that it calls.
pub fn changes(text: &str, known: &Known) -> bool {
    let is_change = |s: &Statement| matches!(s, Statement::Query(query) if query.changes());
    texts(text, known).iter().any(|text| parse(text).is_ok_and(|all| all.iter().any(is_change)))
}

/// What a text calls that is no measure.
fn names_in(text: &str) -> Vec<String> {
    let statements = parse(text).unwrap_or_default();
    let names = statements.iter().filter_map(|s| match s {
        Statement::Query(query) => Some(called_names(query)),
        _ => None,
    });
    names.flatten().map(|name| name.text.to_string()).collect()
}

fn calls(statement: &Statement) -> bool {
    matches!(statement, Statement::Query(query) if !called_names(query).is_empty())
}

fn is_measure(name: &str) -> bool {
    graphodrome_engine::procedures().iter().any(|p| p.name.eq_ignore_ascii_case(name))
}

/// The expressions of a clause in which queries may stand.
macro_rules! expressions {
    ($clause:expr, $iter:ident $(, $mutable:tt)?) => {
        match $clause {
            Clause::Filter(e) | Clause::For { list: e, .. } => vec![e],
            Clause::Let(items) => items.$iter().map(|(_, e)| e).collect(),
            Clause::Match { pattern, .. } => pattern.condition.$iter().collect(),
            Clause::Page(page) => page.order.$iter().map(|key| &$($mutable)? key.expression).collect(),
            Clause::Return(result) => {
                let items = result.items.$iter().map(|item| &$($mutable)? item.expression);
                let order = result.page.order.$iter().map(|key| &$($mutable)? key.expression);
                items.chain(result.having.$iter()).chain(order).collect()
            }
            _ => vec![],
        }
    };
}

fn expressions(clause: &Clause) -> Vec<&Expression> {
    expressions!(clause, iter)
}

fn expressions_mut(clause: &mut Clause) -> Vec<&mut Expression> {
    expressions!(clause, iter_mut, mut)
}

/// What is called by a name that is no measure's.
pub fn called_names(query: &Query) -> Vec<&Name> {
    fn of_expression<'q>(expression: &'q Expression, found: &mut Vec<&'q Name>) {
        if let ExpressionKind::Exists(query) | ExpressionKind::Subquery(query) = &expression.kind {
            found.extend(called_names(query));
        }
        expression.each_part(&mut |part| of_expression(part, found));
    }
    fn of_clauses<'q>(clauses: &'q [Clause], found: &mut Vec<&'q Name>) {
        for clause in clauses {
            expressions(clause).into_iter().for_each(|e| of_expression(e, found));
            match clause {
                Clause::CallProcedure { name, .. } if !is_measure(&name.text) => found.push(name),
                Clause::Call { query, .. } | Clause::Nested(query) => found.extend(called_names(query)),
                Clause::Optional { clauses, .. } => of_clauses(clauses, found),
                _ => {}
            }
        }
    }
    let mut found = vec![];
    query.linears().for_each(|linear| of_clauses(&linear.clauses, &mut found));
    found
}

pub struct Writer<'k> {
    known: &'k Known,
    /// Names of saved queries, where one is called that is not there.
    others: Vec<String>,
    pub text: String,
    calls: usize,
    depth: usize,
}

type Outcome<T> = Result<T, Diagnostic>;

impl<'k> Writer<'k> {
    pub fn new(known: &'k Known, others: Vec<String>, text: String) -> Writer<'k> {
        Writer { known, others, text, calls: 0, depth: 0 }
    }

    pub fn query(&mut self, query: &mut Query) -> Outcome<()> {
        for part in &mut query.parts {
            self.clauses(&mut part.composite.first.clauses)?;
            for (_, linear) in &mut part.composite.others {
                self.clauses(&mut linear.clauses)?;
            }
        }
        Ok(())
    }

    fn clauses(&mut self, clauses: &mut Vec<Clause>) -> Outcome<()> {
        for clause in std::mem::take(clauses) {
            match clause {
                Clause::CallProcedure { optional, name, arguments, yields, span }
                    if !is_measure(&name.text) =>
                {
                    let Some(record) = self.known.get(&*name.text) else { return Err(self.unknown(&name)) };
                    let call = Call { record, name: &name, arguments: &arguments, span };
                    self.call(call, optional, yields, clauses)?;
                }
                mut other => {
                    for expression in expressions_mut(&mut other) {
                        self.expression(expression)?;
                    }
                    match &mut other {
                        Clause::Call { query, .. } | Clause::Nested(query) => self.query(query)?,
                        Clause::Optional { clauses, .. } => self.clauses(clauses)?,
                        _ => {}
                    }
                    clauses.push(other);
                }
            }
        }
        Ok(())
    }

    /// The queries within an expression.
    fn expression(&mut self, expression: &mut Expression) -> Outcome<()> {
        if let ExpressionKind::Exists(query) | ExpressionKind::Subquery(query) = &mut expression.kind {
            return self.query(query);
        }
        let mut outcome = Ok(());
        expression.each_part_mut(&mut |part| {
            if outcome.is_ok() {
                outcome = self.expression(part);
            }
        });
        outcome
    }

    fn unknown(&self, name: &Name) -> Diagnostic {
        let procedures = graphodrome_engine::procedures();
        let all = procedures.iter().map(|p| p.name).chain(self.others.iter().map(String::as_str));
        let problem = Diagnostic::unknown(
            name.span,
            format!("there is no measure, procedure or saved query {}", name.text),
        );
        problem.hint(match nearest(&name.text, all) {
            Some(near) => format!("did you mean {near}?"),
            None => "`graphodrome measure list`, `procedure list` and `saved list` list them; CALL { ... } runs a query that \
                     is written here"
                .into(),
        })
    }

    fn call(
        &mut self, call: Call<'_>, optional: bool, yields: Option<Vec<(Name, Name)>>,
        clauses: &mut Vec<Clause>,
    ) -> Outcome<()> {
        if self.depth == DEEPEST {
            let text = format!(
                "saved queries call each other more than {DEEPEST} deep, {} among them",
                call.name.text
            );
            return Err(Diagnostic::syntax(call.span, text).hint("look for one that calls itself"));
        }
        self.calls += 1;
        if self.calls > MOST_CALLS || self.text.len() > LONGEST {
            let text = format!(
                "with the saved queries that it calls the query has more than {MOST_CALLS} calls or {} KiB of text",
                LONGEST >> 10
            );
            return Err(Diagnostic::syntax(call.span, text).hint("call fewer, or one for many rows at once"));
        }
        let parameters = call.parameters()?;
        let mut values = BTreeMap::new();
        let mut bound = vec![];
        for parameter in &parameters {
            let value = match call.given(parameter)? {
                Given::Literal(text) => text,
                Given::Expression(expression) => {
                    // A name that nobody can have typed.
                    let hidden = format!("#{}.{}", self.calls, parameter.name);
                    let wanted = parameter.value_type().map_err(|e| call.wrong(e))?;
                    // What a parameter of the request finds is known before anything runs; its type is looked at all the same.
                    let text = match &expression.kind {
                        ExpressionKind::Parameter(name) => format!("${name}"),
                        _ => format!("`{hidden}`"),
                    };
                    let required = ExpressionKind::Require(Box::new(expression), wanted, parameter.not_null);
                    let name = Name { text: hidden.as_str().into(), span: call.span };
                    bound.push((name, Expression { kind: required, span: call.span }));
                    text
                }
            };
            values.insert(parameter.name.clone(), value);
        }
        let mut query = self.body(call.record, &values)?;
        if let Some(yields) = yields {
            query.parts.push(taking(&yields, call.span));
        }
        let imports = bound.iter().map(|(name, _)| name.clone()).collect();
        if !bound.is_empty() {
            clauses.push(Clause::Let(bound));
        }
        clauses.push(Clause::Call {
            optional,
            imports: Some(imports),
            query: Box::new(query),
            span: call.span,
        });
        Ok(())
    }

    /// The saved query with these texts for its parameters, its places behind everything before.
    fn body(&mut self, record: &SavedRecord, values: &BTreeMap<String, String>) -> Outcome<Query> {
        let mut body = String::new();
        let mut done = 0;
        for token in tokenize(&record.text).0 {
            if let TokenKind::Parameter(name) = &token.kind
                && let Some(value) = values.get(&**name)
            {
                body.push_str(&record.text[done..token.span.start as usize]);
                body.push_str(value);
                done = token.span.end as usize;
            }
        }
        body.push_str(&record.text[done..]);
        self.text.push_str(MARK);
        self.text.push_str(&record.name);
        self.text.push('\n');
        let padded = " ".repeat(self.text.len()) + &body;
        self.text.push_str(&body);
        let statements = parse(&padded).map_err(|mut wrong| wrong.0.remove(0))?;
        let Some(Statement::Query(mut query)) = statements.into_iter().next() else {
            let text = format!("the saved query {} is not one query", record.name);
            return Err(Diagnostic::syntax(Span::default(), text));
        };
        self.depth += 1;
        self.query(&mut query)?;
        self.depth -= 1;
        Ok(query)
    }
}

/// `RETURN code AS site`, of a result before.
fn taking(yields: &[(Name, Name)], span: Span) -> Part {
    let item = |(column, name): &(Name, Name)| ReturnItem {
        expression: Expression { kind: ExpressionKind::Variable(column.text.clone()), span: column.span },
        name: name.text.clone(),
        named: true,
    };
    let items = yields.iter().map(item).collect();
    let result = Return { distinct: false, items, group_by: None, having: None, page: Page::default(), span };
    let first = Linear { graph: None, at: None, clauses: vec![Clause::Return(result)], span };
    Part { yields: None, composite: Composite { first, others: vec![] } }
}

/// One call of a saved query.
struct Call<'c> {
    record: &'c SavedRecord,
    name: &'c Name,
    arguments: &'c [Expression],
    span: Span,
}

/// What stands for a parameter.
enum Given {
    /// As it is written.
    Literal(String),
    Expression(Expression),
}

impl Call<'_> {
    fn wrong(&self, text: impl Into<String>) -> Diagnostic {
        let takes = self.parameters().unwrap_or_default();
        let each = |p: &SavedParameter| format!("{}: {}", p.name, p.value_type);
        let all: Vec<String> = takes.iter().map(each).collect();
        let example = match all.is_empty() {
            true => format!("{}() takes nothing", self.name.text),
            false => format!("it is called as {}({{{}}})", self.name.text, all.join(", ")),
        };
        Diagnostic::syntax(self.span, text).hint(example)
    }

    fn parameters(&self) -> Outcome<Vec<SavedParameter>> {
        serde_json::from_value(self.record.parameters.clone()).map_err(|e| {
            let text = format!("the parameters of the saved query {} cannot be read: {e}", self.name.text);
            Diagnostic::syntax(self.span, text)
        })
    }

    fn fields(&self) -> Outcome<&[(Name, Expression)]> {
        match self.arguments {
            [] => Ok(&[]),
            [Expression { kind: ExpressionKind::Record(fields), .. }] => Ok(fields),
            _ => Err(self.wrong(format!("{} takes its parameters as one record", self.name.text))),
        }
    }

    fn given(&self, parameter: &SavedParameter) -> Outcome<Given> {
        let fields = self.fields()?;
        let declared = self.parameters()?;
        if let Some((unknown, _)) = fields.iter().find(|(f, _)| declared.iter().all(|p| *p.name != *f.text)) {
            let text = format!("the saved query {} has no parameter ${}", self.name.text, unknown.text);
            return Err(Diagnostic { span: unknown.span, ..self.wrong(text) });
        }
        let Some((_, given)) = fields.iter().find(|(f, _)| *f.text == *parameter.name) else {
            let default = parameter.default_value().map_err(|e| self.wrong(e))?;
            let missing = || {
                self.wrong(format!("the parameter ${} of {} is not given", parameter.name, self.name.text))
            };
            return default.map(|value| Given::Literal(value.literal())).ok_or_else(missing);
        };
        match &given.kind {
            ExpressionKind::Literal(value) => {
                let value = parameter.check(value.clone());
                let value = value.map_err(|e| Diagnostic { span: given.span, ..self.wrong(e) })?;
                let text = value.literal();
                // Two minus signs would begin a comment.
                Ok(Given::Literal(if text.starts_with('-') { format!("({text})") } else { text }))
            }
            _ => Ok(Given::Expression(given.clone())),
        }
    }
}
