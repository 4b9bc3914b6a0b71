//! Grammar of saved queries.

use std::path::PathBuf;

use clap::Subcommand;

#[derive(Subcommand)]
pub enum SavedCommand {
    /// List the saved queries
    #[command(after_help = "Example:\n  graphodrome saved list")]
    List,
    /// Print a saved query with its header
    #[command(after_help = "Example:\n  graphodrome saved show sites_above")]
    Show { name: String },
    /// Save the query of a file with name, folder, description and parameters in its header
    #[command(after_help = "Example:\n  graphodrome saved add sites_above.gql")]
    Add { file: PathBuf },
    /// Run a saved query
    #[command(after_help = "Example:\n  graphodrome saved run sites_above -g averley -p level=120")]
    Run {
        name: String,
        /// Graph to query
        #[arg(short, long, env = "GRAPHODROME_GRAPH")]
        graph: String,
        /// Parameter, read as its declared type
        #[arg(short, long = "param", value_name = "NAME=VALUE")]
        parameters: Vec<String>,
    },
    /// Remove a saved query
    #[command(after_help = "Example:\n  graphodrome saved remove sites_above")]
    Remove { name: String },
    /// Write all saved queries into a folder, one file each
    #[command(after_help = "Example:\n  graphodrome saved export queries/")]
    Export { folder: PathBuf },
    /// Save every .gql file of a folder and its subfolders
    #[command(after_help = "Example:\n  graphodrome saved import queries/")]
    Import { folder: PathBuf },
}
