//! A module read from its bytes, and its calls.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use graphodrome_algorithms::Stopped;
use graphodrome_engine::{ExternalCall, ExternalProcedure, Table};
use graphodrome_language::Procedure;
use wasmtime::component::{Component, HasSelf, Linker};
use wasmtime::{Config, Engine, Store, Trap, UpdateDeadline};
use wit_component::{ComponentEncoder, StringEncoding, embed_component_metadata};
use wit_parser::Resolve;

use crate::host::{self, State};
use crate::{ModuleLimits, Signature};

/// What saying its signature may use.
const OF_SIGNATURE: ModuleLimits =
    ModuleLimits { steps: 10_000_000, memory_bytes: 64 << 20, time: Duration::from_secs(2) };

/// Why bytes are no module that can be called.
#[derive(Debug, thiserror::Error)]
pub enum ModuleError {
    #[error("it is no WebAssembly module: {0}")]
    Unreadable(String),
    #[error("it does not fit the world graphodrome:procedure/procedure@0.1.0: {0}")]
    OtherWorld(String),
    #[error("it could not say its signature: {0}")]
    Silent(String),
    #[error("its signature: {0}")]
    Signature(String),
}

#[derive(Clone)]
pub struct Module {
    component: Component,
    signature: Signature,
    limits: ModuleLimits,
}

impl std::fmt::Debug for Module {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Module").field("signature", &self.signature.text).finish_non_exhaustive()
    }
}

/// The stack that a module has of its own.
const STACK_BYTES: usize = 1 << 20;
/// How often it is asked whether it may go on.
const ASK_EVERY: Duration = Duration::from_millis(5);

fn engine() -> Result<&'static (Engine, Linker<State>), ModuleError> {
    static ENGINE: OnceLock<Result<(Engine, Linker<State>), String>> = OnceLock::new();
    let made = ENGINE.get_or_init(|| {
        let mut config = Config::new();
        config.consume_fuel(true).epoch_interruption(true).max_wasm_stack(STACK_BYTES);
        let engine = Engine::new(&config).map_err(|e| format!("{e:#}"))?;
        let mut linker = Linker::new(&engine);
        host::Procedure::add_to_linker::<_, HasSelf<State>>(&mut linker, |state| state)
            .map_err(|e| format!("{e:#}"))?;
        Ok((engine, linker))
    });
    made.as_ref().map_err(|e| ModuleError::Unreadable(e.clone()))
}

/// The bytes as a component: a core module is made one of our world, unless it says itself what it is.
fn component_of(bytes: &[u8]) -> Result<Vec<u8>, ModuleError> {
    const MAGIC: &[u8] = b"\0asm";
    const CORE: &[u8] = &[1, 0, 0, 0];
    match (bytes.get(..4), bytes.get(4..8)) {
        (Some(MAGIC), Some(CORE)) => {}
        (Some(MAGIC), Some(_)) => return Ok(bytes.to_vec()),
        _ => return Err(ModuleError::Unreadable("it does not begin as one does".into())),
    }
    let mut core = bytes.to_vec();
    let other = |e: &dyn std::fmt::Display| ModuleError::OtherWorld(format!("{e:#}"));
    let says_its_world = bytes.windows(14).any(|word| word == b"component-type");
    if !says_its_world {
        let mut resolve = Resolve::default();
        let package = resolve
            .push_str("procedure.wit", include_str!("../../../docs/procedures/procedure.wit"))
            .map_err(|e| other(&e))?;
        let world = resolve.select_world(&[package], Some("procedure")).map_err(|e| other(&e))?;
        embed_component_metadata(&mut core, &resolve, world, StringEncoding::UTF8).map_err(|e| other(&e))?;
    }
    let encoder = ComponentEncoder::default().module(&core).map_err(|e| other(&e))?;
    let mut encoder = encoder.validate(false);
    encoder.encode().map_err(|e| other(&e))
}

