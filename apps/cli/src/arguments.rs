//! The command line's grammar, with an example for each command.

mod backups;
mod graphs;
mod measures;
mod notebooks;
mod procedures;
mod profiles;
mod saved;
mod serve;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

pub use backups::{BackupCommand, BackupOptions, RestoreOptions};
pub use graphs::GraphCommand;
pub use measures::{MeasureCommand, MeasureOptions, NeighboursOptions};
pub use notebooks::{NotebookCommand, NotebookFormat};
pub use procedures::{AddProcedure, ProcedureCommand};
pub use profiles::{
    BaselineCommand, CheckOptions, CompareOptions, HopsShown, PlanOptions, ProfileFormat, ProfileOptions,
    RunCommand, ShownOptions, TopOptions,
};
pub use saved::SavedCommand;
pub use serve::{DemoOptions, ServeOptions};

#[derive(Parser)]
#[command(
    name = "graphodrome",
    version,
    about = "Model, load, query and profile property graphs",
    after_help = "Examples:\n  graphodrome serve\n  graphodrome query -g averley 'MATCH (d:District) RETURN d.name ORDER BY d.name'\n  graphodrome shell -g averley",
    max_term_width = 100
)]
pub struct Arguments {
    /// Address of the service
    #[arg(long, global = true, env = "GRAPHODROME_URL", default_value = "http://127.0.0.1:8620")]
    pub url: String,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand)]
