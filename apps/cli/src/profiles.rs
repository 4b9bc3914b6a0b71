//! `plan` and `profile`.

use anyhow::Context;
use graphodrome_client::reports::time;
use graphodrome_client::{Client, QueryError};
use graphodrome_engine::{
    Finding, PlanTree, TextOptions, compare, folded_stacks, render_comparison, render_plan, render_profile,
    speedscope_profile,
};
use serde_json::{Value, json};

use crate::arguments::{HopsShown, PlanOptions, ProfileFormat, ProfileOptions, ShownOptions};
use crate::queries;

/// How a plan is written where nothing is said of it.
pub fn usual() -> TextOptions {
    TextOptions { width: queries::width(), ..TextOptions::default() }
}

pub fn text_options(shown: &ShownOptions) -> TextOptions {
    TextOptions { all_hops: shown.hops == HopsShown::All, verbose: shown.verbose, ..usual() }
}

/// A query's request with more fields.
fn body(request: &graphodrome_client::QueryRequest, more: Value) -> anyhow::Result<Value> {
    let mut body = serde_json::to_value(request)?;
    if let (Value::Object(body), Value::Object(more)) = (&mut body, more) {
        body.extend(more.into_iter().filter(|(_, value)| !value.is_null()));
    }
    Ok(body)
}

pub async fn plan(client: &Client, options: PlanOptions) -> anyhow::Result<()> {
    let request = queries::request(&options.text)?;
    let answer = client.call("POST", "/v1/plan", &body(&request, json!({ "with": options.with }))?).await?;
    if options.json {
        println!("{}", serde_json::to_string_pretty(&answer)?);
        return Ok(());
    }
    let text = text_options(&options.shown);
    if options.with.is_empty() {
        print!("{}", plan_text(&answer, &text)?);
        return Ok(());
    }
    let without = client.plan(&request).await?;
    let comparison = compare(&tree(&without)?, &tree(&answer)?);
    println!("As it would be with {}\n", options.with.join("; "));
    print!("{}", plan_text(&answer, &text)?);
    println!("\nBeside the plan as it is");
    print!("{}", render_comparison(&comparison, &text));
    Ok(())
}

pub async fn profile(client: &Client, options: ProfileOptions) -> anyhow::Result<()> {
    let request = queries::request(&options.text)?;
    let keep = options.keep.map(|name| {
        let name = Some(name).filter(|name| !name.is_empty());
        json!({ "name": name, "tags": options.tags })
    });
    let more = json!({
        "with": options.with, "repeat": options.repeat, "keep": keep,
        "commit": if options.commit { json!(true) } else { Value::Null },
    });
    // What it is like without comes first: it is the one that is there.
    let without = match options.with.is_empty() {
        true => None,
        false => Some(
            client.call("POST", "/v1/profile", &body(&request, json!({ "repeat": options.repeat }))?).await?,
        ),
    };
    let answer = client.call("POST", "/v1/profile", &body(&request, more)?).await?;
    let text = text_options(&options.shown);
    match if options.json { ProfileFormat::Json } else { options.format } {
        ProfileFormat::Json => println!("{}", serde_json::to_string_pretty(&answer)?),
        ProfileFormat::Folded => print!("{}", folded_stacks(&tree(&answer)?)),
        ProfileFormat::Speedscope => println!("{}", speedscope_profile(&tree(&answer)?, request.text.trim())),
        ProfileFormat::Text => {
            print!("{}", profile_text(&answer, &text)?);
            if let Some(without) = without {
                println!("\nBeside the query without {}", options.with.join("; "));
                print!("{}", render_comparison(&compare(&tree(&without)?, &tree(&answer)?), &text));
            }
            if let Some(run) = answer["run"].as_i64() {
                println!("\nKept as run {run}: graphodrome run show {run}");
            }
        }
    }
    Ok(())
}

pub fn tree(answer: &Value) -> anyhow::Result<PlanTree> {
    serde_json::from_value(answer["plan"].clone())
        .context("the service's plan cannot be read; is it another version?")
}

fn findings(answer: &Value) -> Vec<Finding> {
    serde_json::from_value(answer["findings"].clone()).unwrap_or_default()
}

fn warnings(answer: &Value) -> String {
    let list: Vec<QueryError> = serde_json::from_value(answer["warnings"].clone()).unwrap_or_default();
    list.iter().map(|w| format!("\n{}\n", w.render())).collect()
}

pub fn plan_text(answer: &Value, options: &TextOptions) -> anyhow::Result<String> {
    Ok(format!("{}{}", render_plan(&tree(answer)?, &findings(answer), options), warnings(answer)))
}

pub fn profile_text(answer: &Value, options: &TextOptions) -> anyhow::Result<String> {
    let us = |field: &str| time(answer[field].as_f64().unwrap_or(0.0));
    let mut out = String::new();
    if let Ok(error) = serde_json::from_value::<QueryError>(answer["error"].clone()) {
        out.push_str(&format!(
            "It did not come to its end; this is what it did until then.\n{}\n\n",
            error.render()
        ));
    }
    out.push_str(&format!(
        "{} row{} in {}: first row after {}; parse {}, check {}, plan {}, wait {}\n",
        answer["rows"],
        if answer["rows"] == 1 { "" } else { "s" },
        us("execute_us"),
        us("first_row_us"),
        us("parse_us"),
        us("check_us"),
        us("plan_us"),
        us("wait_us")
    ));
    if let Some(timing) = answer["timing"].as_object() {
        let us = |field: &str| time(timing[field].as_f64().unwrap_or(0.0));
        let quartile = |at: usize| time(timing["quartiles_us"][at].as_f64().unwrap_or(0.0));
        out.push_str(&format!(
            "{} runs: median {}, half of them from {} to {}, least {}, most {}; the first {}\n",
            timing["runs"],
            us("median_us"),
            quartile(0),
            quartile(1),
            us("least_us"),
            us("most_us"),
            us("first_us")
        ));
    }
    if answer["rolled_back"] == true {
        out.push_str("Nothing of it was kept: the changes were rolled back.\n");
    }
    out.push('\n');
    out.push_str(&render_profile(&tree(answer)?, &findings(answer), options));
    out.push_str(&warnings(answer));
    Ok(out)
}
