//! Grammar of procedures of one's own.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub enum ProcedureCommand {
    /// List the procedures that can be called beside the measures
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
    /// Upload a WebAssembly module as a procedure; its signature says its name
    #[command(
        after_help = "Examples:\n  graphodrome procedure add part_quantities.wasm\n  graphodrome procedure add hops.wasm --seconds 5 --memory-mib 256 --granted averley"
    )]
    Add(AddProcedure),
    /// Call another of a procedure's versions from now on
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
    /// Forget a procedure with all of its versions
    #[command(after_help = "Example:\n  graphodrome procedure remove part_quantities")]
    Remove { name: String },
}

#[derive(Args)]
pub struct AddProcedure {
    /// The module: a component of docs/procedures/procedure.wit, or a core module that exports its functions
    pub file: PathBuf,
    /// Steps that a call may take, about one an instruction [default: 100000000000]
    #[arg(long)]
    pub steps: Option<u64>,
    /// MiB that a call may hold [default: 1024]
    #[arg(long)]
    pub memory_mib: Option<u64>,
    /// Seconds that a call may run [default: 60]
    #[arg(long)]
    pub seconds: Option<f64>,
    /// A graph that it may be called over; may be given again; all without it
    #[arg(long = "granted", value_name = "GRAPH")]
    pub graphs: Vec<String>,
}