pub enum Command {
    /// Run the service
    #[command(
        after_help = "Examples:\n  graphodrome serve\n  graphodrome serve --data /srv/graphodrome --listen 127.0.0.1:9000\n  graphodrome serve --database-url postgres://me@localhost/graphs"
    )]
    Serve(ServeOptions),
    /// Run the service with the demo graph in it
    #[command(after_help = "Example:\n  graphodrome demo")]
    Demo(DemoOptions),
    /// List, show, create and drop graphs
    #[command(subcommand)]
    Graph(GraphCommand),
    /// Draft, show, check, compare and apply models
    #[command(subcommand)]
    Model(ModelCommand),
    /// Load tables into a graph with a mapping
    #[command(
        after_help = "Examples:\n  graphodrome load demo/load.toml\n  graphodrome load demo/load.toml --check\n  graphodrome load -g averley demo/load.toml --detach\n  zcat pipes.csv.gz | graphodrome load pipes.toml   # file = \"-\", format = \"csv\" in the mapping"
    )]
    Load(LoadOptions),
    /// List, show, follow and cancel jobs, read rejects
    #[command(subcommand)]
    Job(JobCommand),
    /// Run a query
    #[command(
        after_help = "Examples:\n  graphodrome query -g averley 'MATCH (s:Site) RETURN s LIMIT 5'\n  graphodrome query -g averley -f question.gql -p code=V-0007 --format csv > answer.csv\n  echo 'MATCH (n) RETURN COUNT(*) AS nodes' | graphodrome query -g averley"
    )]
    Query(QueryOptions),
    /// Show a query's plan without running it
    #[command(
        after_help = "Examples:\n  graphodrome plan -g averley \"MATCH (a:Site {code: 'S-001'})-[:PIPE]->+(b) RETURN DISTINCT b.code\"\n  graphodrome plan -g averley \"MATCH (j:Junction WHERE j.elevation_m > 200) RETURN j.code\" --with 'CREATE INDEX high OVER (:Junction {elevation_m})'"
    )]
    Plan(PlanOptions),
    /// Run a query and show where the time went, why, and what to change
    #[command(
        after_help = "Examples:\n  graphodrome profile -g averley \"MATCH (a:Site {code: 'S-001'})-[:PIPE]->+(b) RETURN DISTINCT b.code\"\n  graphodrome profile -g averley -f question.gql --repeat 10 --keep before\n  graphodrome profile -g averley -f question.gql --with 'CREATE INDEX high OVER (:Junction {elevation_m})'"
    )]
    Profile(ProfileOptions),
    /// List, show, name and remove kept profiles
    #[command(subcommand)]
    Run(RunCommand),
    /// Compare two kept profiles by plan, work and time
    #[command(
        after_help = "Examples:\n  graphodrome compare before after\n  graphodrome compare 12 15 --hops all"
    )]
    Compare(CompareOptions),
    /// Accept runs of saved queries as baselines
    #[command(subcommand)]
    Baseline(BaselineCommand),
    /// Compare saved queries with their baselines; exit code 1 if one became worse
    #[command(
        after_help = "Examples:\n  graphodrome check\n  graphodrome check -g averley --run --junit report.xml --markdown report.md"
    )]
    Check(CheckOptions),
    /// Watch and cancel running queries and jobs
    #[command(
        after_help = "Examples:\n  graphodrome top\n  graphodrome top --once\n  graphodrome top --cancel 17"
    )]
    Top(TopOptions),
    /// Show the neighbourhood of a node, with hubs sampled and omitted edges counted
    #[command(
        after_help = "Examples:\n  graphodrome neighbours -g averley Junction J-00297\n  graphodrome neighbours -g averley Site S-001 --hops 3 --edges PIPE --direction out --limit 40\n  graphodrome neighbours -g averley Junction J-00297 --json > around.json"
    )]
    Neighbours(NeighboursOptions),
    /// Run graph measures: centrality, connectivity, communities, flow and others
    #[command(subcommand)]
    Measure(MeasureCommand),
    /// Manage user procedures: WebAssembly modules called in queries
    #[command(subcommand)]
    Procedure(ProcedureCommand),
    /// Format query files: one clause a line, keywords in capitals
    #[command(
        after_help = "Examples:\n  graphodrome fmt questions/*.gql\n  graphodrome fmt --check questions/*.gql\n  echo 'match (n) return n' | graphodrome fmt"
    )]
    Fmt(FmtOptions),
    /// Save, run, export and import named queries
    #[command(subcommand)]
    Saved(SavedCommand),
    /// List, run, export and remove notebooks
    #[command(subcommand)]
    Notebook(NotebookCommand),
    /// Query interactively
    #[command(after_help = "Example:\n  graphodrome shell -g averley")]
    Shell(ShellOptions),
    /// Export a graph, some of its labels, or the result of a query in an open format
    #[command(
        after_help = "Examples:\n  graphodrome export -g averley\n  graphodrome export -g averley --out averley.graphml\n  graphodrome export -g averley --label Pump --format jsonl > pumps.jsonl\n  graphodrome export -g averley --query \"MATCH p = (:Site {code: 'S-001'})-[:PIPE]->{1,3}() RETURN p\" --out near.dot"
    )]
    Export(ExportOptions),
    /// Back up graphs while the service runs; a folder with a backup is continued incrementally
    #[command(
        args_conflicts_with_subcommands = true,
        subcommand_negates_reqs = true,
        after_help = "Examples:\n  graphodrome backup --out backups/averley\n  graphodrome backup --out backups/averley -g averley\n  graphodrome backup verify backups/averley"
    )]
    Backup(BackupOptions),
    /// Restore graphs from a backup
    #[command(
        after_help = "Examples:\n  graphodrome restore backups/averley\n  graphodrome restore backups/averley -g averley --as averley_before --to 17\n  graphodrome restore backups/averley --to 2026-11-29T10:00:00Z"
    )]
    Restore(RestoreOptions),
    /// Generate tables: the demo scenario, random graphs, or a graph for a given model
    #[command(
        after_help = "Examples:\n  graphodrome generate scenario --junctions 100000 --out averley\n  graphodrome generate random --nodes 1000000 --edges 10000000 --out random\n  graphodrome generate random --nodes 65536 --edges 1000000 --quarters 0.57,0.19,0.19 --out skewed\n  graphodrome generate model --for model.gql --scale 1e5 --out trial"
    )]
    Generate(GenerateOptions),
}

