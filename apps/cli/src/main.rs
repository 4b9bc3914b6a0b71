//! `graphodrome`: the service and every client command in one binary.

mod arguments;
mod backups;
mod demo;
mod drawings;
mod evolve;
mod export;
mod findings;
mod fmt;
mod generate;
mod graphs;
mod jobs;
mod measures;
mod models;
mod neighbours;
mod notebooks;
mod procedures;
mod profiles;
mod queries;
mod runs;
mod saved;
mod serve;
mod shell;
mod table;
mod top;
mod versions;

use std::process::ExitCode;

use clap::Parser;
use graphodrome_client::{Client, ClientError};

use arguments::{Arguments, Command};

/// Requests are made of many small pieces that one thread makes and another frees.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What the command line's exit codes say.
pub mod exit {
    /// The service or the query said no.
    pub const FAILED: u8 = 1;
    /// The service cannot be reached.
    pub const UNREACHABLE: u8 = 3;
}

/// Deep queries are read, planned and evaluated by functions that call themselves; their depth is limited,
/// and this is enough for it.
const STACK_BYTES: usize = 32 << 20;

/// A reader that stops reading, as `head` does, ends the command without a word.
fn end_quietly_with_the_reader() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        let said = panic.payload().downcast_ref::<String>();
        if said.is_some_and(|text| text.starts_with("failed printing to std") && text.contains("Broken pipe"))
        {
            std::process::exit(0);
        }
        usual(panic);
    }));
}

fn main() -> ExitCode {
    end_quietly_with_the_reader();
    let arguments = Arguments::parse();
    let runtime =
        match tokio::runtime::Builder::new_multi_thread().enable_all().thread_stack_size(STACK_BYTES).build()
        {
            Ok(runtime) => runtime,
            Err(error) => {
                eprintln!("error: {error}");
                return ExitCode::from(exit::FAILED);
            }
        };
    match runtime.block_on(run(arguments)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            // A reader that stops reading, as `head` does, is no error.
            if error.chain().any(|e| {
                e.downcast_ref::<std::io::Error>().is_some_and(|e| e.kind() == std::io::ErrorKind::BrokenPipe)
            }) {
                return ExitCode::SUCCESS;
            }
            let text = error.to_string();
            if text.starts_with("error") {
                eprintln!("{text}");
            } else {
                eprintln!("error: {error:#}");
            }
            match error.downcast_ref::<ClientError>() {
                Some(ClientError::Unreachable { .. }) => ExitCode::from(exit::UNREACHABLE),
                _ => ExitCode::from(exit::FAILED),
            }
        }
    }
}

/// For whom this is, as the history of a graph shows it: GRAPHODROME_FROM, otherwise who is logged in where.
fn person() -> Option<String> {
    if let Ok(said) = std::env::var("GRAPHODROME_FROM") {
        return Some(said).filter(|said| !said.is_empty());
    }
    let user = std::env::var("USER").or_else(|_| std::env::var("LOGNAME")).ok()?;
    let host = std::fs::read_to_string("/etc/hostname").unwrap_or_default();
    match host.trim() {
        "" => Some(user),
        host => Some(format!("{user}@{host}")),
    }
}

async fn run(arguments: Arguments) -> anyhow::Result<()> {
    let client = Client::asking_for(&arguments.url, person().as_deref());
    match arguments.command {
        Command::Serve(options) => serve::serve(options).await,
        Command::Demo(options) => demo::demo(options).await,
        Command::Graph(command) => graphs::graph(&client, command).await,
        Command::Model(command) => models::model(&client, command).await,
        Command::Load(options) => jobs::load(&client, options).await,
        Command::Job(command) => jobs::job(&client, command).await,
        Command::Query(options) => queries::query(&client, options).await,
        Command::Plan(options) => profiles::plan(&client, options).await,
        Command::Profile(options) => profiles::profile(&client, options).await,
        Command::Run(command) => runs::run(&client, command).await,
        Command::Compare(options) => runs::compare(&client, options).await,
        Command::Baseline(command) => runs::baseline(&client, command).await,
        Command::Check(options) => runs::check(&client, options).await,
        Command::Top(options) => top::top(&client, options).await,
        Command::Neighbours(options) => neighbours::neighbours(&client, options).await,
        Command::Measure(command) => measures::measure(&client, command).await,
        Command::Procedure(command) => procedures::procedure(&client, command).await,
        Command::Fmt(options) => fmt::fmt(options),
        Command::Saved(command) => saved::saved(&client, command).await,
        Command::Notebook(command) => notebooks::notebook(&client, command).await,
        Command::Shell(options) => shell::shell(client, options).await,
        Command::Backup(options) => backups::backup(&client, options).await,
        Command::Restore(options) => backups::restore(&client, options).await,
        Command::Export(options) => export::export(&client, options).await,
        Command::Generate(options) => generate::generate(options),
    }
}
