//! Arguments of `measure` and `neighbours`.

use clap::{Args, Subcommand};

use super::Format;

#[derive(Subcommand)]
pub enum MeasureCommand {
    /// List all measures
    #[command(after_help = "Example:\n  graphodrome measure list")]
    List {
        #[arg(long)]
        json: bool,
    },
    /// Show a measure's arguments and columns, its source and its cost
    #[command(after_help = "Example:\n  graphodrome measure show page_rank")]
    Show {
        name: String,
        #[arg(long)]
        json: bool,
    },
    /// Run a measure, or store its columns as properties
    #[command(
        after_help = "Examples:\n  graphodrome measure run betweenness -g averley --edges '-[:PIPE]-' --top 5\n  graphodrome measure run maximum_flow -g averley --edges '-[:PIPE]->' \\\n      -a source=\"(:Site {code: 'S-001'})\" -a target=\"(:Site {code: 'S-002'})\" -a capacity=diameter_mm\n  graphodrome measure run weak_components -g averley --set component=part"
    )]
    Run(Box<MeasureOptions>),
}

#[derive(Args)]
pub struct MeasureOptions {
    pub name: String,
    #[arg(short, long)]
    pub graph: String,
    /// Nodes of the subgraph, as a pattern: (n:Site WHERE n.population > 0)
    #[arg(long, value_name = "PATTERN")]
    pub nodes: Option<String>,
    /// Edges of the subgraph and their direction: -[:PIPE]->, <-[:PIPE]- or -[:PIPE]-
    #[arg(long, value_name = "PATTERN", allow_hyphen_values = true)]
    pub edges: Option<String>,
    /// A graph view, instead of --nodes and --edges
    #[arg(long, value_name = "NAME", conflicts_with_all = ["nodes", "edges"])]
    pub view: Option<String>,
    /// Another argument; a node is given by a pattern: source="(:Site {code: 'S-001'})"
    #[arg(short = 'a', long = "argument", value_name = "NAME=VALUE")]
    pub arguments: Vec<String>,
    /// Number of top rows; 0 for all
    #[arg(long, default_value_t = 20)]
    pub top: u64,
    /// Store a column as a property of the rows' nodes or edges; repeatable
    #[arg(long, value_name = "COLUMN=PROPERTY")]
    pub set: Vec<String>,
    /// Print the equivalent query without running it
    #[arg(long)]
    pub text: bool,
    #[arg(long, value_enum, default_value_t = Format::Table)]
    pub format: Format,
    /// Time limit in seconds
    #[arg(long)]
    pub timeout: Option<f64>,
    #[command(flatten)]
    pub at: super::AtOptions,
}

#[derive(Args)]
pub struct NeighboursOptions {
    /// Label that has a key
    pub label: String,
    /// The key's value; several properties are separated by commas
    pub key: String,
    #[arg(short, long, env = "GRAPHODROME_GRAPH")]
    pub graph: String,
    /// Number of hops
    #[arg(long, default_value_t = 1)]
    pub hops: u32,
    /// Direction of edges: out, in or any
    #[arg(long, default_value = "any")]
    pub direction: String,
    /// Labels of the edges; defaults to all
    #[arg(long, value_name = "LABEL,...")]
    pub edges: Option<String>,
    /// Maximum number of nodes
    #[arg(long, default_value_t = 100)]
    pub limit: usize,
    /// Maximum number of edges for each node, label and direction
    #[arg(long, default_value_t = 20)]
    pub sample: usize,
    /// The same seed draws the same edges
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// Print JSON instead of tables
    #[arg(long)]
    pub json: bool,
}
