//! Own procedures of the service: checked when they come, compiled once, and granted by graph.

use std::collections::HashMap;
use std::sync::Arc;

use graphodrome_engine::{ExternalProcedure, set_external};
use graphodrome_modules::{Module, ModuleError, ModuleLimits};

use crate::own_procedures::{Granted, limits};
use crate::problem::Problem;
use crate::state::App;

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