#[derive(Subcommand)]
pub enum ModelCommand {
    /// Propose a model and a load mapping from tables; no data leaves the machine
    #[command(
        after_help = "Examples:\n  graphodrome model draft demo/tables/* --name averley_draft --out draft\n  graphodrome query -f draft/model.gql && graphodrome load draft/load.toml\n  graphodrome model draft --database postgres://localhost/utility --schema register --out draft"
    )]
    Draft {
        /// Tables: CSV, TSV, JSON Lines, Parquet
        #[arg(required_unless_present = "database")]
        files: Vec<PathBuf>,
        /// Draft from the tables of this PostgreSQL database; their rows are written beside the draft as CSV
        #[arg(long, value_name = "URL", env = "GRAPHODROME_DRAFT_DATABASE")]
        database: Option<String>,
        /// Schema of the database
        #[arg(long, default_value = "public", requires = "database")]
        schema: String,
        /// Name of the graph
        #[arg(long, default_value = "draft")]
        name: String,
        /// Folder to write model.gql and load.toml into
        #[arg(long, default_value = "draft")]
        out: PathBuf,
        /// Replace existing files
        #[arg(long)]
        force: bool,
    },
    /// Show a graph's model; for an open graph the observed types
    #[command(
        after_help = "Examples:\n  graphodrome model show -g averley\n  graphodrome model show -g averley --format svg > averley.svg"
    )]
    Show {
        #[arg(short, long)]
        graph: String,
        #[arg(long, value_enum, default_value_t = ModelFormat::Gql)]
        format: ModelFormat,
    },
    /// Report violations of a model in a graph
    #[command(
        after_help = "Examples:\n  graphodrome model check -g scratch demo/model.gql\n  graphodrome model check -g averley"
    )]
    Check {
        #[arg(short, long)]
        graph: String,
        /// CREATE GRAPH TYPE ... ; defaults to the graph's own model
        model: Option<PathBuf>,
        #[arg(long)]
        json: bool,
    },
    /// Refresh the statistics used by the planner
    #[command(after_help = "Example:\n  graphodrome model analyze -g averley")]
    Analyze {
        #[arg(short, long)]
        graph: String,
        #[arg(long)]
        json: bool,
    },
    /// Show the differences, obstacles and losses of a new model
    #[command(
        after_help = "Examples:\n  graphodrome model diff -g averley new.gql\n  graphodrome model show -g averley > new.gql   # the model to begin with"
    )]
    Diff {
        #[arg(short, long)]
        graph: String,
        /// CREATE GRAPH TYPE ..., after any ALTER GRAPH ... RENAME ...
        model: PathBuf,
        #[arg(long)]
        json: bool,
    },
    /// Apply a new model to a graph and its elements, completely or not at all
    #[command(
        after_help = "Examples:\n  graphodrome model apply -g averley new.gql\n  graphodrome model apply -g averley new.gql --save before --lose-data"
    )]
    Apply {
        #[arg(short, long)]
        graph: String,
        /// CREATE GRAPH TYPE ..., after any ALTER GRAPH ... RENAME ...
        model: PathBuf,
        /// Allow the loss of elements and values that the new model does not contain
        #[arg(long)]
        lose_data: bool,
        /// First write the data to be lost into this folder as JSON Lines
        #[arg(long)]
        save: Option<PathBuf>,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ModelFormat {
    Gql,
    Json,
    Mermaid,
    Svg,
}

#[derive(Args)]
pub struct LoadOptions {
    /// The mapping (TOML); files in it are relative to it
    pub mapping: PathBuf,
    /// Graph to load into; the mapping may name it
    #[arg(short, long)]
    pub graph: Option<String>,
    /// Do everything except publishing, and report what a load would do
    #[arg(long)]
    pub check: bool,
    /// Wait until the load is over, showing its progress (the default)
    #[arg(long, conflicts_with = "detach")]
    pub wait: bool,
    /// Start the job and return at once
    #[arg(long)]
    pub detach: bool,
    /// Print the finished job as JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum JobCommand {
    /// List the newest jobs
    #[command(after_help = "Example:\n  graphodrome job list")]
    List,
    /// Show a job with its account
    #[command(after_help = "Example:\n  graphodrome job show 3")]
    Show {
        id: i64,
        #[arg(long)]
        json: bool,
    },
    /// Watch a job until it ends
    #[command(after_help = "Example:\n  graphodrome job follow 3")]
    Follow { id: i64 },
    /// Cancel a running job
    #[command(after_help = "Example:\n  graphodrome job cancel 3")]
    Cancel { id: i64 },
    /// Show the rows that a load rejected
    #[command(
        after_help = "Examples:\n  graphodrome job rejects 3\n  graphodrome job rejects 3 --format csv > rejects.csv\n  graphodrome job rejects 3 --out repair   # repair the rows, then: graphodrome load repair/load.toml"
    )]
    Rejects {
        id: i64,
        #[arg(long, value_enum, default_value_t = Format::Table)]
        format: Format,
        /// How many to show
        #[arg(long, default_value_t = 100)]
        limit: u64,
        /// Write the rejected rows into this folder, with a mapping to load them again
        #[arg(long, value_name = "FOLDER")]
        out: Option<PathBuf>,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Table,
    Json,
    Ndjson,
    Csv,
    Arrow,
}