impl Module {
    /// Reads and compiles a module, and asks it what it is.
    pub fn read(bytes: &[u8], limits: ModuleLimits) -> Result<Module, ModuleError> {
        let (engine, linker) = engine()?;
        let component = Component::from_binary(engine, &component_of(bytes)?)
            .map_err(|e| ModuleError::Unreadable(format!("{:#}", e.root_cause())))?;
        let pre = linker.instantiate_pre(&component).and_then(host::ProcedurePre::new);
        pre.map_err(|e| ModuleError::OtherWorld(format!("{e:#}")))?;
        let silent = |stopped: Stopped| match stopped {
            Stopped::NoAnswer(text) => ModuleError::Silent(text),
            Stopped::Asked => ModuleError::Silent("it was stopped".into()),
        };
        let said = call(&component, State::new(None, None, OF_SIGNATURE), |procedure, store| {
            procedure.call_signature(store).map(Ok)
        });
        let (said, _) = said.map_err(silent)?;
        let signature = Signature::read(&said).map_err(ModuleError::Signature)?;
        Ok(Module { component, signature, limits })
    }

    pub fn signature(&self) -> &Signature {
        &self.signature
    }

    pub fn limits(&self) -> ModuleLimits {
        self.limits
    }

    /// The same module within other limits.
    pub fn within(&self, limits: ModuleLimits) -> Module {
        Module { limits, ..self.clone() }
    }
}

/// Runs a function of an instance that is made for it, within limits.
fn call<T>(
    component: &Component, state: State,
    run: impl FnOnce(&host::Procedure, &mut Store<State>) -> wasmtime::Result<Result<T, String>>,
) -> Result<(T, State), Stopped> {
    let no_engine = |e: ModuleError| Stopped::NoAnswer(e.to_string());
    let (engine, linker) = engine().map_err(no_engine)?;
    let limits = state.limits();
    let mut store = Store::new(engine, state);
    store.limiter(|state| state);
    // What is copied out of its memory before a call of the host begins: one list may name the same bytes many times.
    store.set_hostcall_fuel(usize::try_from(limits.memory_bytes).unwrap_or(usize::MAX));
    store.set_epoch_deadline(1);
    let until = Instant::now() + limits.time;
    store.epoch_deadline_callback(move |mut context| {
        context.data_mut().ask()?;
        match Instant::now() > until {
            true => Err(Trap::Interrupt.into()),
            false => Ok(UpdateDeadline::Continue(1)),
        }
    });
    let done = AtomicBool::new(false);
    let (sender, ended) = std::sync::mpsc::channel::<()>();
    let result = std::thread::scope(|scope| {
        let done = &done;
        scope.spawn(move || {
            while !done.load(Ordering::Relaxed) && ended.recv_timeout(ASK_EVERY).is_err() {
                engine.increment_epoch();
            }
        });
        let result = store.set_fuel(limits.steps).and_then(|()| {
            let procedure = host::Procedure::instantiate(&mut store, component, linker)?;
            run(&procedure, &mut store)
        });
        done.store(true, Ordering::Relaxed);
        let _ = sender.send(());
        result
    });
    match result {
        Ok(Ok(value)) => Ok((value, store.into_data())),
        Ok(Err(said)) => Err(Stopped::NoAnswer(said)),
        Err(_) if store.data().is_stopped() => Err(Stopped::Asked),
        Err(error) => Err(Stopped::NoAnswer(why(&error, limits))),
    }
}

/// What ended a call, in words.
fn why(error: &wasmtime::Error, limits: ModuleLimits) -> String {
    match error.downcast_ref::<Trap>() {
        Some(Trap::OutOfFuel) => format!("it took more than {} steps", limits.steps),
        Some(Trap::Interrupt) => format!("it ran longer than {:.1} s", limits.time.as_secs_f64()),
        Some(trap) => format!("it ended with a trap: {trap}"),
        None if error.root_cause().to_string().contains("fuel allocated for hostcalls") => format!(
            "it gave more at once than the {} MiB of memory that it may hold: give long columns in pieces",
            limits.memory_bytes >> 20
        ),
        None => error.root_cause().to_string(),
    }
}

impl ExternalProcedure for Module {
    fn procedure(&self) -> &Procedure {
        &self.signature.procedure
    }

    fn run(&self, asked: Arc<ExternalCall>) -> Result<Table, Stopped> {
        let state = State::new(Some(asked), Some(self.signature.clone()), self.limits);
        let ((), state) = call(&self.component, state, |procedure, store| procedure.call_run(store))?;
        state.table()
    }
}
