//! Arguments of `backup` and `restore`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Args)]
pub struct BackupOptions {
    #[command(subcommand)]
    pub command: Option<BackupCommand>,
    /// Folder for the backup; an earlier backup in it is continued
    #[arg(short, long, required = true)]
    pub out: Option<PathBuf>,
    /// Only this graph; repeatable
    #[arg(short, long = "graph", value_name = "GRAPH")]
    pub graphs: Vec<String>,
}

#[derive(Subcommand)]
pub enum BackupCommand {
    /// Verify the checksums of a backup; needs no service
    #[command(after_help = "Example:\n  graphodrome backup verify backups/averley")]
    Verify { folder: PathBuf },
    /// List the contents of a backup
    #[command(after_help = "Example:\n  graphodrome backup list backups/averley")]
    List { folder: PathBuf },
}

#[derive(Args)]
pub struct RestoreOptions {
    /// Folder of the backup
    pub folder: PathBuf,
    /// Only this graph; repeatable
    #[arg(short, long = "graph", value_name = "GRAPH")]
    pub graphs: Vec<String>,
    /// New name of the graph, if only one is restored
    #[arg(long = "as", value_name = "NAME")]
    pub name: Option<String>,
    /// Version number or time; defaults to the newest
    #[arg(long, value_name = "VERSION")]
    pub to: Option<String>,
}