/// A text from the command line, a file, or standard input.
#[derive(Args, Clone)]
pub struct TextOptions {
    /// The query; read from standard input if neither it nor -f is given
    pub text: Option<String>,
    /// Read the query from a file ("-" for standard input)
    #[arg(short, long, conflicts_with = "text")]
    pub file: Option<PathBuf>,
    /// Graph to query
    #[arg(short, long, env = "GRAPHODROME_GRAPH")]
    pub graph: Option<String>,
    /// Parameter: a literal of the language, otherwise a text
    #[arg(short, long = "param", value_name = "NAME=VALUE")]
    pub parameters: Vec<String>,
    /// Time limit in seconds
    #[arg(long)]
    pub timeout: Option<f64>,
    /// Rules of the planner to turn off, or all; the answer stays the same
    #[arg(long, value_delimiter = ',', value_name = "RULE")]
    pub rules_off: Vec<String>,
    #[command(flatten)]
    pub at: AtOptions,
}

/// An earlier version instead of the newest.
#[derive(Args, Clone, Default)]
pub struct AtOptions {
    /// Read this version of the graph; graph history lists them
    #[arg(long, value_name = "N", conflicts_with = "at_timestamp")]
    pub at_version: Option<u64>,
    /// Read the version that was newest at this time, such as 2026-11-29T10:00:00Z
    #[arg(long, value_name = "TIME")]
    pub at_timestamp: Option<String>,
}

#[derive(Args)]
pub struct QueryOptions {
    #[command(flatten)]
    pub text: TextOptions,
    #[arg(long, value_enum, default_value_t = Format::Table)]
    pub format: Format,
    /// Properties to show with each node and edge in a table
    #[arg(long, value_delimiter = ',', value_name = "PROPERTY")]
    pub show: Vec<String>,
    /// Maximum number of rows in the result
    #[arg(long)]
    pub max_rows: Option<u64>,
    /// Memory limit in MiB
    #[arg(long)]
    pub memory_mib: Option<u64>,
}

#[derive(Args)]
pub struct FmtOptions {
    /// Files to format in place; without files, or with `-`, from standard input to standard output
    pub files: Vec<PathBuf>,
    /// Change nothing; fail and name the files that would be changed
    #[arg(long)]
    pub check: bool,
}

#[derive(Args)]
pub struct ShellOptions {
    /// Graph to query
    #[arg(short, long, env = "GRAPHODROME_GRAPH")]
    pub graph: Option<String>,
}

#[derive(Args)]
pub struct ExportOptions {
    /// Graph to export
    #[arg(short, long, env = "GRAPHODROME_GRAPH")]
    pub graph: String,
    /// csv, jsonl, graphml, parquet, arrow, nquads or dot; defaults to the suffix of --out
    #[arg(long)]
    pub format: Option<String>,
    /// File to write; for csv, parquet and arrow a folder or a .zip archive
    #[arg(short, long)]
    pub out: Option<PathBuf>,
    /// Only this label: nodes with the edges between them, or edges with their ends; repeatable
    #[arg(long = "label", value_name = "LABEL", conflicts_with_all = ["query", "file"])]
    pub labels: Vec<String>,
    /// Only the nodes, edges and paths that this query returns
    #[arg(long)]
    pub query: Option<String>,
    /// The query, from a file
    #[arg(short, long, conflicts_with = "query")]
    pub file: Option<PathBuf>,
    /// Parameter of the query
    #[arg(short, long = "param", value_name = "NAME=VALUE")]
    pub parameters: Vec<String>,
    #[command(flatten)]
    pub at: AtOptions,
    /// Base IRI of N-Quads
    #[arg(long, value_name = "IRI")]
    pub base: Option<String>,
}

