//! User procedures: read from the store, compiled, and registered for queries.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use graphodrome_engine::{ExternalCall, ExternalProcedure, Stopped, Table};
use graphodrome_language::Procedure;
use graphodrome_modules::{Module, ModuleLimits};
use graphodrome_store::ProcedureRecord;
use parking_lot::Mutex;

/// Modules that are compiled, by their bytes, and whose turn it is to read them from the store.
#[derive(Default)]
pub struct OwnProcedures {
    pub(crate) compiled: Arc<Mutex<HashMap<Vec<u8>, Module>>>,
    pub(crate) reading: tokio::sync::Mutex<()>,
}

/// A module with the graphs that it may be called over; `None` for all.
#[derive(Debug)]
pub(crate) struct Granted {
    pub(crate) module: Module,
    pub(crate) graphs: Option<Vec<String>>,
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

pub(crate) fn limits(record: &ProcedureRecord) -> ModuleLimits {
    ModuleLimits {
        steps: record.steps,
        memory_bytes: record.memory_bytes,
        time: Duration::from_millis(record.time_ms),
    }
}
