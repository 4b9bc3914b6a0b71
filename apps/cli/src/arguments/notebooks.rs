//! Grammar of notebooks.

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};

#[derive(Subcommand)]
pub enum NotebookCommand {
    /// List the notebooks
    #[command(after_help = "Example:\n  graphodrome notebook list")]
    List,
    /// Write a notebook with its results as a file
    #[command(
        after_help = "Examples:\n  graphodrome notebook export 'Leaks in May' > leaks.md\n  graphodrome notebook export 'Leaks in May' --out leaks.ipynb"
    )]
    Export {
        name: String,
        /// Format; defaults to the file's suffix, or Markdown
        #[arg(long, value_enum)]
        format: Option<NotebookFormat>,
        /// File to write; defaults to standard output
        #[arg(short, long)]
        out: Option<PathBuf>,
    },
    /// Run the queries of a notebook again and save the results
    #[command(after_help = "Example:\n  graphodrome notebook run 'Leaks in May' -g averley")]
    Run {
        name: String,
        /// Graph to query
        #[arg(short, long, env = "GRAPHODROME_GRAPH")]
        graph: String,
    },
    /// Remove a notebook
    #[command(after_help = "Example:\n  graphodrome notebook remove 'Leaks in May'")]
    Remove { name: String },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum NotebookFormat {
    Markdown,
    Ipynb,
}