#[derive(Args)]
pub struct GenerateOptions {
    #[command(subcommand)]
    pub what: GenerateCommand,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum TableKind {
    Csv,
    Jsonl,
    Parquet,
    Arrow,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum PackingKind {
    None,
    Gzip,
    Zstandard,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SpreadKind {
    Even,
    Skewed,
}

/// How generated tables are written.
#[derive(Args, Clone)]
pub struct GenerateOutput {
    #[arg(long, default_value_t = 7)]
    pub seed: u64,
    /// Format of the tables
    #[arg(long, value_enum, default_value_t = TableKind::Csv)]
    pub format: TableKind,
    /// Compression of text tables
    #[arg(long, value_enum, default_value_t = PackingKind::None)]
    pub packing: PackingKind,
    /// Folder to write into
    #[arg(long)]
    pub out: PathBuf,
}

#[derive(Subcommand)]
pub enum GenerateCommand {
    /// The water utility of the demo: model, mapping and tables
    Scenario {
        /// Junctions of the pipe network; everything else follows from it
        #[arg(long, default_value_t = 1_500)]
        junctions: u32,
        #[command(flatten)]
        output: GenerateOutput,
    },
    /// A random directed graph: with ends drawn evenly, or with a skew (R-MAT)
    Random {
        #[arg(long, default_value_t = 1_000_000)]
        nodes: u32,
        #[arg(long, default_value_t = 10_000_000)]
        edges: u64,
        /// Shares of three quarters of the adjacency matrix, such as 0.57,0.19,0.19: R-MAT
        #[arg(long, value_name = "A,B,C", value_parser = three_shares)]
        quarters: Option<(f64, f64, f64)>,
        /// Nodes with a name and a level, edges with a date and a length
        #[arg(long)]
        properties: bool,
        #[command(flatten)]
        output: GenerateOutput,
    },
    /// A random directed graph whose degrees follow a power law
    PowerLaw {
        #[arg(long, default_value_t = 100_000)]
        nodes: u32,
        #[arg(long, default_value_t = 1_000_000)]
        edges: u64,
        #[arg(long, default_value_t = 2.5)]
        exponent: f64,
        /// Nodes with a name and a level, edges with a date and a length
        #[arg(long)]
        properties: bool,
        #[command(flatten)]
        output: GenerateOutput,
    },
    /// A grid: every place has edges to its right and lower neighbours
    Grid {
        #[arg(long, default_value_t = 1_000)]
        width: u32,
        #[arg(long, default_value_t = 1_000)]
        height: u32,
        #[arg(long)]
        properties: bool,
        #[command(flatten)]
        output: GenerateOutput,
    },
    /// A tree: every place but the leaves has edges to as many others
    Tree {
        #[arg(long, default_value_t = 100_000)]
        nodes: u32,
        #[arg(long, default_value_t = 2)]
        branches: u32,
        #[arg(long)]
        properties: bool,
        #[command(flatten)]
        output: GenerateOutput,
    },
    /// Elements for a given graph type
    Model {
        /// A file with CREATE GRAPH TYPE
        #[arg(long = "for", value_name = "MODEL")]
        model: PathBuf,
        /// Nodes altogether, such as 1e6
        #[arg(long, default_value_t = 1e4)]
        scale: f64,
        /// Elements with a label, such as Pump=500; repeatable
        #[arg(long = "count", value_name = "LABEL=N")]
        counts: Vec<String>,
        /// Edges for each node, for edge types without a count
        #[arg(long, default_value_t = 2.0)]
        degree: f64,
        /// Distribution of degrees
        #[arg(long, value_enum, default_value_t = SpreadKind::Even)]
        degrees: SpreadKind,
        /// Distribution of values
        #[arg(long, value_enum, default_value_t = SpreadKind::Even)]
        values: SpreadKind,
        /// Share of nulls among nullable values
        #[arg(long, default_value_t = 0.1)]
        nulls: f64,
        #[command(flatten)]
        output: GenerateOutput,
    },
}

fn three_shares(text: &str) -> Result<(f64, f64, f64), String> {
    let shares: Vec<f64> =
        text.split(',').map(|s| s.trim().parse()).collect::<Result<_, _>>().unwrap_or_default();
    match shares[..] {
        [a, b, c] => Ok((a, b, c)),
        _ => Err("write three shares such as 0.57,0.19,0.19".into()),
    }
}
