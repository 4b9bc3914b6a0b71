//! Arguments of `graph`.

use clap::Subcommand;

#[derive(Subcommand)]
pub enum GraphCommand {
    /// List all graphs
    #[command(after_help = "Example:\n  graphodrome graph list")]
    List,
    /// Show a graph: labels with counts, keys, size
    #[command(after_help = "Example:\n  graphodrome graph show averley")]
    Show { name: String },
    /// Create an empty graph, open or with a graph type
    #[command(
        after_help = "Examples:\n  graphodrome graph create scratch\n  graphodrome graph create copy --type water_network"
    )]
    Create {
        name: String,
        /// Name of a graph type; the graph is open by default
        #[arg(long = "type")]
        graph_type: Option<String>,
    },
    /// Remove all nodes and edges of a graph; keep its model, keys and indexes
    #[command(after_help = "Example:\n  graphodrome graph empty scratch --confirm scratch")]
    Empty {
        name: String,
        /// Repeat the name to confirm; asked for on a terminal
        #[arg(long)]
        confirm: Option<String>,
    },
    /// Drop a graph with all its data
    #[command(after_help = "Example:\n  graphodrome graph drop scratch --confirm scratch")]
    Drop {
        name: String,
        /// Repeat the name to confirm; asked for on a terminal
        #[arg(long)]
        confirm: Option<String>,
    },
    /// List readable versions, newest first
    #[command(
        after_help = "Examples:\n  graphodrome graph history averley\n  graphodrome graph history averley --limit 500 --json"
    )]
    History {
        name: String,
        /// Versions to list
        #[arg(long, default_value_t = 20)]
        limit: u64,
        /// Only versions before this one
        #[arg(long, value_name = "N")]
        before: Option<u64>,
        /// Print JSON instead of a table
        #[arg(long)]
        json: bool,
    },
    /// Show the differences between two versions, element by element
    #[command(
        after_help = "Examples:\n  graphodrome graph diff averley 17 23\n  graphodrome graph diff averley 2026-11-29T10:00:00Z\n  graphodrome graph diff averley 17 --json > changes.jsonl"
    )]
    Diff {
        name: String,
        /// Earlier version: number or time
        from: String,
        /// Later version; defaults to the newest
        to: Option<String>,
        /// Elements to show in the table
        #[arg(long, default_value_t = 50)]
        limit: usize,
        /// Print all of it as JSON Lines
        #[arg(long)]
        json: bool,
    },
    /// Make an earlier version the newest in one commit; also opens an offline graph
    #[command(
        after_help = "Examples:\n  graphodrome graph restore averley --to 17\n  graphodrome graph restore averley --to 2026-11-29T10:00:00Z"
    )]
    Restore {
        name: String,
        /// Version number or time
        #[arg(long)]
        to: String,
    },
    /// Read all stored data of a graph and compare it with memory
    #[command(after_help = "Example:\n  graphodrome graph verify averley")]
    Verify {
        name: String,
        /// Print JSON instead of text
        #[arg(long)]
        json: bool,
    },
    /// Set the retention of a graph's versions
    #[command(after_help = "Example:\n  graphodrome graph keep averley --versions 50 --days 30")]
    Keep {
        name: String,
        /// Number of newest versions to keep
        #[arg(long)]
        versions: Option<u64>,
        /// Days for which versions are kept after they were the newest
        #[arg(long)]
        days: Option<u64>,
    },
}
