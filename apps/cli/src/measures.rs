//! `measure list`, `measure show`, `measure run`.

use anyhow::Context;
use graphodrome_client::Client;
use graphodrome_engine::{MeasureRequest, measure as measure_named, measures};
use graphodrome_graph::Value;
use graphodrome_language::ast::ExpressionKind;
use graphodrome_language::parse_expression;

use crate::arguments::{MeasureCommand, MeasureOptions, QueryOptions, TextOptions};
use crate::{queries, table};

pub async fn measure(client: &Client, command: MeasureCommand) -> anyhow::Result<()> {
    match command {
        MeasureCommand::List { json: true } => {
            println!("{}", serde_json::to_string_pretty(&client.get("/v1/measures").await?)?);
        }
        MeasureCommand::List { json: false } => {
            let mut rows = table::plain(&["measure", "what it says", "cost"]);
            for procedure in measures().iter() {
                rows.add_row([procedure.name, procedure.about, procedure.cost]);
            }
            println!("{rows}");
        }
        MeasureCommand::Show { name, json } => show(client, &name, json).await?,
        MeasureCommand::Run(options) => run(client, *options).await?,
    }
    Ok(())
}

async fn show(client: &Client, name: &str, json: bool) -> anyhow::Result<()> {
    let procedure = measure_named(name).map_err(anyhow::Error::msg)?;
    if json {
        let all = client.get("/v1/measures").await?;
        let found = all.as_array().into_iter().flatten().find(|m| m["name"] == procedure.name);
        println!("{}", serde_json::to_string_pretty(&found)?);
        return Ok(());
    }
    println!("{}: {}\n", procedure.name, procedure.about);
    let mut arguments = table::plain(&["argument", "takes", "without it", "what it is"]);
    for a in &procedure.arguments {
        arguments.add_row([a.name, a.takes.describe(), a.usual.unwrap_or("(needed)"), a.about]);
    }
    println!("{arguments}\n");
    let mut columns = table::plain(&["column", "type", "what it is"]);
    for c in &procedure.yields {
        columns.add_row([c.name, c.gives.describe(), c.about]);
    }
    println!("{columns}\n");
    println!(
        "source: {}\ncost: {}\nin a query: CALL {}",
        procedure.source,
        procedure.cost,
        procedure.signature()
    );
    Ok(())
}

/// The value of `NAME=VALUE`: a literal of the language, otherwise the text.
fn argument(text: &str) -> anyhow::Result<(String, Value)> {
    let (name, value) = text
        .split_once('=')
        .with_context(|| format!("the argument {text} has no value: write NAME=VALUE"))?;
    let literal = parse_expression(value).ok().and_then(|e| match e.kind {
        ExpressionKind::Literal(value) => Some(value),
        _ => None,
    });
    Ok((name.into(), literal.unwrap_or_else(|| Value::text(value))))
}

async fn run(client: &Client, options: MeasureOptions) -> anyhow::Result<()> {
    let mut arguments = vec![];
    let part = [("view", &options.view), ("nodes", &options.nodes), ("edges", &options.edges)];
    for (name, given) in part {
        arguments.extend(given.as_ref().map(|text| (name.to_string(), Value::text(text.as_str()))));
    }
    for text in &options.arguments {
        arguments.push(argument(text)?);
    }
    let set = options.set.iter().map(|text| {
        let (column, property) = text
            .split_once('=')
            .with_context(|| format!("{text} names no property: write COLUMN=PROPERTY"))?;
        Ok((column.to_string(), property.to_string()))
    });
    let set = set.collect::<anyhow::Result<_>>()?;
    let top = (options.top > 0).then_some(options.top);
    let request = MeasureRequest { name: options.name, arguments, top, set };
    let text = request.query().map_err(anyhow::Error::msg)?;
    if options.text {
        println!("{text}");
        return Ok(());
    }
    let text = TextOptions {
        text: Some(text),
        file: None,
        graph: Some(options.graph),
        parameters: vec![],
        timeout: options.timeout,
        rules_off: vec![],
        at: options.at,
    };
    let query = QueryOptions { text, format: options.format, show: vec![], max_rows: None, memory_mib: None };
    queries::query(client, query).await
}
