//! What `backup` and `restore` take.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Args)]
pub struct BackupOptions {
    #[command(subcommand)]
    pub command: Option<BackupCommand>,
    /// Folder for the backup; what an earlier one has written there is not written again
    #[arg(short, long, required = true)]
    pub out: Option<PathBuf>,
    /// Only this graph; may be given again
    #[arg(short, long = "graph", value_name = "GRAPH")]
    pub graphs: Vec<String>,
}

#[derive(Subcommand)]
pub enum BackupCommand {
    /// Read a backup whole, and compare its checksums; no service is needed
    #[command(after_help = "Example:\n  graphodrome backup verify backups/averley")]
    Verify { folder: PathBuf },
    /// List what is in a backup
    #[command(after_help = "Example:\n  graphodrome backup list backups/averley")]
    List { folder: PathBuf },
}

#[derive(Args)]
pub struct RestoreOptions {
    /// Folder of the backup
    pub folder: PathBuf,
    /// Only this graph; may be given again
    #[arg(short, long = "graph", value_name = "GRAPH")]
    pub graphs: Vec<String>,
    /// The name that the graph is to have, where only one is restored
    #[arg(long = "as", value_name = "NAME")]
    pub name: Option<String>,
    /// The version: its number, or a time; the newest where it is not given
    #[arg(long, value_name = "VERSION")]
    pub to: Option<String>,
}
