//! `top`: what runs now, again and again.

use std::io::{IsTerminal, Write};
use std::time::Duration;

use comfy_table::CellAlignment;
use graphodrome_client::Client;
use serde_json::Value;

use crate::arguments::TopOptions;
use crate::{queries, serve, table};

pub async fn top(client: &Client, options: TopOptions) -> anyhow::Result<()> {
    if let Some(number) = options.cancel {
        client.delete(&format!("/v1/running/{number}")).await?;
        println!("{number} is told to end");
        return Ok(());
    }
    if options.json || options.once || !std::io::stdout().is_terminal() {
        let (running, jobs) = look(client).await?;
        match options.json {
            true => println!("{}", serde_json::to_string_pretty(&running)?),
            false => print!("{}", text(&running, &jobs)),
        }
        return Ok(());
    }
    anyhow::ensure!(options.every > 0.0, "--every {}: it is a number of seconds above 0", options.every);
    let mut looks = tokio::time::interval(Duration::from_secs_f64(options.every));
    let stop = serve::stop_signal();
    tokio::pin!(stop);
    loop {
        tokio::select! {
            _ = looks.tick() => {}
            () = &mut stop => return Ok(()),
        }
        let (running, jobs) = look(client).await?;
        // To the upper left corner, and nothing left below what is written.
        print!(
            "\x1b[H\x1b[J{}\nCtrl+C ends this; graphodrome top --cancel NUMBER ends a request.\n",
            text(&running, &jobs)
        );
        std::io::stdout().flush()?;
    }
}

/// What runs, and jobs that do.
async fn look(client: &Client) -> anyhow::Result<(Vec<Value>, Vec<Value>)> {
    let list = |value: Value| value.as_array().cloned().unwrap_or_default();
    let running = list(client.get("/v1/running").await?);
    let jobs = list(client.get("/v1/jobs").await?);
    Ok((running, jobs.into_iter().filter(|job| job["state"] == "running").collect()))
}

fn age(ms: u64) -> String {
    match ms {
        ms if ms < 10_000 => format!("{:.1} s", ms as f64 / 1e3),
        ms if ms < 600_000 => format!("{} s", ms / 1000),
        ms => format!("{} min", ms / 60_000),
    }
}

fn count(n: u64) -> String {
    match n {
        n if n < 10_000 => n.to_string(),
        n if n < 10_000_000 => format!("{:.1}k", n as f64 / 1e3),
        n => format!("{:.1}M", n as f64 / 1e6),
    }
}

fn mib(bytes: u64) -> String {
    format!("{:.1} MiB", bytes as f64 / (1 << 20) as f64)
}

fn text(running: &[Value], jobs: &[Value]) -> String {
    let mut out = String::new();
    if running.is_empty() {
        out.push_str("No query runs.\n");
    } else {
        let mut shown = table::plain(&[
            "number", "what", "graph", "who", "age", "phase", "at", "work", "rows", "memory", "query",
        ]);
        let room = queries::width().saturating_sub(90).max(24);
        for one in running {
            let word = |field: &str| one[field].as_str().unwrap_or_default().to_string();
            let number = |field: &str| one[field].as_u64().unwrap_or_default();
            let at = match one["hop"].as_u64() {
                Some(hop) => format!("{}, hop {hop}", word("operator")),
                None => word("operator"),
            };
            let query = word("text").split_whitespace().collect::<Vec<_>>().join(" ");
            shown.add_row(vec![
                number("id").to_string(),
                word("kind"),
                word("graph"),
                word("client"),
                age(number("age_ms")),
                word("phase"),
                at,
                count(number("work")),
                count(number("rows")),
                mib(number("memory_bytes")),
                table::fold(&query, room),
            ]);
        }
        for column in [0, 4, 7, 8, 9] {
            if let Some(column) = shown.column_mut(column) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        out.push_str(&format!("{shown}\n"));
    }
    for job in jobs {
        let word = |field: &str| job[field].as_str().unwrap_or_default().to_string();
        out.push_str(&format!(
            "job {}: {} {} on {}\n",
            job["id"],
            word("kind"),
            word("title"),
            word("graph")
        ));
    }
    out
}
