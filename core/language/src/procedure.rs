//! Callable names: arguments, columns, and lookup.

/// What an argument takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    /// A text that is a node pattern: `(n:Label WHERE ...)`.
    NodePattern,
    /// A text that is an edge pattern: `-[e:LABEL WHERE ...]->`.
    EdgePattern,
    Text,
    Number,
    WholeNumber,
    Node,
    Nodes,
}

impl Takes {
    pub fn describe(self) -> &'static str {
        match self {
            Takes::NodePattern => "a node pattern as text",
            Takes::EdgePattern => "an edge pattern as text",
            Takes::Text => "a text",
            Takes::Number => "a number",
            Takes::WholeNumber => "a whole number",
            Takes::Node => "a node",
            Takes::Nodes => "a node or a list of nodes",
        }
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Argument {
    pub name: &'static str,
    pub takes: Takes,
    /// What is taken where it is not given, in words; `None` where it must be given.
    pub usual: Option<&'static str>,
    pub about: &'static str,
}

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gives {
    Node,
    Edge,
    Float,
    WholeNumber,
    Truth,
    Text,
    Nodes,
}

impl Gives {
    pub fn describe(self) -> &'static str {
        match self {
            Gives::Node => "NODE",
            Gives::Edge => "EDGE",
            Gives::Float => "FLOAT64",
            Gives::WholeNumber => "INT64",
            Gives::Truth => "BOOL",
            Gives::Text => "STRING",
            Gives::Nodes => "LIST<NODE>",
        }
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct YieldColumn {
    pub name: &'static str,
    pub gives: Gives,
    pub about: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Procedure {
    pub name: &'static str,
    pub about: &'static str,
    pub arguments: Vec<Argument>,
    pub yields: Vec<YieldColumn>,
    /// How its rows are best ordered for reading, as in ORDER BY.
    pub order: &'static str,
    /// Whether no node or edge has more than one row.
    pub once_an_element: bool,
    /// The paper or book it follows.
    pub source: &'static str,
    /// What it costs, with n nodes and m edges.
    pub cost: &'static str,
}

impl Procedure {
    pub fn argument(&self, name: &str) -> Option<&Argument> {
        self.arguments.iter().find(|a| a.name == name)
    }

    pub fn column(&self, name: &str) -> Option<usize> {
        self.yields.iter().position(|c| c.name == name)
    }

    /// `page_rank({nodes, edges, damping, ...}) YIELD node, score`.
    pub fn signature(&self) -> String {
        let names = |names: Vec<&str>| names.join(", ");
        let arguments = names(self.arguments.iter().map(|a| a.name).collect());
        format!(
            "{}({{{arguments}}}) YIELD {}",
            self.name,
            names(self.yields.iter().map(|c| c.name).collect())
        )
    }
}
