//! What `graph` takes.

use clap::Subcommand;

#[derive(Subcommand)]
pub enum GraphCommand {
    /// List all graphs
    #[command(after_help = "Example:\n  graphodrome graph list")]
    List,
    /// Show a graph: labels with counts, keys, size
    #[command(after_help = "Example:\n  graphodrome graph show averley")]
    Show { name: String },
    /// Create an empty graph, open or of a graph type
    #[command(
        after_help = "Examples:\n  graphodrome graph create scratch\n  graphodrome graph create copy --type water_network"
    )]
    Create {
        name: String,
        /// Name of a graph type; without it the graph is open
        #[arg(long = "type")]
        graph_type: Option<String>,
    },
    /// Remove every node and edge of a graph; its model, keys and indexes stay
    #[command(after_help = "Example:\n  graphodrome graph empty scratch --confirm scratch")]
    Empty {
        name: String,
        /// The name once more; asked for on a terminal where it is not given
        #[arg(long)]
        confirm: Option<String>,
    },
    /// Drop a graph with everything in it
    #[command(after_help = "Example:\n  graphodrome graph drop scratch --confirm scratch")]
    Drop {
        name: String,
        /// The name once more; asked for on a terminal where it is not given
        #[arg(long)]
        confirm: Option<String>,
    },
    /// List the versions that can be read, the newest first: when, who, what, how many elements
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
        /// Print the data instead of a table
        #[arg(long)]
        json: bool,
    },
    /// Show what is different between two versions, element by element
    #[command(
        after_help = "Examples:\n  graphodrome graph diff averley 17 23\n  graphodrome graph diff averley 2026-11-29T10:00:00Z\n  graphodrome graph diff averley 17 --json > changes.jsonl"
    )]
    Diff {
        name: String,
        /// The earlier version: its number, or a time
        from: String,
        /// The later one; the newest where it is not given
        to: Option<String>,
        /// Elements to show in the table
        #[arg(long, default_value_t = 50)]
        limit: usize,
        /// Print all of it as JSON Lines
        #[arg(long)]
        json: bool,
    },
    /// Make an earlier version the newest, in one commit; opens a graph that is offline
    #[command(
        after_help = "Examples:\n  graphodrome graph restore averley --to 17\n  graphodrome graph restore averley --to 2026-11-29T10:00:00Z"
    )]
    Restore {
        name: String,
        /// The version: its number, or a time
        #[arg(long)]
        to: String,
    },
    /// Read everything that is stored of a graph, and compare it with what is in memory
    #[command(after_help = "Example:\n  graphodrome graph verify averley")]
    Verify {
        name: String,
        /// Print the data instead of sentences
        #[arg(long)]
        json: bool,
    },
    /// Say how long versions of a graph stay: those among the newest, and those that were the newest within some days
    #[command(after_help = "Example:\n  graphodrome graph keep averley --versions 50 --days 30")]
    Keep {
        name: String,
        /// How many of the newest versions stay
        #[arg(long)]
        versions: Option<u64>,
        /// Days within which a version was the newest, for it to stay
        #[arg(long)]
        days: Option<u64>,
    },
}
