//! The syntax tree. Names carry their positions for error messages.

mod expression;

use std::sync::Arc;

use graphodrome_graph::{BoundSource, Direction, Element, GraphType, LabelExpression, Value, ValueType};

use crate::Span;

pub use expression::{Aggregate, BinaryOperator, Expression, ExpressionKind, NormalForm, Progression};

#[derive(Clone, Debug)]
pub struct Name {
    pub text: Arc<str>,
    pub span: Span,
}

/// Names are the same wherever they stand.
impl PartialEq for Name {
    fn eq(&self, other: &Name) -> bool {
        self.text == other.text
    }
}

#[derive(Clone, Debug, PartialEq)]
pub enum Statement {
    CreateGraphType {
        name: Name,
        or_replace: bool,
        if_not_exists: bool,
        definition: Box<GraphType>,
    },
    DropGraphType {
        name: Name,
        if_exists: bool,
    },
    /// `CREATE GRAPH TYPE t AS COPY OF t2` or `LIKE g`.
    CopyGraphType {
        name: Name,
        or_replace: bool,
        if_not_exists: bool,
        source: TypeSource,
    },
    CreateGraph {
        name: Name,
        or_replace: bool,
        if_not_exists: bool,
        source: GraphSource,
        /// `AS COPY OF g2`: the graph whose elements it begins with.
        copy_of: Option<Name>,
    },
    /// `CREATE KEY` and `CREATE INDEX`.
    CreateLookup(CreateLookup),
    DropLookup {
        graph: Option<Name>,
        unique: bool,
        name: Name,
        if_exists: bool,
    },
    CreateView(CreateView),
    DropView {
        graph: Option<Name>,
        name: Name,
        if_exists: bool,
    },
    CreateBound(CreateBound),
    DropBound {
        graph: Option<Name>,
        name: Name,
        if_exists: bool,
    },
    Rename(Rename),
    DropGraph {
        name: Name,
        if_exists: bool,
    },
    Query(Query),
    Session(SessionCommand),
    Transaction(TransactionCommand),
}

#[derive(Clone, Debug, PartialEq)]
pub enum SessionCommand {
    SetGraph(Name),
    SetParameter { name: Arc<str>, if_not_exists: bool, value_type: Option<ValueType>, value: Expression },
    SetTimeZone { text: Arc<str>, span: Span },
    Reset(SessionPart),
    Close,
}

#[derive(Clone, Debug, PartialEq)]
pub enum SessionPart {
    All,
    Parameters,
    Parameter(Arc<str>),
    Graph,
    TimeZone,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TransactionCommand {
    Start { read_only: bool },
    Commit,
    Rollback,
}

#[derive(Clone, Debug, PartialEq)]
pub enum GraphSource {
    /// Open: anything goes.
    Any,
    Typed(Name),
    Inline(Box<GraphType>),
    /// The type of another graph.
    Like(Name),
}

#[derive(Clone, Debug, PartialEq)]
pub enum TypeSource {
    CopyOf(Name),
    /// The type of a graph; of an open one, what is in it.
    Like(Name),
}

/// A key or an index of the graph named by `USE` or beside the text.
#[derive(Clone, Debug, PartialEq)]
pub struct CreateLookup {
    pub graph: Option<Name>,
    /// A key; otherwise an index.
    pub unique: bool,
    pub name: Name,
    pub if_not_exists: bool,
    pub element: Element,
    pub label: Name,
    pub properties: Vec<Name>,
    pub span: Span,
}

/// `CREATE GRAPH VIEW v AS NODES (...) EDGES -[...]- WEIGHT p`: a part of the graph that measures look at, by name.
#[derive(Clone, Debug, PartialEq)]
pub struct CreateView {
    pub graph: Option<Name>,
    pub name: Name,
    pub or_replace: bool,
    pub if_not_exists: bool,
    /// Patterns as they are written.
    pub nodes: Option<Name>,
    pub edges: Option<Name>,
    pub weight: Option<Name>,
    pub span: Span,
}

/// `CREATE DISTANCE BOUND b OVER -[:L {p}]- FROM LANDMARKS`: what a path costs at least, known beforehand.
#[derive(Clone, Debug, PartialEq)]
pub struct CreateBound {
    pub graph: Option<Name>,
    pub name: Name,
    pub or_replace: bool,
    pub if_not_exists: bool,
    pub direction: Direction,
    /// Edges with one of these; with none, all.
    pub labels: Vec<Name>,
    pub property: Name,
    pub source: BoundSource,
    pub span: Span,
}

/// `ALTER GRAPH g RENAME LABEL a TO b ON NODE` or `RENAME PROPERTY p TO q ON NODE L`.
#[derive(Clone, Debug, PartialEq)]
pub struct Rename {
    pub graph: Name,
    pub element: Element,
    /// The label whose elements' property is renamed; without it the label itself is.
    pub label: Option<Name>,
    pub from: Name,
    pub to: Name,
    pub span: Span,
}

/// Statements joined by `NEXT`: each goes on from the rows of the one before.
#[derive(Clone, Debug, PartialEq)]
pub struct Query {
    pub parts: Vec<Part>,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq)]
