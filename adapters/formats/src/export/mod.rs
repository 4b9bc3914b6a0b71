//! Exports: a graph, or a part of one, in open formats. Everything is written as it is read from one
//! snapshot, element by element; what a format cannot hold is found beforehand and said.

mod form;
mod mapping;
mod markup;
mod quads;
mod survey;
mod tables;

use std::io::Write;

use form::TableForm;

use graphodrome_graph::{Dense, EdgeTest, LabelExpression, NodeTest, Snapshot, Value};
use roaring::RoaringBitmap;
use serde::{Deserialize, Serialize};

pub(crate) use survey::Survey;

/// In which form an export is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ExportFormat {
    /// nodes.csv and edges.csv with the mapping that loads them again.
    Csv,
    /// A JSON object a line: nodes, then edges.
    Jsonl,
    GraphMl,
    /// nodes.parquet and edges.parquet with the mapping that loads them again.
    Parquet,
    /// nodes.arrow and edges.arrow (Arrow IPC streams) with the mapping that loads them again.
    Arrow,
    NQuads,
    /// The graph language of drawing tools.
    Dot,
}

impl ExportFormat {
    pub const ALL: [ExportFormat; 7] = [
        ExportFormat::Csv,
        ExportFormat::Jsonl,
        ExportFormat::GraphMl,
        ExportFormat::Parquet,
        ExportFormat::Arrow,
        ExportFormat::NQuads,
        ExportFormat::Dot,
    ];

    pub fn name(self) -> &'static str {
        match self {
            ExportFormat::Csv => "csv",
            ExportFormat::Jsonl => "jsonl",
            ExportFormat::GraphMl => "graphml",
            ExportFormat::Parquet => "parquet",
            ExportFormat::Arrow => "arrow",
            ExportFormat::NQuads => "nquads",
            ExportFormat::Dot => "dot",
        }
    }

    /// Whether it is a pair of tables, in an archive with their mapping.
    pub fn is_pair(self) -> bool {
        matches!(self, ExportFormat::Csv | ExportFormat::Parquet | ExportFormat::Arrow)
    }

    pub fn media_type(self) -> &'static str {
        match self {
            ExportFormat::Csv | ExportFormat::Parquet | ExportFormat::Arrow => "application/zip",
            ExportFormat::Jsonl => "application/x-ndjson",
            ExportFormat::GraphMl => "application/graphml+xml",
            ExportFormat::NQuads => "application/n-quads",
            ExportFormat::Dot => "text/vnd.graphviz",
        }
    }

    /// Suffix of the file it makes.
    pub fn suffix(self) -> &'static str {
        match self {
            ExportFormat::Csv | ExportFormat::Parquet | ExportFormat::Arrow => "zip",
            ExportFormat::Jsonl => "jsonl",
            ExportFormat::GraphMl => "graphml",
            ExportFormat::NQuads => "nq",
            ExportFormat::Dot => "dot",
        }
    }
}

#[derive(Debug, thiserror::Error)]
pub enum ExportError {
    /// The reader went away, or the disk is full.
    #[error("the export cannot be written: {0}")]
    Write(#[from] std::io::Error),
    #[error("{0}")]
    Format(String),
    #[error("the export was cancelled")]
    Cancelled,
}

/// Elements between two questions whether to go on.
const ASK_EVERY: u64 = 1 << 14;

/// Whether to go on.
pub type Ask<'a> = &'a (dyn Fn() -> bool + Sync);

/// A part of a graph to export.
pub struct Selection {
    nodes: Option<RoaringBitmap>,
    edges: Option<RoaringBitmap>,
}

impl Selection {
    pub fn all() -> Selection {
        Selection { nodes: None, edges: None }
    }

    /// What has one of these labels: nodes with the edges between them, or edges with their ends.
    pub fn of_labels(snapshot: &Snapshot, labels: &[String], ask: Ask<'_>) -> Result<Selection, ExportError> {
        let names = labels.iter().map(|l| LabelExpression::Name(l.as_str().into()));
        let any = names.reduce(|a, b| LabelExpression::Or(Box::new(a), Box::new(b)));
        let Some(any) = any else { return Ok(Selection::all()) };
        let node_test: NodeTest = snapshot.node_test(Some(&any));
        let edge_test: EdgeTest = snapshot.edge_test(Some(&any));
        let mut nodes = RoaringBitmap::new();
        let mut edges = RoaringBitmap::new();
        each(0..snapshot.node_bound(), ask, |id| {
            if snapshot.node_exists(id) && snapshot.node_passes(id, &node_test) {
                nodes.insert(id);
            }
            Ok(())
        })?;
        let matches = |id: Dense| match &edge_test.expression {
            Some(expression) => expression.matches(&snapshot.edge_labels(id)),
            None => true,
        };
        let named = (0..snapshot.edge_bound()).any(|id| snapshot.edge_exists(id) && matches(id));
        let mut ends = RoaringBitmap::new();
        each(0..snapshot.edge_bound(), ask, |id| {
            if !snapshot.edge_exists(id) {
                return Ok(());
            }
            let (a, b) = snapshot.edge_ends(id);
            let taken = if named { matches(id) } else { nodes.contains(a) && nodes.contains(b) };
            if taken {
                edges.insert(id);
                ends.insert(a);
                ends.insert(b);
            }
            Ok(())
        })?;
        nodes |= ends;
        Ok(Selection { nodes: Some(nodes), edges: Some(edges) })
    }

