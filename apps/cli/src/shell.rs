//! `shell`: queries line by line, with history, several lines to a statement, and completion of
//! keywords, labels and properties.

use std::borrow::Cow;
use std::path::PathBuf;

use graphodrome_client::{Client, ClientError, QueryRequest, QueryResult};
use graphodrome_language::KEYWORDS;
use rustyline::completion::{Completer, Pair};
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::history::FileHistory;
use rustyline::validate::{ValidationContext, ValidationResult, Validator};
use rustyline::{Context, Editor, Helper};
use serde_json::{Map, Value};

use crate::arguments::ShellOptions;
use crate::{profiles, queries, table};

const HELP: &str = "\
A statement ends with a semicolon and may have several lines. Tab completes.
  graphs                  list the graphs
  graph NAME              query this graph from now on
  labels                  labels and their counts
  plan STATEMENT;         what a query would do
  profile STATEMENT;      run it and show what every operator did
  param NAME = VALUE      give a parameter a value;  params lists them
  show PROPERTY, ...      properties to show with elements
  START TRANSACTION;      then COMMIT; or ROLLBACK;  the prompt has a * in between
  help, quit";

struct ShellHelper {
    words: Vec<String>,
}

/// First words that are commands of the shell and not of the language.
const COMMANDS: &[&str] =
    &["graphs", "graph", "labels", "plan", "profile", "param", "params", "show", "help", "quit", "exit"];

fn first_word(line: &str) -> &str {
    line.trim_start().split(|c: char| c.is_whitespace() || c == ';').next().unwrap_or("")
}

impl Completer for ShellHelper {
    type Candidate = Pair;

    fn complete(
        &self, line: &str, position: usize, _: &Context<'_>,
    ) -> rustyline::Result<(usize, Vec<Pair>)> {
        let start = line[..position]
            .rfind(|c: char| !(c.is_alphanumeric() || c == '_'))
            .map_or(0, |i| i + line[i..].chars().next().map_or(1, char::len_utf8));
        let begun = &line[start..position];
        if begun.is_empty() {
            return Ok((start, vec![]));
        }
        let lower = begun.to_lowercase();
        let found = self.words.iter().filter(|w| w.to_lowercase().starts_with(&lower));
        Ok((start, found.map(|w| Pair { display: w.clone(), replacement: w.clone() }).collect()))
    }
}

impl Hinter for ShellHelper {
    type Hint = String;
}

impl Highlighter for ShellHelper {
    fn highlight_prompt<'b, 's: 'b, 'p: 'b>(&'s self, prompt: &'p str, _: bool) -> Cow<'b, str> {
        if std::env::var_os("NO_COLOR").is_some() {
            Cow::Borrowed(prompt)
        } else {
            Cow::Owned(format!("\x1b[1m{prompt}\x1b[0m"))
        }
    }
}

impl Validator for ShellHelper {
    fn validate(&self, context: &mut ValidationContext<'_>) -> rustyline::Result<ValidationResult> {
        let line = context.input();
        let word = first_word(line).to_lowercase();
        let needs_end = !COMMANDS.contains(&word.as_str()) || word == "plan" || word == "profile";
        let blank = line.trim().is_empty();
        Ok(if blank || !needs_end || line.trim_end().ends_with(';') {
            ValidationResult::Valid(None)
        } else {
            ValidationResult::Incomplete
        })
    }
}

impl Helper for ShellHelper {}

struct Session {
    client: Client,
    graph: Option<String>,
    parameters: Map<String, Value>,
    show: Vec<String>,
    /// The service's session: transactions and what SESSION SET sets.
    id: Option<String>,
    in_transaction: bool,
}

