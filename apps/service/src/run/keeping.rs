//! Profiles that are kept: those that somebody asks for, and those of slow queries.

use std::sync::Arc;

use graphodrome_store::{GraphHandle, NewRun, RunKind};
use serde_json::{Value as Json, json};

use super::{Keep, ProfileAnswer, QueryRequest, Run};
use crate::problem::Problem;
use crate::state::App;
use crate::who;
use crate::written::asked;

/// Characters of a run's name and of each tag.
const LONGEST: usize = 100;
/// Hops of each search that are kept: a search along a line has as many as nodes.
const HOPS: usize = 2000;
/// Characters of text, and bytes of parameters, that are kept without anybody having asked for it.
const SLOW_LENGTH: usize = 100_000;

/// Keeps a profile; its number.
pub(super) async fn keep(
    app: &App, graph: &GraphHandle, keep: Keep, request: &QueryRequest, answer: &ProfileAnswer,
) -> Result<i64, Problem> {
    let Keep { name, tags } = keep;
    let settings = json!({
        "rules_off": request.rules_off, "timeout_ms": request.timeout_ms,
        "max_memory_bytes": request.max_memory_bytes, "with": answer.with, "service": env!("CARGO_PKG_VERSION"),
    });
    let parameters = Json::from(request.parameters.clone());
    let run = NewRun { name, tags, ..new_run(RunKind::Profile, graph, &request.text, answer) };
    Ok(app.catalog.keep_run(NewRun { parameters, settings, ..run }).await?)
}

/// Whether a run can be called so.
pub fn check_names(name: Option<&str>, tags: &[String]) -> Result<(), Problem> {
    for text in name.into_iter().chain(tags.iter().map(String::as_str)) {
        if text.trim().is_empty() || text.chars().count() > LONGEST || text.contains(['\0', '\n', '/', ',']) {
            let text = text.escape_debug().to_string();
            let problem = Problem::bad_request(format!("{text:?} is no name for a run or a tag"));
            return Err(
                problem.hint(format!("1 to {LONGEST} characters, without a slash, a comma or a line end"))
            );
        }
    }
    if let Some(name) = name
        && name.parse::<i64>().is_ok()
    {
        let problem = Problem::bad_request(format!("a run's name is not a number, as {name} is"));
        return Err(problem.hint("its number is given to it; choose a word"));
    }
    Ok(())
}

/// Keeps the profile of a slow query, without having anybody wait for it.
pub(super) fn keep_slow(run: &Run, answer: ProfileAnswer) {
    // Literals of the text are parameters of its plan: they stand in the text.
    let own = run.parameters.iter().filter(|(name, _)| run.text.contains(&format!("${name}")));
    let parameters: serde_json::Map<String, Json> =
        own.map(|(name, value)| (name.clone(), json!({ "gql": value.literal() }))).collect();
    let mut settings = json!({ "service": env!("CARGO_PKG_VERSION") });
    let mut parameters = Json::from(parameters);
    if parameters.to_string().len() > SLOW_LENGTH {
        parameters = json!({});
        settings["parameters"] = "too long to be kept".into();
    }
    let asked = asked(&run.text);
    let text = match asked.char_indices().nth(SLOW_LENGTH) {
        Some((at, _)) => format!("{}… (it is longer)", &asked[..at]),
        None => asked.to_string(),
    };
    let new = new_run(RunKind::Slow, &run.graph, &text, &answer);
    let new = NewRun { parameters, settings, client: run.client.to_string(), ..new };
    let app: Arc<App> = run.app.clone();
    run.runtime.spawn(async move {
        if let Err(error) = app.catalog.keep_run(new).await {
            tracing::warn!(%error, "the profile of a slow query could not be kept");
        }
    });
}

fn new_run(kind: RunKind, graph: &GraphHandle, text: &str, answer: &ProfileAnswer) -> NewRun {
    let mut kept = answer.clone();
    kept.plan = kept.plan.with_fewer_hops(HOPS);
    NewRun {
        kind,
        name: None,
        tags: vec![],
        graph: graph.name.clone(),
        version: answer.version,
        statistics_version: graph.statistics_version(),
        client: who::client().to_string(),
        text: text.into(),
        parameters: json!({}),
        settings: json!({}),
        profile: serde_json::to_string(&kept).unwrap_or_default(),
        rows: answer.rows,
        execute_us: answer.execute_us,
        edges_looked: answer.edges_looked(),
    }
}
