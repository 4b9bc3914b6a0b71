//! The planner's own state, and what every part of planning needs: making operators, names and compiled expressions.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use graphodrome_graph::{Dense, Element, LabelExpression, LabelSet, Snapshot};
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind};

use crate::ColumnKind;
use crate::batch::Vector;
use crate::compile::{Compiler, Computed, PlanParameters};
use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::plan::{ColumnInfo, OperatorPlan, PlanNode, Schema};
use crate::planner::growth::{Growth, LOOKS_OF_A_QUERY, RepeatedEdge};
use crate::profile::{Basis, Estimate};
use crate::rules::{Rule, Rules};
use crate::scope::Scope;

/// Characters of a query's piece that a plan shows.
const MOST_SHOWN: usize = 1000;

pub(crate) struct Planner<'p> {
    pub(super) scope: &'p Scope,
    pub(super) parameters: &'p PlanParameters<'p>,
    pub(super) text: &'p str,
    /// Counted once a version: estimates ask for them again and again.
    pub(super) counts: &'p LabelCounts,
    pub(super) next_id: usize,
    pub(super) next_name: usize,
    /// Tables of rows that several branches read.
    pub(super) next_table: usize,
    /// Subqueries of the changing statement that is planned: where their values are.
    pub(super) current: Computed,
    pub(super) rules: Rules,
    /// What repeated edges lead to, as it was tried out.
    pub(super) growths: RefCell<Vec<(RepeatedEdge, Option<Growth>)>>,
    /// Adjacency entries that may still be looked at for estimates.
    pub(super) looks: Cell<usize>,
    /// Nodes that keys have found for the values given.
    pub(super) found: HashMap<Arc<str>, Dense>,
    /// What is known of variables of patterns: what they are, and their labels.
    pub(super) known: HashMap<Arc<str>, (Element, Option<LabelExpression>)>,
}

/// How many elements a version has, by label set.
pub(crate) struct LabelCounts {
    pub nodes: Vec<(LabelSet, u64)>,
    pub edges: Vec<(LabelSet, u64)>,
}

impl LabelCounts {
    pub fn of(snapshot: &Snapshot) -> LabelCounts {
        LabelCounts { nodes: snapshot.node_label_counts(), edges: snapshot.edge_label_counts() }
    }
}

pub(crate) struct Planned {
    pub root: PlanNode,
    /// `None` where the query has no result.
    pub columns: Option<Vec<ColumnInfo>>,
    pub changes: bool,
}

/// What the rest of a query makes of a MATCH's rows.
pub(super) struct Use {
    /// Variables read later.
    pub(super) needed: BTreeSet<Arc<str>>,
    /// Whether it matters how often a row comes.
    pub(super) multiplicity: bool,
    /// Whether a result of aggregates follows, with nothing between.
    pub(super) counted: bool,
    /// Variables of which only PATH_LENGTH is read later.
    pub(super) lengths: BTreeSet<Arc<str>>,
}

pub(crate) fn kind_vector(kind: VariableKind) -> Vector {
    match kind {
        VariableKind::Node => Vector::Nodes(vec![]),
        VariableKind::Edge => Vector::Edges(vec![]),
        _ => Vector::Values(vec![]),
    }
}

pub(super) fn find_subqueries<'e>(e: &'e Expression, found: &mut Vec<&'e Expression>) {
    if matches!(e.kind, ExpressionKind::Exists(_) | ExpressionKind::Subquery(_)) {
        found.push(e);
    }
    e.each_part(&mut |part| find_subqueries(part, found));
}

pub(crate) fn has_subquery(e: &Expression) -> bool {
    let mut found = vec![];
    find_subqueries(e, &mut found);
    !found.is_empty()
}

pub(crate) fn unsupported(span: graphodrome_language::Span, what: &str) -> Diagnostic {
    Diagnostic::syntax(span, format!("not supported: {what}"))
}

/// What stands around the clauses that are planned.
#[derive(Clone, Default)]
pub(super) struct Around {
    /// Variables that are read after them.
    pub needed: BTreeSet<Arc<str>>,
    /// It matters how often a row comes, of theirs or of their result.
    pub multiplicity: bool,
    /// Slots of the rows around a query within another one: no `*` takes them.
    pub outer: usize,
}

