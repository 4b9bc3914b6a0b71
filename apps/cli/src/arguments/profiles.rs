//! Grammar of plans, profiles, kept runs, and what runs now.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::TextOptions;

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum HopsShown {
    Few,
    All,
}

/// How much is shown.
#[derive(Args, Clone, Copy)]
pub struct ShownOptions {
    /// Hops of a search that are shown: those that say most, or all
    #[arg(long, value_enum, default_value_t = HopsShown::Few)]
    pub hops: HopsShown,
    /// Show every counter of every operator, and what each estimate rests on
    #[arg(long)]
    pub verbose: bool,
}

#[derive(Args)]
pub struct PlanOptions {
    #[command(flatten)]
    pub text: TextOptions,
    /// Plan as if this had been run: CREATE or DROP of a key or an index; may be given again
    #[arg(long, value_name = "STATEMENT")]
    pub with: Vec<String>,
    #[command(flatten)]
    pub shown: ShownOptions,
    /// Print the data instead of the tree
    #[arg(long)]
    pub json: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ProfileFormat {
    Text,
    Json,
    /// A line for each operator and hop with its microseconds, for what draws flame graphs
    Folded,
    /// A JSON file of the same stacks that Speedscope opens
    Speedscope,
}

#[derive(Args)]
pub struct ProfileOptions {
    #[command(flatten)]
    pub text: TextOptions,
    /// Run as if this had been run: CREATE or DROP of a key or an index; may be given again. The profile is set beside
    /// one without it
    #[arg(long, value_name = "STATEMENT")]
    pub with: Vec<String>,
    /// Run it so many times and say how long they took
    #[arg(long, value_name = "N")]
    pub repeat: Option<u32>,
    /// Keep what the query changes, instead of rolling it back
    #[arg(long)]
    pub commit: bool,
    /// Keep the profile as a run, under this name where one is given
    #[arg(long, value_name = "NAME", num_args = 0..=1, default_missing_value = "")]
    pub keep: Option<String>,
    /// Tag of the kept run; may be given again
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
        /// Of this graph
        #[arg(short, long)]
        graph: Option<String>,
        /// Only those that were kept by themselves, as the query took long
        #[arg(long)]
        slow: bool,
        /// Only those with this name
        #[arg(long)]
        name: Option<String>,
        /// Only those with this tag
        #[arg(long)]
        tag: Option<String>,
        /// Only those with this in their text
        #[arg(long, value_name = "TEXT")]
        search: Option<String>,
        #[arg(long, default_value_t = 20)]
        limit: u64,
        #[arg(long)]
        json: bool,
    },
    /// Show a kept run as its profile was shown
    #[command(after_help = "Examples:\n  graphodrome run show 12\n  graphodrome run show before --hops all")]
    Show {
        /// Its number, or its name
        run: String,
        #[command(flatten)]
        shown: ShownOptions,
        #[arg(long, value_enum, default_value_t = ProfileFormat::Text)]
        format: ProfileFormat,
    },
    /// Give a run a name and tags in the place of those it has
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
    /// The run before: its number, or its name
    pub before: String,
    /// The run after
    pub after: String,
    #[command(flatten)]
    pub shown: ShownOptions,
    #[arg(long)]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum BaselineCommand {
    /// List the saved queries that are held against an accepted run
    #[command(after_help = "Example:\n  graphodrome baseline list")]
    List {
        #[arg(short, long)]
        graph: Option<String>,
        #[arg(long)]
        json: bool,
    },
    /// Run a saved query and accept what it does; or accept a run that is kept
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
        /// How many times the accepted work it may become before it is called worse
        #[arg(long, value_name = "FACTOR")]
        allow: Option<f64>,
    },
    /// Hold a saved query against nothing any more; the run stays
    #[command(after_help = "Example:\n  graphodrome baseline remove sites_above -g averley")]
    Remove {
        name: String,
        #[arg(short, long, env = "GRAPHODROME_GRAPH")]
        graph: String,
    },
}

#[derive(Args)]
pub struct CheckOptions {
    /// Of this graph; otherwise of all
    #[arg(short, long)]
    pub graph: Option<String>,
    /// Only these saved queries
    pub queries: Vec<String>,
    /// Run the queries and compare their work, instead of planning them only
    #[arg(long)]
    pub run: bool,
    /// How many times the accepted work they may become, in the place of what each was accepted with
    #[arg(long, value_name = "FACTOR")]
    pub allow: Option<f64>,
    /// Write a JUnit report, as continuous integration reads it
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
    /// Show what runs now once, instead of again and again until Ctrl+C
    #[arg(long)]
    pub once: bool,
    /// Seconds between two looks
    #[arg(long, default_value_t = 1.0)]
    pub every: f64,
    /// Cancel the request with this number
    #[arg(long, value_name = "NUMBER")]
    pub cancel: Option<u64>,
    #[arg(long)]
    pub json: bool,
}