fn history_file() -> Option<PathBuf> {
    let folder = std::env::var_os("XDG_STATE_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".local/state")))?
        .join("graphodrome");
    std::fs::create_dir_all(&folder).ok()?;
    Some(folder.join("history"))
}

pub async fn shell(client: Client, options: ShellOptions) -> anyhow::Result<()> {
    client.ready().await?;
    let mut session = Session {
        client,
        graph: options.graph,
        parameters: Map::new(),
        show: vec![],
        id: None,
        in_transaction: false,
    };
    if let Some(graph) = session.graph.clone() {
        session.client.get(&format!("/v1/graphs/{graph}")).await?;
    } else {
        let graphs = session.client.get("/v1/graphs").await?;
        if let Some([only]) = graphs.as_array().map(Vec::as_slice) {
            session.graph = only["name"].as_str().map(str::to_string);
        }
    }
    let mut editor: Editor<ShellHelper, FileHistory> = Editor::new()?;
    editor.set_helper(Some(ShellHelper { words: session.words().await }));
    let history = history_file();
    if let Some(path) = &history {
        let _ = editor.load_history(path);
    }
    println!(
        "Graphodrome {} at {}. help lists the commands.",
        env!("CARGO_PKG_VERSION"),
        session.client.url()
    );
    loop {
        let open = if session.in_transaction { "*" } else { "" };
        let prompt = format!("{}{open}> ", session.graph.as_deref().unwrap_or("(no graph)"));
        match editor.readline(&prompt) {
            Ok(line) => {
                let line = line.trim();
                if line.is_empty() {
                    continue;
                }
                let _ = editor.add_history_entry(line);
                if matches!(first_word(line).to_lowercase().as_str(), "quit" | "exit") {
                    break;
                }
                match session.run(line).await {
                    Ok(text) => print!("{text}"),
                    Err(error) => {
                        let text = error.to_string();
                        println!(
                            "{}",
                            if text.starts_with("error") { text } else { format!("error: {text}") }
                        );
                    }
                }
                let words = session.words().await;
                if let Some(helper) = editor.helper_mut() {
                    helper.words = words;
                }
            }
            Err(ReadlineError::Interrupted) => continue,
            Err(ReadlineError::Eof) => break,
            Err(error) => return Err(error.into()),
        }
    }
    if let Some(path) = &history {
        let _ = editor.save_history(path);
    }
    if session.in_transaction {
        println!("The open transaction is rolled back.");
    }
    if let Some(id) = &session.id {
        let _ = session.client.close_session(id).await;
    }
    Ok(())
}

impl Session {
    async fn words(&self) -> Vec<String> {
        let mut words: Vec<String> = KEYWORDS.iter().map(|k| k.to_string()).collect();
        if let Some(graph) = &self.graph
            && let Ok(names) = self.client.get(&format!("/v1/graphs/{graph}/names")).await
        {
            for list in ["node_labels", "edge_labels", "node_properties", "edge_properties"] {
                words.extend(
                    names[list]
                        .as_array()
                        .into_iter()
                        .flatten()
                        .filter_map(|n| n.as_str())
                        .map(str::to_string),
                );
            }
        }
        words.dedup();
        words
    }

    fn request(&self, text: &str) -> QueryRequest {
        QueryRequest {
            text: text.to_string(),
            graph: self.graph.clone(),
            parameters: self.parameters.clone(),
            max_rows: Some(10_000),
            truncate: true,
            ..QueryRequest::default()
        }
    }

    /// Runs a statement in the shell's session, which is opened with its first one, and again where it
    /// was idle for too long.
    async fn in_session(&mut self, line: &str) -> anyhow::Result<QueryResult> {
        loop {
            let id = match &self.id {
                Some(id) => id.clone(),
                None => self.client.open_session(None).await?,
            };
            self.id = Some(id.clone());
            let request = QueryRequest { session: Some(id.clone()), ..self.request(line) };
            let outcome = self.client.query(&request).await;
            let state = self.client.get(&format!("/v1/sessions/{id}")).await;
            let was_open = std::mem::replace(&mut self.in_transaction, false);
            match &state {
                Ok(state) => {
                    self.in_transaction = state["in_transaction"] == true;
                    // SESSION SET GRAPH chooses it here too.
                    if let Some(graph) = state["graph"].as_str() {
                        self.graph = Some(graph.to_string());
                    }
                }
                Err(_) => self.id = None,
            }
            let gone = matches!(&outcome, Err(ClientError::Problem(p)) if p.detail.starts_with("there is no session"));
            if !gone {
                return Ok(outcome?);
            }
            if was_open {
                anyhow::bail!("the session was idle for too long, and its transaction was rolled back");
            }
        }
    }

    async fn run(&mut self, line: &str) -> anyhow::Result<String> {
        let word = first_word(line);
        let rest = line.trim_start()[word.len()..].trim();
        let bare = rest.trim_end_matches(';').trim();
        match word.to_lowercase().as_str() {
            "help" => Ok(format!("{HELP}\n")),
            "graphs" => {
                let graphs = self.client.get("/v1/graphs").await?;
                let mut shown = table::plain(&["graph", "nodes", "edges"]);
                for g in graphs.as_array().into_iter().flatten() {
                    shown.add_row(vec![
                        g["name"].as_str().unwrap_or("").to_string(),
                        g["nodes"].to_string(),
                        g["edges"].to_string(),
                    ]);
                }
                Ok(format!("{shown}\n"))
            }
            "graph" => {
                self.client.get(&format!("/v1/graphs/{bare}")).await?;
                self.graph = Some(bare.to_string());
                Ok(String::new())
            }
            "labels" => {
                let Some(graph) = &self.graph else {
                    anyhow::bail!("no graph is chosen: graph NAME chooses one")
                };
                let detail = self.client.get(&format!("/v1/graphs/{graph}")).await?;
                let mut shown = table::plain(&["what", "labels", "count"]);
                for (what, list) in [("node", &detail["node_labels"]), ("edge", &detail["edge_labels"])] {
                    for entry in list.as_array().into_iter().flatten() {
                        let labels: Vec<&str> = entry["labels"]
                            .as_array()
                            .into_iter()
                            .flatten()
                            .filter_map(|l| l.as_str())
                            .collect();
                        shown.add_row(vec![what.to_string(), labels.join("&"), entry["count"].to_string()]);
                    }
                }
                Ok(format!("{shown}\n"))
            }
            "plan" => profiles::plan_text(&self.client.plan(&self.request(rest)).await?, &profiles::usual()),
            "profile" => {
                profiles::profile_text(&self.client.profile(&self.request(rest)).await?, &profiles::usual())
            }
            "param" => {
                let joined: String = bare.splitn(2, '=').map(str::trim).collect::<Vec<_>>().join("=");
                let (name, value) = queries::parameter(&joined)?;
                self.parameters.insert(name, value);
                Ok(String::new())
            }
            "params" => Ok(self
                .parameters
                .iter()
                .map(|(name, value)| {
                    format!(
                        "${name} = {}\n",
                        value["gql"].as_str().map_or_else(|| value.to_string(), str::to_string)
                    )
                })
                .collect()),
            "show" => {
                self.show = bare.split(',').map(|p| p.trim().to_string()).filter(|p| !p.is_empty()).collect();
                Ok(String::new())
            }
            _ => {
                let result = self.in_session(line).await?;
                let mut text = table::result(&result, &self.show, queries::width());
                for warning in &result.warnings {
                    text.push_str(&format!("{}\n", warning.render()));
                }
                Ok(text)
            }
        }
    }
}