/// Rows and, where they are a result, its columns.
pub(super) struct PlannedRows {
    pub node: PlanNode,
    pub columns: Option<Vec<ColumnInfo>>,
}

/// Where the rows come from that a query begins with.
pub(super) enum Source {
    Start,
    /// The one outer row for which it runs, with these columns.
    Row(Schema),
}

impl Source {
    pub(super) fn outer(&self) -> usize {
        match self {
            Source::Start => 0,
            Source::Row(schema) => schema.len(),
        }
    }
}

pub(super) fn column_kind(kind: VariableKind) -> ColumnKind {
    match kind {
        VariableKind::Node => ColumnKind::Node,
        VariableKind::Edge => ColumnKind::Edge,
        VariableKind::Path => ColumnKind::Path,
        _ => ColumnKind::Value,
    }
}

/// What a result is made of: its rows, the slots of its columns, and these.
pub(super) struct Projected {
    pub node: PlanNode,
    pub slots: Vec<usize>,
    pub columns: Vec<ColumnInfo>,
    pub shown: String,
}

impl<'p> Planner<'p> {
    pub fn new(
        scope: &'p Scope, counts: &'p LabelCounts, parameters: &'p PlanParameters<'p>, text: &'p str,
        rules: Rules,
    ) -> Self {
        let current = vec![];
        Planner {
            scope,
            parameters,
            text,
            counts,
            next_id: 0,
            next_name: 0,
            next_table: 0,
            current,
            rules,
            growths: RefCell::default(),
            looks: Cell::new(LOOKS_OF_A_QUERY),
            found: HashMap::new(),
            known: HashMap::new(),
        }
    }

    pub(super) fn may(&self, rule: Rule) -> bool {
        self.rules.has(rule)
    }

    pub(crate) fn node(
        &mut self, plan: impl OperatorPlan + 'static, inputs: Vec<PlanNode>, schema: Schema,
        estimate: Estimate,
    ) -> PlanNode {
        let id = self.next_id;
        self.next_id += 1;
        let facts = plan.row_facts(&inputs);
        PlanNode { id, plan: Arc::new(plan), inputs, schema, estimate, alternatives: vec![], facts }
    }

    pub(super) fn leaf(
        &mut self, plan: impl OperatorPlan + 'static, schema: Schema, rows: f64, source: &str,
    ) -> PlanNode {
        let estimate = Estimate { rows, cost: rows, basis: Basis::Fact, source: source.into() };
        self.node(plan, vec![], schema, estimate)
    }

    /// A name no user can write.
    pub(super) fn hidden(&mut self, what: &str) -> Arc<str> {
        self.next_name += 1;
        format!("#{what}{}", self.next_name).into()
    }

    pub(super) fn compiler<'c>(&'c self, schema: &'c Schema, computed: &'c Computed) -> Compiler<'c> {
        Compiler {
            scope: self.scope,
            schema,
            parameters: self.parameters,
            computed,
            grouped: false,
            lists: self.may(Rule::AlternativesAsList),
        }
    }

    pub(super) fn compile(&self, expression: &Expression, schema: &Schema) -> Outcome<Expr> {
        self.compiler(schema, &self.current).expression(expression)
    }

    /// A piece of the query's text, on one line.
    pub(super) fn shown(&self, expression: &Expression) -> String {
        let text = self.text_of(expression.span);
        if text.is_empty() { "(implied)".into() } else { text }
    }

    pub(super) fn text_of(&self, span: graphodrome_language::Span) -> String {
        let text = self.text.get(span.start as usize..span.end as usize).unwrap_or("");
        let (shown, more) = match text.char_indices().nth(MOST_SHOWN) {
            Some((at, _)) => (&text[..at], text[at..].chars().count()),
            None => (text, 0),
        };
        let mut line = shown.split_whitespace().collect::<Vec<_>>().join(" ");
        if more > 0 {
            line.push_str(&format!(" ... ({more} characters more)"));
        }
        line
    }
}
