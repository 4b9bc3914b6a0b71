//! Arguments of `procedure`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub enum ProcedureCommand {
    /// List user procedures
    #[command(after_help = "Example:\n  graphodrome procedure list")]
    List {
        #[arg(long)]
        json: bool,
    },
    /// Show a procedure's signature, limits and versions
    #[command(after_help = "Example:\n  graphodrome procedure show part_quantities")]
    Show {
        name: String,
        #[arg(long)]
        json: bool,
    },
    /// Upload a WebAssembly module as a procedure; its signature contains the name
    #[command(
        after_help = "Examples:\n  graphodrome procedure add part_quantities.wasm\n  graphodrome procedure add hops.wasm --seconds 5 --memory-mib 256 --granted averley"
    )]
    Add(AddProcedure),
    /// Select the active version of a procedure
    #[command(after_help = "Example:\n  graphodrome procedure use part_quantities 1")]
    Use { name: String, version: i64 },
    /// Write a procedure's module into a file
    #[command(
        after_help = "Example:\n  graphodrome procedure save part_quantities --out part_quantities.wasm"
    )]
    Save {
        name: String,
        #[arg(long)]
        version: Option<i64>,
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
    /// Remove a procedure with all its versions
    #[command(after_help = "Example:\n  graphodrome procedure remove part_quantities")]
    Remove { name: String },
}

#[derive(Args)]
pub struct AddProcedure {
    /// The module: a component of docs/procedures/procedure.wit, or a core module that exports its functions
    pub file: PathBuf,
    /// Maximum steps of a call, about one for each instruction [default: 100000000000]
    #[arg(long)]
    pub steps: Option<u64>,
    /// Memory limit of a call in MiB [default: 1024]
    #[arg(long)]
    pub memory_mib: Option<u64>,
    /// Time limit of a call in seconds [default: 60]
    #[arg(long)]
    pub seconds: Option<f64>,
    /// Graph over which it may be called; repeatable; defaults to all
    #[arg(long = "granted", value_name = "GRAPH")]
    pub graphs: Vec<String>,
}