pub struct Part {
    /// `NEXT YIELD a, b AS c`: the columns taken on, and what they are called from here.
    pub yields: Option<Vec<(Name, Name)>>,
    pub composite: Composite,
}

/// Linear queries joined by one and the same conjunction.
#[derive(Clone, Debug, PartialEq)]
pub struct Composite {
    pub first: Linear,
    pub others: Vec<(Conjunction, Linear)>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Conjunction {
    Union {
        all: bool,
    },
    Except {
        all: bool,
    },
    Intersect {
        all: bool,
    },
    /// The second where the first has no row.
    Otherwise,
}

/// `AT VERSION 17` or `AT TIMESTAMP '2026-11-29T10:00:00Z'` after a graph's name: its state of then.
#[derive(Clone, Debug, PartialEq)]
pub struct At {
    pub kind: AtKind,
    pub value: AtValue,
    pub span: Span,
}

/// Whether both mean the same version, wherever they are written.
pub fn same_moment(a: Option<&At>, b: Option<&At>) -> bool {
    let meant = |at: Option<&At>| at.map(|at| (at.kind, at.value.clone()));
    meant(a) == meant(b)
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AtKind {
    Version,
    Timestamp,
}

#[derive(Clone, Debug, PartialEq)]
pub enum AtValue {
    Literal(Value),
    Parameter(Arc<str>),
}

#[derive(Clone, Debug, PartialEq)]
pub struct Linear {
    /// `USE g`.
    pub graph: Option<Name>,
    /// Which of the graph's versions; the newest where nothing is said.
    pub at: Option<At>,
    pub clauses: Vec<Clause>,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq)]
pub enum Clause {
    Match {
        optional: bool,
        pattern: GraphPattern,
        span: Span,
    },
    /// `OPTIONAL { MATCH ... MATCH ... }`.
    Optional {
        clauses: Vec<Clause>,
        span: Span,
    },
    /// `[OPTIONAL] CALL [(variables)] { query }`.
    Call {
        optional: bool,
        imports: Option<Vec<Name>>,
        query: Box<Query>,
        span: Span,
    },
    /// `[OPTIONAL] CALL name(arguments) [YIELD ...]`.
    CallProcedure {
        optional: bool,
        name: Name,
        arguments: Vec<Expression>,
        yields: Option<Vec<(Name, Name)>>,
        span: Span,
    },
    /// `{ query }` in the place of a linear query.
    Nested(Box<Query>),
    Filter(Expression),
    Let(Vec<(Name, Expression)>),
    For {
        variable: Name,
        list: Expression,
        counter: Option<(Name, i64)>,
    },
    Insert {
        paths: Vec<InsertPath>,
        span: Span,
    },
    /// Finds each new element by its label's key, or inserts it; then sets.
    Upsert {
        paths: Vec<InsertPath>,
        items: Vec<SetItem>,
        span: Span,
    },
    Set {
        items: Vec<SetItem>,
        span: Span,
    },
    Remove {
        items: Vec<RemoveItem>,
        span: Span,
    },
    Delete {
        detach: bool,
        targets: Vec<Expression>,
        span: Span,
    },
    /// `ORDER BY`, `OFFSET`, `LIMIT` before the result statement.
    Page(Page),
    Return(Return),
    Finish,
}

#[derive(Clone, Debug, PartialEq)]
pub struct Return {
    pub distinct: bool,
    /// Empty for `RETURN *`.
    pub items: Vec<ReturnItem>,
    pub group_by: Option<Vec<Name>>,
    /// Of a SELECT.
    pub having: Option<Expression>,
    pub page: Page,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq)]