    /// Nothing yet; [`Self::add`] puts in what values hold.
    pub fn none() -> Selection {
        Selection { nodes: Some(RoaringBitmap::new()), edges: Some(RoaringBitmap::new()) }
    }

    /// Adds the elements that a value is or holds, edges with their ends.
    pub fn add(&mut self, value: &Value, snapshot: &Snapshot) {
        let (Some(nodes), Some(edges)) = (&mut self.nodes, &mut self.edges) else { return };
        let mut edge = |id: Dense, nodes: &mut RoaringBitmap| {
            let (a, b) = snapshot.edge_ends(id);
            edges.insert(id);
            nodes.insert(a);
            nodes.insert(b);
        };
        match value {
            Value::Node(id) => {
                nodes.insert(*id);
            }
            Value::Edge(id) => edge(*id, nodes),
            Value::Path(path) => {
                nodes.extend(path.nodes.iter().copied());
                path.edges.iter().for_each(|id| edge(*id, nodes));
            }
            Value::List(items) => items.iter().for_each(|item| self.add(item, snapshot)),
            Value::Record(fields) => fields.iter().for_each(|(_, value)| self.add(value, snapshot)),
            _ => {}
        }
    }

    pub fn is_empty(&self) -> bool {
        self.nodes.as_ref().is_some_and(RoaringBitmap::is_empty)
            && self.edges.as_ref().is_some_and(RoaringBitmap::is_empty)
    }

    fn has_node(&self, id: Dense) -> bool {
        self.nodes.as_ref().is_none_or(|nodes| nodes.contains(id))
    }

    fn has_edge(&self, id: Dense) -> bool {
        self.edges.as_ref().is_none_or(|edges| edges.contains(id))
    }
}

/// Visits numbers, asking now and then whether to go on.
fn each(
    ids: std::ops::Range<Dense>, ask: Ask<'_>, mut visit: impl FnMut(Dense) -> Result<(), ExportError>,
) -> Result<(), ExportError> {
    for (seen, id) in ids.enumerate() {
        if (seen as u64).is_multiple_of(ASK_EVERY) && !ask() {
            return Err(ExportError::Cancelled);
        }
        visit(id)?;
    }
    Ok(())
}

/// What is exported, and what is known of it.
pub struct Export<'s> {
    pub(crate) graph: String,
    pub(crate) snapshot: &'s Snapshot,
    pub(crate) selection: &'s Selection,
    pub(crate) survey: Survey,
    /// What names of N-Quads begin with.
    pub(crate) base: String,
    ask: Ask<'s>,
}

impl<'s> Export<'s> {
    pub fn new(
        graph: &str, snapshot: &'s Snapshot, selection: &'s Selection, base: Option<&str>, ask: Ask<'s>,
    ) -> Result<Export<'s>, ExportError> {
        let base = match base {
            Some(base) => base.to_string(),
            None => format!("urn:graph:{}:", quads::encoded(graph)),
        };
        if base.chars().any(|c| c.is_whitespace() || "<>\"{}|\\^`".contains(c)) || !base.contains(':') {
            return Err(ExportError::Format(format!("{base} cannot be what IRIs begin with")));
        }
        let survey = Survey::of(snapshot, selection, ask)?;
        Ok(Export { graph: graph.into(), snapshot, selection, survey, base, ask })
    }

    pub(crate) fn nodes(
        &self, mut visit: impl FnMut(Dense) -> Result<(), ExportError>,
    ) -> Result<(), ExportError> {
        each(0..self.snapshot.node_bound(), self.ask, |id| {
            let wanted = self.selection.has_node(id) && self.snapshot.node_exists(id);
            if wanted { visit(id) } else { Ok(()) }
        })
    }

    pub(crate) fn edges(
        &self, mut visit: impl FnMut(Dense) -> Result<(), ExportError>,
    ) -> Result<(), ExportError> {
        each(0..self.snapshot.edge_bound(), self.ask, |id| {
            let wanted = self.selection.has_edge(id) && self.snapshot.edge_exists(id);
            if wanted { visit(id) } else { Ok(()) }
        })
    }

    /// What the format cannot hold of this, in sentences.
    pub fn losses(&self, format: ExportFormat) -> Vec<String> {
        match format {
            ExportFormat::Csv => self.survey.table_losses(TableForm::Csv),
            ExportFormat::Jsonl => tables::json_losses(&self.survey),
            ExportFormat::Parquet => self.survey.table_losses(TableForm::Parquet),
            ExportFormat::Arrow => self.survey.table_losses(TableForm::Arrow),
            ExportFormat::GraphMl => markup::graphml_losses(&self.survey),
            ExportFormat::NQuads => quads::losses(&self.survey),
            ExportFormat::Dot => markup::dot_losses(),
        }
    }

    /// Writes everything, as it is read.
    pub fn write(&self, format: ExportFormat, out: &mut (dyn Write + Send)) -> Result<(), ExportError> {
        match format {
            ExportFormat::Csv => tables::archive(self, TableForm::Csv, out),
            ExportFormat::Parquet => tables::archive(self, TableForm::Parquet, out),
            ExportFormat::Arrow => tables::archive(self, TableForm::Arrow, out),
            ExportFormat::Jsonl => tables::json_lines(self, out),
            ExportFormat::GraphMl => markup::graphml(self, out),
            ExportFormat::NQuads => quads::write(self, out),
            ExportFormat::Dot => markup::dot(self, out),
        }
    }
}
