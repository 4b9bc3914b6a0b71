//! `demo`: the service with the demo graph in it. `generate`: the tables it comes from, at any size.

use std::io::IsTerminal;
use std::path::Path;

use anyhow::Context;
use graphodrome_client::{Client, QueryRequest};
use graphodrome_service::Service;

use crate::arguments::{AddProcedure, DemoOptions};
use crate::{jobs, procedures, serve};

pub async fn demo(options: DemoOptions) -> anyhow::Result<()> {
    if std::env::var_os("RUST_LOG").is_some() {
        serve::logging(options.serve.log_json);
    }
    for needed in ["model.gql", "load.toml"] {
        let path = options.folder.join(needed);
        anyhow::ensure!(
            path.exists(),
            "{} is not there: start in the project's folder, or name it with --folder",
            path.display()
        );
    }
    // One for all of it: a signal between two of them would be heard by neither.
    let mut stop_signal = Box::pin(serve::stop_signal());
    let service = tokio::select! {
        service = Service::start(serve::config(&options.serve)) => service?,
        () = &mut stop_signal => return Ok(()),
    };
    let url = format!("http://{}", service.address()?);
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let running = tokio::spawn(service.run(Box::pin(async move {
        let _ = stopped.await;
    })));
    let client = Client::new(&url);
    let (prepared, interrupted) = tokio::select! {
        prepared = prepare(&client, &options.folder) => (prepared, false),
        () = &mut stop_signal => (Ok(()), true),
    };
    if prepared.is_ok() && !interrupted && !options.once {
        introduce(&url);
        stop_signal.await;
        eprintln!("Stopping.");
    }
    let _ = stop.send(());
    running.await??;
    prepared
}

/// The network; and, where the folder has it, the bill of parts of its pumps with a procedure that goes along it.
async fn prepare(client: &Client, folder: &Path) -> anyhow::Result<()> {
    load(client, folder).await?;
    let parts = folder.join("parts");
    if !parts.join("model.gql").exists() {
        return Ok(());
    }
    load(client, &parts).await?;
    let module = parts.join("part_quantities.wasm");
    let bytes = std::fs::read(&module).with_context(|| module.display().to_string())?;
    let new = AddProcedure { file: module, steps: None, memory_mib: None, seconds: None, graphs: vec![] };
    let added = procedures::upload(client, bytes, &new).await?;
    println!("procedure {}", added["signature"].as_str().unwrap_or_default());
    Ok(())
}

async fn load(client: &Client, folder: &Path) -> anyhow::Result<()> {
    let model = std::fs::read_to_string(folder.join("model.gql")).context("demo model")?;
    client.query(&QueryRequest { text: model, ..QueryRequest::default() }).await?;
    let job = jobs::start(client, &folder.join("load.toml"), None, false).await?;
    let job = jobs::follow(client, job).await?;
    anyhow::ensure!(
        job.state == "done",
        "the demo could not be loaded: {}",
        job.detail["error"].as_str().unwrap_or("?")
    );
    println!("{}", jobs::account_text(&job));
    Ok(())
}

fn introduce(url: &str) {
    let bold = |text: &str| {
        if std::io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none() {
            format!("\x1b[1m{text}\x1b[0m")
        } else {
            text.to_string()
        }
    };
    let option = if url == "http://127.0.0.1:8620" { String::new() } else { format!(" --url {url}") };
    println!("\nThe console is at {}", bold(url));
    println!("\nThree commands to try in another terminal (the binary is target/release/graphodrome):\n");
    println!("  graphodrome query{option} -g averley -f demo/questions/01_consumers_of_a_district.gql");
    println!("  graphodrome profile{option} -g averley -f demo/questions/06a_shortest_route_by_hops.gql");
    println!("  graphodrome shell{option} -g averley");
    println!("\nCtrl+C stops the service and its PostgreSQL.");
}