pub struct ReturnItem {
    pub expression: Expression,
    /// Given with `AS`, or the expression's text.
    pub name: Arc<str>,
    pub named: bool,
}

#[derive(Clone, Debug, Default, PartialEq)]
pub struct Page {
    pub order: Vec<SortKey>,
    pub offset: Option<Expression>,
    pub limit: Option<Expression>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct SortKey {
    pub expression: Expression,
    pub descending: bool,
    /// Nulls are the greatest value unless stated otherwise.
    pub nulls_first: Option<bool>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct GraphPattern {
    pub repeatable: bool,
    pub paths: Vec<PathPattern>,
    pub condition: Option<Expression>,
    /// `YIELD a, b`: the variables that are seen after it.
    pub yields: Option<Vec<Name>>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PathMode {
    Walk,
    Trail,
    Simple,
    Acyclic,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PathSearch {
    All,
    Any,
    AnyShortest,
    AllShortest,
    /// `SHORTEST k`, and `ANY k`.
    Shortest(u32),
    /// `SHORTEST k GROUPS`: all paths of the k least lengths.
    ShortestGroups(u32),
}

#[derive(Clone, Debug, PartialEq)]
pub struct PathPattern {
    pub variable: Option<Name>,
    pub search: PathSearch,
    /// `BY expr` after a shortest prefix, with the name of the edge it reads.
    pub weight: Option<Expression>,
    pub mode: Option<PathMode>,
    pub term: PathTerm,
    pub span: Span,
}

/// Nodes and edges in turn; where two edges or groups meet, an anonymous node stands between.
#[derive(Clone, Debug, PartialEq)]
pub struct PathTerm {
    pub elements: Vec<PathElement>,
}

#[derive(Clone, Debug, PartialEq)]
pub enum PathElement {
    Node(NodePattern),
    Edge(EdgePattern, Option<Quantifier>),
    Group(Box<PathGroup>),
    Alternatives(Box<Alternatives>),
}

/// `a | b`, each match once, or `a |+| b`, as often as it comes.
#[derive(Clone, Debug, PartialEq)]
pub struct Alternatives {
    pub multiset: bool,
    pub branches: Vec<PathTerm>,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq)]
pub struct PathGroup {
    /// `(p = ...)`.
    pub variable: Option<Name>,
    pub mode: Option<PathMode>,
    pub term: PathTerm,
    pub condition: Option<Expression>,
    pub quantifier: Option<Quantifier>,
    pub span: Span,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Quantifier {
    pub min: u32,
    pub max: Option<u32>,
    /// `?`: variables inside stay single and may be null.
    pub optional: bool,
    pub span: Span,
}

#[derive(Clone, Debug, Default, PartialEq)]
pub struct ElementFilter {
    pub variable: Option<Name>,
    pub labels: Option<(LabelExpression, Vec<Name>)>,
    pub properties: Vec<(Name, Expression)>,
    pub condition: Option<Expression>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct NodePattern {
    pub filter: ElementFilter,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq)]
pub struct EdgePattern {
    pub filter: ElementFilter,
    pub direction: Direction,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq)]
pub struct InsertPath {
    pub first: InsertElement,
    pub steps: Vec<(InsertEdge, InsertElement)>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct InsertElement {
    pub variable: Option<Name>,
    pub labels: Vec<Name>,
    pub properties: Vec<(Name, Expression)>,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq)]
pub struct InsertEdge {
    pub element: InsertElement,
    /// Out, In or Undirected.
    pub direction: Direction,
}

#[derive(Clone, Debug, PartialEq)]
pub enum SetItem {
    Property {
        variable: Name,
        property: Name,
        value: Expression,
    },
    /// `SET n = {...}`: replaces all properties.
    All {
        variable: Name,
        properties: Vec<(Name, Expression)>,
    },
    Label {
        variable: Name,
        label: Name,
    },
}

#[derive(Clone, Debug, PartialEq)]
pub enum RemoveItem {
    Property { variable: Name, property: Name },
    Label { variable: Name, label: Name },
}

impl Query {
    /// A query of one linear query.
    pub fn of(linear: Linear) -> Query {
        let span = linear.span;
        Query {
            parts: vec![Part { yields: None, composite: Composite { first: linear, others: vec![] } }],
            span,
        }
    }

    /// All linear queries directly in it.
    pub fn linears(&self) -> impl Iterator<Item = &Linear> {
        self.parts.iter().flat_map(|p| {
            std::iter::once(&p.composite.first).chain(p.composite.others.iter().map(|(_, l)| l))
        })
    }

    /// The only linear query, if it is one.
    pub fn only(&self) -> Option<&Linear> {
        match &self.parts[..] {
            [Part { composite, .. }] if composite.others.is_empty() => Some(&composite.first),
            _ => None,
        }
    }

    /// Every graph that is named in it, with its version where one is meant, in nested queries too.
    pub fn graphs(&self) -> Vec<(&Name, Option<&At>)> {
        let mut found = vec![];
        for linear in self.linears() {
            found.extend(linear.graph.iter().map(|graph| (graph, linear.at.as_ref())));
            linear.clauses.iter().for_each(|c| c.graphs(&mut found));
        }
        found
    }

    /// Whether it asks a graph for anything; otherwise its values alone make its result.
    pub fn reads_graph(&self) -> bool {
        fn in_expression(e: &Expression) -> bool {
            if let ExpressionKind::Exists(query) | ExpressionKind::Subquery(query) = &e.kind {
                return query.reads_graph();
            }
            let mut found = false;
            e.each_part(&mut |part| found |= in_expression(part));
            found
        }
        let in_page = |page: &Page| page.order.iter().any(|key| in_expression(&key.expression));
        let in_clause = |clause: &Clause| match clause {
            Clause::Filter(e) => in_expression(e),
            Clause::Let(items) => items.iter().any(|(_, e)| in_expression(e)),
            Clause::For { list, .. } => in_expression(list),
            Clause::Page(page) => in_page(page),
            Clause::Return(result) => {
                let items = result.items.iter().map(|item| &item.expression);
                items.chain(&result.having).any(in_expression) || in_page(&result.page)
            }
            Clause::Call { query, .. } | Clause::Nested(query) => query.reads_graph(),
            Clause::Finish => false,
            _ => true,
        };
        self.linears().any(|l| l.graph.is_some() || l.clauses.iter().any(in_clause))
    }

    pub fn changes(&self) -> bool {
        self.linears().any(|l| l.clauses.iter().any(Clause::changes))
    }
}

impl Clause {
    /// Whether it changes the graph.
    pub fn changes(&self) -> bool {
        match self {
            Clause::Insert { .. }
            | Clause::Upsert { .. }
            | Clause::Set { .. }
            | Clause::Remove { .. }
            | Clause::Delete { .. } => true,
            Clause::Call { query, .. } | Clause::Nested(query) => query.changes(),
            _ => false,
        }
    }

    fn graphs<'q>(&'q self, found: &mut Vec<(&'q Name, Option<&'q At>)>) {
        match self {
            Clause::Call { query, .. } | Clause::Nested(query) => found.extend(query.graphs()),
            Clause::Optional { clauses, .. } => clauses.iter().for_each(|c| c.graphs(found)),
            _ => {}
        }
    }
}
