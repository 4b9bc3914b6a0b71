//! Procedures of one's own: read from the store, compiled, and put where queries can call them.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use graphodrome_engine::{ExternalProcedure, set_external};
use graphodrome_language::{Diagnostic, TokenKind, tokenize};
use graphodrome_modules::{Module, ModuleLimits};
use graphodrome_store::ProcedureRecord;
use parking_lot::RwLock;

use crate::problem::Problem;
use crate::state::App;

/// What can be called now: by name, the graphs over which; `None` for all.
#[derive(Default)]
pub struct OwnProcedures {
    granted: RwLock<BTreeMap<String, Option<Vec<String>>>>,
}

pub fn limits(record: &ProcedureRecord) -> ModuleLimits {
    ModuleLimits {
        steps: record.steps,
        memory_bytes: record.memory_bytes,
        time: Duration::from_millis(record.time_ms),
    }
}

impl App {
    /// Reads all that are called, and forgets the plans that were made with others.
    pub async fn read_procedures(&self) -> Result<(), Problem> {
        let stored = self.catalog.procedures().await?;
        let read = tokio::task::spawn_blocking(move || {
            let (mut all, mut granted): (Vec<Arc<dyn ExternalProcedure>>, _) = (vec![], BTreeMap::new());
            for (record, bytes) in stored {
                match Module::read(&bytes, limits(&record)) {
                    Ok(module) => {
                        granted.insert(record.name, record.graphs);
                        all.push(Arc::new(module));
                    }
                    // It could be read when it was uploaded, by another release perhaps.
                    Err(error) => {
                        tracing::error!(procedure = record.name, %error, "a module cannot be called")
                    }
                }
            }
            (all, granted)
        });
        let (all, granted) = read.await?;
        set_external(all);
        *self.own_procedures.granted.write() = granted;
        self.forget_plans();
        Ok(())
    }

    /// Refuses statements that call a procedure over a graph that it is not granted.
    pub fn check_granted(&self, graph: &str, text: &str) -> Result<(), Problem> {
        let granted = self.own_procedures.granted.read();
        if granted.values().all(Option::is_none) {
            return Ok(());
        }
        let (tokens, _) = tokenize(text);
        let is_call = |token: &graphodrome_language::Token| match &token.kind {
            TokenKind::Word(word) => word.eq_ignore_ascii_case("CALL"),
            _ => false,
        };
        for pair in tokens.windows(2).filter(|pair| is_call(&pair[0])) {
            let (TokenKind::Word(name) | TokenKind::Quoted(name)) = &pair[1].kind else { continue };
            let Some(Some(graphs)) = granted.get(&name.to_lowercase()) else { continue };
            if !graphs.iter().any(|known| known == graph) {
                let message = format!("the procedure {name} may not be called over {graph}");
                let error = Diagnostic::syntax(pair[1].span, message).hint(format!(
                    "it is granted for {}",
                    if graphs.is_empty() { "no graph".into() } else { graphs.join(", ") }
                ));
                return Err(Problem::from_diagnostic(error, text));
            }
        }
        Ok(())
    }
}
