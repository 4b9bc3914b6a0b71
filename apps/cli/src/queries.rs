//! `query`, `plan`, `profile`.

use std::io::{IsTerminal, Read, Write};

use anyhow::Context;
use futures::StreamExt;
use graphodrome_client::{Client, ErrorWatch, QueryRequest};
use graphodrome_language::ast::ExpressionKind;
use graphodrome_language::statement_ranges;
use serde_json::{Map, Value, json};

use crate::arguments::{Format, QueryOptions, TextOptions};
use crate::table;

/// A parameter as JSON: a literal of the language where the text is one, otherwise the text.
pub fn parameter(text: &str) -> anyhow::Result<(String, Value)> {
    let (name, value) = text
        .split_once('=')
        .with_context(|| format!("the parameter {text} has no value: write NAME=VALUE"))?;
    let literal = graphodrome_language::parse_expression(value).is_ok_and(|e| {
        matches!(e.kind, ExpressionKind::Literal(_) | ExpressionKind::List(_) | ExpressionKind::Record(_))
    });
    let value = if literal { json!({ "gql": value }) } else { json!(value) };
    Ok((name.trim_start_matches('$').to_string(), value))
}

pub fn request(options: &TextOptions) -> anyhow::Result<QueryRequest> {
    let standard_input = || -> anyhow::Result<String> {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text)?;
        Ok(text)
    };
    let text = match (&options.text, &options.file) {
        (Some(text), _) => text.clone(),
        (None, Some(path)) if path.as_os_str() == "-" => standard_input()?,
        (None, Some(path)) => {
            std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?
        }
        (None, None) if std::io::stdin().is_terminal() => {
            anyhow::bail!("no query: give it as an argument, with -f FILE, or on standard input")
        }
        (None, None) => standard_input()?,
    };
    let mut parameters = Map::new();
    for given in &options.parameters {
        let (name, value) = parameter(given)?;
        parameters.insert(name, value);
    }
    Ok(QueryRequest {
        text,
        graph: options.graph.clone(),
        at_version: options.at.at_version,
        at_timestamp: options.at.at_timestamp.clone(),
        parameters,
        timeout_ms: options.timeout.map(|s| (s * 1e3) as u64),
        rules_off: options.rules_off.clone(),
        ..QueryRequest::default()
    })
}

pub async fn query(client: &Client, options: QueryOptions) -> anyhow::Result<()> {
    let mut request = request(&options.text)?;
    request.max_rows = options.max_rows;
    request.max_memory_bytes = options.memory_mib.map(|m| m << 20);
    let media_type = match options.format {
        Format::Table if statement_ranges(&request.text).len() > 1 => {
            return script(client, &request, &options.show).await;
        }
        Format::Table => {
            let result = client.query(&request).await?;
            print!("{}", table::result(&result, &options.show, width()));
            for warning in &result.warnings {
                eprintln!("{}", warning.render());
            }
            return Ok(());
        }
        Format::Json => "application/json",
        Format::Ndjson => "application/x-ndjson",
        Format::Csv => "text/csv",
        Format::Arrow => "application/vnd.apache.arrow.stream",
    };
    let mut out = std::io::stdout().lock();
    if options.format == Format::Arrow && out.is_terminal() {
        anyhow::bail!("Arrow is binary: send it to a file or a pipe");
    }
    let mut pieces = client.query_as(&request, media_type).await?.bytes_stream();
    let mut watch = ErrorWatch::default();
    while let Some(piece) = pieces.next().await {
        let piece = piece.context("the answer broke off")?;
        watch.see(&piece);
        out.write_all(&piece)?;
    }
    out.flush()?;
    watch.finish()?;
    Ok(())
}

/// Several statements in one session, each with its result. The first that fails ends it.
async fn script(client: &Client, whole: &QueryRequest, show: &[String]) -> anyhow::Result<()> {
    let session = client.open_session(None).await?;
    let ranges = statement_ranges(&whole.text);
    let mut outcome = Ok(());
    for (i, range) in ranges.iter().enumerate() {
        let text = &whole.text[range.clone()];
        if i > 0 {
            println!();
        }
        println!(
            "-- {} of {}: {}",
            i + 1,
            ranges.len(),
            table::fold(&text.split_whitespace().collect::<Vec<_>>().join(" "), 80)
        );
        // At its place, so that errors name the line of the file.
        let before = &whole.text[..range.start];
        let column = before.rsplit('\n').next().map_or(0, |line| line.chars().count());
        let placed = format!("{}{}{text}", "\n".repeat(before.matches('\n').count()), " ".repeat(column));
        let request = QueryRequest { text: placed, session: Some(session.clone()), ..whole.clone() };
        match client.query(&request).await {
            Ok(result) => {
                print!("{}", table::result(&result, show, width()));
                for warning in &result.warnings {
                    eprintln!("{}", warning.render());
                }
            }
            Err(error) => {
                let what = format!(
                    "statement {} of {} failed; what was committed before it stands",
                    i + 1,
                    ranges.len()
                );
                outcome = Err(anyhow::anyhow!("{error}\n{what}"));
                break;
            }
        }
    }
    // SESSION CLOSE in the text has closed it already.
    if outcome.is_ok()
        && let Ok(left) = client.get(&format!("/v1/sessions/{session}")).await
        && left["in_transaction"] == true
    {
        outcome = Err(anyhow::anyhow!(
            "the script ends within a transaction, which was rolled back\nhint: end it with COMMIT"
        ));
    }
    let _ = client.close_session(&session).await;
    outcome
}

/// Columns of the terminal; 120 where there is none.
pub fn width() -> usize {
    comfy_table::Table::new().width().map_or(120, |w| w as usize)
}
