//! Procedures of one's own: read from the store, compiled, and put where queries can call them.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use graphodrome_engine::{ExternalCall, ExternalProcedure, Stopped, Table, set_external};
use graphodrome_language::Procedure;
use graphodrome_modules::{Module, ModuleError, ModuleLimits};
use graphodrome_store::ProcedureRecord;
use parking_lot::Mutex;

use crate::problem::Problem;
use crate::state::App;

/// Modules that are compiled, by their bytes, and whose turn it is to read them from the store.
#[derive(Default)]
pub struct OwnProcedures {
    compiled: Arc<Mutex<HashMap<Vec<u8>, Module>>>,
    reading: tokio::sync::Mutex<()>,
}

/// A module with the graphs that it may be called over; `None` for all.
#[derive(Debug)]
struct Granted {
    module: Module,
    graphs: Option<Vec<String>>,
}

impl ExternalProcedure for Granted {
    fn procedure(&self) -> &Procedure {
        self.module.procedure()
    }

    fn run(&self, call: Arc<ExternalCall>) -> Result<Table, Stopped> {
        match &self.graphs {
            Some(graphs) if !graphs.iter().any(|graph| graph == call.graph_name()) => {
                let granted = if graphs.is_empty() { "no graph".into() } else { graphs.join(", ") };
                let graph = call.graph_name();
                let text = format!("it may not be called over {graph}: it is granted for {granted}");
                Err(Stopped::NoAnswer(text))
            }
            _ => self.module.run(call),
        }
    }
}

fn limits(record: &ProcedureRecord) -> ModuleLimits {
    ModuleLimits {
        steps: record.steps,
        memory_bytes: record.memory_bytes,
        time: Duration::from_millis(record.time_ms),
    }
}

impl App {
    /// A module, compiled unless it is already.
    pub async fn module(&self, bytes: Vec<u8>, limits: ModuleLimits) -> Result<Module, Problem> {
        let compiled = self.own_procedures.compiled.clone();
        let read = move || -> Result<Module, ModuleError> {
            if let Some(module) = compiled.lock().get(&bytes) {
                return Ok(module.within(limits));
            }
            let module = Module::read(&bytes, limits)?;
            compiled.lock().insert(bytes, module.clone());
            Ok(module)
        };
        tokio::task::spawn_blocking(read).await?.map_err(|e| {
            let text = format!("the module cannot be called: {e}");
            Problem::new(axum::http::StatusCode::UNPROCESSABLE_ENTITY, text)
                .hint("docs/procedures.md says what a module exports, with an example in Rust and one in C")
        })
    }

    /// Reads all that are called, and forgets the plans that were made with others. One at a time, so that what was read
    /// last is what is called.
    pub async fn read_procedures(&self) -> Result<(), Problem> {
        let _turn = self.own_procedures.reading.lock().await;
        let (mut all, mut called): (Vec<Arc<dyn ExternalProcedure>>, HashMap<_, _>) = Default::default();
        for (record, bytes) in self.catalog.procedures().await? {
            match self.module(bytes.clone(), limits(&record)).await {
                Ok(module) => {
                    called.insert(bytes, module.clone());
                    all.push(Arc::new(Granted { module, graphs: record.graphs }));
                }
                // It could be read when it was uploaded, by another release perhaps.
                Err(problem) => {
                    tracing::error!(
                        procedure = record.name,
                        error = problem.detail,
                        "a module cannot be called"
                    )
                }
            }
        }
        // Those that are called no more are let go.
        *self.own_procedures.compiled.lock() = called;
        set_external(all);
        self.forget_plans();
        Ok(())
    }
}
