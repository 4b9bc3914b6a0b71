//! Grammar of plans, profiles, kept runs, and what runs now.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::TextOptions;

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum HopsShown {
    Few,
    All,
}

/// Amount of detail.
#[derive(Args, Clone, Copy)]
pub struct ShownOptions {
    /// Hops of a search to show: the significant ones, or all
    #[arg(long, value_enum, default_value_t = HopsShown::Few)]
    pub hops: HopsShown,
    /// Show every counter of every operator and the source of each estimate
    #[arg(long)]
    pub verbose: bool,
}

#[derive(Args)]
pub struct PlanOptions {
    #[command(flatten)]
    pub text: TextOptions,
    /// Plan with this hypothetical CREATE or DROP of a key, index or distance bound; repeatable
    #[arg(long, value_name = "STATEMENT")]
    pub with: Vec<String>,
    #[command(flatten)]
    pub shown: ShownOptions,
    /// Print JSON instead of the tree
    #[arg(long)]
    pub json: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ProfileFormat {
    Text,
    Json,
    /// Folded stacks for flame graphs: a line for each operator and hop with its microseconds
    Folded,
    /// The same stacks as a JSON file for Speedscope
    Speedscope,
}

#[derive(Args)]
pub struct ProfileOptions {
    #[command(flatten)]
    pub text: TextOptions,
    /// Run with this hypothetical CREATE or DROP of a key, index or distance bound, and compare with a run
    /// without it; repeatable
    #[arg(long, value_name = "STATEMENT")]
    pub with: Vec<String>,
    /// Number of runs to measure
    #[arg(long, value_name = "N")]
    pub repeat: Option<u32>,
    /// Commit the changes of the query instead of rolling them back
    #[arg(long)]
    pub commit: bool,
    /// Keep the profile as a run, optionally with a name
    #[arg(long, value_name = "NAME", num_args = 0..=1, default_missing_value = "")]
    pub keep: Option<String>,
    /// Tag of the kept run; repeatable
    #[arg(long = "tag", value_name = "TAG", requires = "keep")]
    pub tags: Vec<String>,
    #[command(flatten)]
    pub shown: ShownOptions,
    #[arg(long, value_enum, default_value_t = ProfileFormat::Text)]
    pub format: ProfileFormat,
    /// The same as --format json
    #[arg(long, conflicts_with = "format")]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum RunCommand {
    /// List kept runs, the newest first
    #[command(
        after_help = "Examples:\n  graphodrome run list\n  graphodrome run list -g averley --slow\n  graphodrome run list --search SHORTEST --tag before"
    )]
    List {
        /// Only runs on this graph
        #[arg(short, long)]
        graph: Option<String>,
        /// Only automatically kept profiles of slow queries
        #[arg(long)]
        slow: bool,
        /// Only runs with this name
        #[arg(long)]
        name: Option<String>,
        /// Only runs with this tag
        #[arg(long)]
        tag: Option<String>,
        /// Only those whose query contains this text
        #[arg(long, value_name = "TEXT")]
        search: Option<String>,
        #[arg(long, default_value_t = 20)]
        limit: u64,
        #[arg(long)]
        json: bool,
    },
    /// Show the profile of a kept run
    #[command(after_help = "Examples:\n  graphodrome run show 12\n  graphodrome run show before --hops all")]
    Show {
        /// Number or name of the run
        run: String,
        #[command(flatten)]
        shown: ShownOptions,
        #[arg(long, value_enum, default_value_t = ProfileFormat::Text)]
        format: ProfileFormat,
    },
    /// Change the name and tags of a run
    #[command(after_help = "Example:\n  graphodrome run label 12 --name before --tag pipes")]
    Label {
        run: String,
        #[arg(long)]
        name: Option<String>,
        #[arg(long = "tag", value_name = "TAG")]
        tags: Vec<String>,
    },
    /// Remove runs
    #[command(after_help = "Example:\n  graphodrome run remove 12 13")]
    Remove {
        #[arg(required = true)]
        runs: Vec<String>,
    },
}

#[derive(Args)]
pub struct CompareOptions {
    /// Number or name of the earlier run
    pub before: String,
    /// Number or name of the later run
    pub after: String,
    #[command(flatten)]
    pub shown: ShownOptions,
    #[arg(long)]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum BaselineCommand {
    /// List saved queries with baselines
    #[command(after_help = "Example:\n  graphodrome baseline list")]
    List {
        #[arg(short, long)]
        graph: Option<String>,
        #[arg(long)]
        json: bool,
    },
    /// Run a saved query and accept the run, or accept a kept run
    #[command(
        after_help = "Examples:\n  graphodrome baseline accept sites_above -g averley -p level=120\n  graphodrome baseline accept sites_above -g averley --run 12 --allow 1.5"
    )]
    Accept {
        /// The saved query
        name: String,
        #[arg(short, long, env = "GRAPHODROME_GRAPH")]
        graph: String,
        /// Parameter, read as its declared type
        #[arg(short, long = "param", value_name = "NAME=VALUE", conflicts_with = "run")]
        parameters: Vec<String>,
        /// A run of this query on this graph, by its number or name
        #[arg(long)]
        run: Option<String>,
        /// Permitted factor of the accepted work
        #[arg(long, value_name = "FACTOR")]
        allow: Option<f64>,
    },
    /// Remove the baseline of a saved query; the run is kept
    #[command(after_help = "Example:\n  graphodrome baseline remove sites_above -g averley")]
    Remove {
        name: String,
        #[arg(short, long, env = "GRAPHODROME_GRAPH")]
        graph: String,
    },
}

#[derive(Args)]
pub struct CheckOptions {
    /// Only baselines of this graph
    #[arg(short, long)]
    pub graph: Option<String>,
    /// Only these saved queries
    pub queries: Vec<String>,
    /// Run the queries and compare their work instead of only planning them
    #[arg(long)]
    pub run: bool,
    /// Permitted factor of the accepted work, instead of each baseline's own
    #[arg(long, value_name = "FACTOR")]
    pub allow: Option<f64>,
    /// Write a JUnit report
    #[arg(long, value_name = "FILE")]
    pub junit: Option<PathBuf>,
    /// Write a summary in Markdown
    #[arg(long, value_name = "FILE")]
    pub markdown: Option<PathBuf>,
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct TopOptions {
    /// Print once instead of refreshing until Ctrl+C
    #[arg(long)]
    pub once: bool,
    /// Seconds between refreshes
    #[arg(long, default_value_t = 1.0)]
    pub every: f64,
    /// Cancel the request with this number
    #[arg(long, value_name = "NUMBER")]
    pub cancel: Option<u64>,
    #[arg(long)]
    pub json: bool,
}
