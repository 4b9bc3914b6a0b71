//! User procedures: their inputs, their signature, and the registry of this process.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError, RwLock};

use graphodrome_algorithms::{Stopped, Subgraph};
use graphodrome_graph::{Dense, Element, Snapshot, Value};
use graphodrome_language::{Diagnostic, Procedure};

use crate::budget::Budget;
use crate::context::Context;
use crate::procedures::{Entry, Given, Holds, Part, Run, Table};

/// A procedure that is run by something else than this crate.
pub trait ExternalProcedure: Send + Sync + std::fmt::Debug {
    /// Its name, its own arguments and its columns. The arguments that say which part of the graph is looked at come beside
    /// its own.
    fn procedure(&self) -> &Procedure;
    /// The columns, all of one length, in the order of the procedure's.
    fn run(&self, call: Arc<ExternalCall>) -> Result<Table, Stopped>;
}

/// One call: the part of the graph, the arguments, and what it may use.
pub struct ExternalCall {
    part: Arc<Part>,
    given: Given,
    snapshot: Arc<Snapshot>,
    /// What the graph is called.
    name: Arc<str>,
    budget: Arc<Budget>,
    held: AtomicUsize,
    /// Why the budget stopped it.
    stopped_by: std::sync::Mutex<Option<Diagnostic>>,
}

impl ExternalCall {
    pub(crate) fn new(part: Arc<Part>, given: Given, context: &Context) -> Self {
        ExternalCall {
            part,
            given,
            snapshot: context.scope.snapshot.clone(),
            name: context.limits.graph.clone(),
            budget: context.budget.clone(),
            held: AtomicUsize::new(0),
            stopped_by: std::sync::Mutex::default(),
        }
    }

    pub fn graph(&self) -> &Subgraph {
        &self.part.graph
    }

    /// What the graph that it is a part of is called; empty where the caller did not say it.
    pub fn graph_name(&self) -> &str {
        &self.name
    }

    /// An argument's value, where it is given.
    pub fn value(&self, name: &str) -> Option<&Value> {
        self.given.value(name)
    }

    /// The nodes that an argument names, by the part's own numbers; an error where one is outside of it.
    pub fn nodes(&self, name: &str) -> Result<Vec<u32>, String> {
        let outside = || format!("{name} has a node that is not in the part looked at");
        self.given.nodes(name).into_iter().map(|n| self.part.number(n).ok_or_else(outside)).collect()
    }

    /// A property of every node or edge of the part, in the order of their numbers; null where one has none.
    pub fn property(&self, element: Element, name: &str) -> impl Iterator<Item = Value> + '_ {
        let (nodes, edges): (&[Dense], &[Dense]) = match element {
            Element::Node => (self.part.graph.nodes(), &[]),
            Element::Edge => (&[], self.part.graph.edges()),
        };
        let of_node = self.snapshot.node_reader(name);
        let of_edge = self.snapshot.edge_reader(name);
        let nodes = nodes.iter().map(move |node| self.snapshot.read_node(*node, &of_node));
        nodes.chain(edges.iter().map(move |edge| self.snapshot.read_edge(*edge, &of_edge)))
    }

    /// Whether it may go on; asked often.
    pub fn ask(&self) -> Result<(), Stopped> {
        self.budget.check().map_err(|why| self.stop(why))
    }

    /// Accounts for bytes; they are given back when the call ends.
    pub fn hold(&self, bytes: usize) -> Result<(), Stopped> {
        self.held.fetch_add(bytes, Ordering::Relaxed);
        self.budget.hold(bytes).map_err(|why| self.stop(why))
    }

    fn stop(&self, why: Diagnostic) -> Stopped {
        *self.stopped_by.lock().unwrap_or_else(PoisonError::into_inner) = Some(why);
        Stopped::Asked
    }

    /// Why the budget stopped it, where it did.
    pub(crate) fn stopped_by(&self) -> Option<Diagnostic> {
        self.stopped_by.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl Drop for ExternalCall {
    fn drop(&mut self) {
        self.budget.release(self.held.load(Ordering::Relaxed));
    }
}

/// Those that can be called, by name.
static KNOWN: RwLock<Vec<Arc<Entry>>> = RwLock::new(vec![]);

/// Puts these in the place of those that could be called before. Plans that were made with one keep it: whoever keeps
/// plans forgets them.
pub fn set_external(procedures: Vec<Arc<dyn ExternalProcedure>>) {
    let entry = |external: Arc<dyn ExternalProcedure>| {
        let mut procedure = external.procedure().clone();
        let part = super::registry::part_arguments().into_iter().chain([super::registry::WEIGHT]);
        procedure.arguments = part.chain(procedure.arguments).collect();
        let holds = Holds { node: 0, edge: 0 };
        Arc::new(Entry { procedure, holds, work: 10.0, run: Run::External(external) })
    };
    let mut all: Vec<Arc<Entry>> = procedures.into_iter().map(entry).collect();
    all.sort_by_key(|e| e.procedure.name);
    *KNOWN.write().unwrap_or_else(PoisonError::into_inner) = all;
}

pub(crate) fn all() -> Vec<Arc<Entry>> {
    KNOWN.read().unwrap_or_else(PoisonError::into_inner).clone()
}
